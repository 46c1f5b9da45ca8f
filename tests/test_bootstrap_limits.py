"""The bootstrap server under connections that are many, idle, slow or no HTTP: it answers the others, and tells nothing of itself."""

from __future__ import annotations

import asyncio
import json
import ssl
import unittest
from collections.abc import Awaitable, Callable
from typing import Any

from oast.onboard.listener import ConnectionLimits, Listener
from oast.onboard.store import NewDeviceStore
from oastsim.new_device import Box
from test_onboarding import Onboarding, rows

MALFORMED = (
    b"\r\n\r\n\r\n",
    b"GET\r\n\r\n",
    b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03" * 20 + b"\r\n\r\n",
    b"GET / HTTP/9.9\r\n\r\n",
    b"G\xffT / HTTP/1.1\r\n\r\n",
    b"GET / HTTP/1.1\r\nno colon here\r\n\r\n",
    b"GET / HTTP/1.1\r\nX: " + b"y" * 100_000 + b"\r\n\r\n",
    b"POST / HTTP/1.1\r\nContent-Length: -5\r\n\r\n",
    b"POST / HTTP/1.1\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\nhello",
    b"GET / HTTP/1.1\r\n" + b"".join(b"X-%d: y\r\n" % n for n in range(500)) + b"\r\n",
)


class Echo(asyncio.Protocol):
    """Sends back what it gets."""

    transport: asyncio.Transport

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self.transport = transport

    def data_received(self, data: bytes) -> None:
        self.transport.write(data)


class ListenerTest(Onboarding):
    """The port alone, with small limits."""

    def prepare(self) -> None:
        super().prepare()
        certificate, key = self.maker.box("LW-7000")
        self.server = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH, cafile=self.maker.authority)
        self.server.verify_mode = ssl.CERT_REQUIRED
        self.server.load_cert_chain(self.keys / "server.pem", self.keys / "server.key")
        self.client = ssl.create_default_context(cafile=self.keys / "owner.pem")
        self.client.load_cert_chain(certificate, key)
        self.refused: list[str] = []

    async def listening(self, limits: ConnectionLimits) -> tuple[Listener, int]:
        listener = Listener(
            Echo, self.server, limits, lambda address, why: self.refused.append(f"{address}: {why}")
        )
        return listener, await listener.start("127.0.0.1", 0)

    async def says(self, port: int) -> bytes:
        reader, writer = await asyncio.open_connection("localhost", port, ssl=self.client)
        writer.write(b"hello")
        said = await reader.read(100)
        writer.close()
        return said

    async def until_open(self, listener: Listener, number: int) -> None:
        while listener.number != number:
            await asyncio.sleep(0)

    def test_one_address_and_all_together_have_so_many_connections_and_get_them_back(self) -> None:
        async def work() -> None:
            for limits, why in (
                (ConnectionLimits(100, 5), "from this address (5)"),
                (ConnectionLimits(5, 100), "(5)"),
            ):
                listener, port = await self.listening(limits)
                idle = [await asyncio.open_connection("127.0.0.1", port) for _ in range(5)]
                await self.until_open(listener, 5)
                for _ in range(3):
                    reader, writer = await asyncio.open_connection("127.0.0.1", port)
                    self.assertEqual(await _rest(reader), b"")
                    writer.close()
                self.assertEqual(
                    self.refused[-3:], [f"127.0.0.1: connection refused: too many connections {why}"] * 3
                )
                idle[0][1].close()
                await self.until_open(listener, 4)
                self.assertEqual(await self.says(port), b"hello")
                for _, writer in idle:
                    writer.close()
                await self.until_open(listener, 0)
                await listener.close()

        asyncio.run(work())

    def test_a_handshake_and_a_connection_that_take_too_long_are_ended(self) -> None:
        async def work() -> None:
            listener, port = await self.listening(ConnectionLimits(handshake_s=0.05))
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            self.assertEqual(await _rest(reader), b"")
            writer.close()
            await self.until_open(listener, 0)
            self.assertIn("TLS handshake", self.refused[-1])
            await listener.close()
            listener, port = await self.listening(ConnectionLimits(connection_s=0.5))
            reader, writer = await asyncio.open_connection("localhost", port, ssl=self.client)
            self.assertEqual(await _rest(reader), b"")
            writer.close()
            await self.until_open(listener, 0)
            self.assertIn("the connection was closed after 0.5 s", self.refused[-1])
            await listener.close()

        asyncio.run(work())

    def test_whoever_has_no_certificate_or_speaks_no_tls_is_counted_out_again(self) -> None:
        async def work() -> None:
            listener, port = await self.listening(ConnectionLimits(10, 10))
            bare = ssl.create_default_context(cafile=self.keys / "owner.pem")
            for number in range(30):
                if number % 2:
                    reader, writer = await asyncio.open_connection("127.0.0.1", port)
                    writer.write(b"GET / HTTP/1.1\r\n\r\n")
                    await _rest(reader)
                else:
                    try:
                        reader, writer = await asyncio.open_connection("localhost", port, ssl=bare)
                        await _rest(reader)
                    except (OSError, ssl.SSLError):
                        continue
                writer.close()
                await self.until_open(listener, 0)
            self.assertEqual(await self.says(port), b"hello")
            await listener.close()
            self.assertEqual(listener.number, 0)

        asyncio.run(work())


class ServerTest(Onboarding):
    """The real server."""

    def test_a_box_gets_its_configuration_beside_connections_that_do_nothing(self) -> None:
        self.edit("oast.toml", 'first = ["first"]\n', 'first = ["first"]\nconnections_per_address = 20\n')
        self.vouch("LW-7000")
        self.stage(rows(1))
        box = Box(self.factory("LW-7000"))

        async def come(port: int) -> list[bytes]:
            idle = [await asyncio.open_connection("127.0.0.1", port) for _ in range(12)]
            tls = ssl.create_default_context(cafile=self.keys / "owner.pem")
            tls.load_cert_chain(*self.maker.box("LW-7000"))
            # A body that never comes.
            slow = await asyncio.open_connection("localhost", port, ssl=tls)
            slow[1].write(
                b"POST /restconf/operations/x HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000\r\n\r\n{"
            )
            answers = []
            for malformed in MALFORMED:
                reader, writer = await asyncio.open_connection("localhost", port, ssl=tls)
                writer.write(malformed)
                writer.write_eof() if writer.can_write_eof() else None
                answers.append(await _rest(reader, 100_000))
                writer.close()
            reader, writer = await asyncio.open_connection("localhost", port, ssl=tls)
            writer.write(b"GET /.well-known/host-meta HTTP/1.1\r\nHost: localhost\r\n\r\n")
            answers.append(await _rest(reader, 100_000))
            writer.write(b"GET /nothing HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
            answers.append(await _rest(reader, 100_000))
            self.assertEqual(await self.come([box], port), [True])
            for _, writer in [*idle, slow]:
                writer.close()
            return answers

        answers = self.with_server(come)
        for answer in answers:
            self.assertNotIn(b"server:", answer.lower())
            self.assertNotIn(b"aiohttp", answer.lower())
            self.assertNotIn(b"Traceback", answer)
        self.assertIn(b"404", answers[-1])
        log: list[dict[str, Any]] = [
            json.loads(line)
            for line in (self.estate / ".oast/onboarding/requests.jsonl").read_text().splitlines()
        ]
        malformed = [entry for entry in log if entry["status"] == 400 and entry["request"] is None]
        self.assertGreaterEqual(len(malformed), len(MALFORMED) - 3, [entry["said"] for entry in log])
        self.assertLessEqual(
            {"GET /nothing", "GET /.well-known/host-meta"}, {entry["request"] for entry in log}
        )
        self.assertTrue(all(entry["said"].isprintable() for entry in log))

    def test_the_log_of_requests_is_kept_in_so_many_files_of_so_many_bytes(self) -> None:
        boxes = self.enterContext(NewDeviceStore(self.estate / ".oast"))
        for number in range(2600):
            boxes.log({"request": f"{number:05}" + "x" * 10_000})
        files = sorted(path.name for path in (self.estate / ".oast" / "onboarding").glob("requests.jsonl*"))
        self.assertEqual(
            files, ["requests.jsonl", "requests.jsonl.1", "requests.jsonl.2", "requests.jsonl.3"]
        )
        for name in files:
            path = self.estate / ".oast" / "onboarding" / name
            self.assertLess(path.stat().st_size, 5_100_000)
            self.assertEqual(path.stat().st_mode & 0o077, 0)
        self.assertIn(
            '"02599', (self.estate / ".oast/onboarding/requests.jsonl").read_text().splitlines()[-1]
        )


def served_by_the_server(work: Callable[[int, ssl.SSLContext], Awaitable[list[str]]]) -> list[str]:
    """What `work` gives while the real server listens: its port, and the context of a device that a manufacturer has made."""
    test = ServerTest("test_a_box_gets_its_configuration_beside_connections_that_do_nothing")
    test.setUp()
    try:
        tls = ssl.create_default_context(cafile=test.keys / "owner.pem")
        tls.load_cert_chain(*test.maker.box("LW-7000"))
        found: list[str] = test.with_server(lambda port: work(port, tls))
        return found
    finally:
        test.doCleanups()


async def _rest(reader: asyncio.StreamReader, most: int = 100) -> bytes:
    """What still comes; nothing where the connection is cut."""
    try:
        return await reader.read(most)
    except (OSError, ssl.SSLError):
        return b""


if __name__ == "__main__":
    unittest.main()
