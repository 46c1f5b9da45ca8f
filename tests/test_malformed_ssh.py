"""Whatever listens where a device should, and however malformed its SSH is: it costs its own device, and is no fault of Oast."""

from __future__ import annotations

import asyncio
import random
import struct
import unittest

from oast.connect.transport import Login, Target, connect, offered_host_key
from oast.errors import ConnectionFailed, DeviceTimeout

VERSION = b"SSH-2.0-x\r\n"


def packet(length: int, padding: int, payload: bytes) -> bytes:
    """The version, and a packet (RFC 4253, section 6) whose lengths need not be right."""
    return VERSION + struct.pack(">IB", length, padding) + payload + b"\0" * 60


def answers() -> list[bytes]:
    """What a server may send first."""
    chance = random.Random(3)
    kexinit = b"\x14" + b"\0" * 16
    made = [
        b"", b"\0" * 100_000, b"x" * 100_000 + b"\r\n", b"hello\r\n" * 5_000, b"SSH-\r\n", b"SSH-1.5-x\r\n", b"SSH-2.0-\xff\xfe\0\r\n", b"SSH-2.0-x\n",
        VERSION + b"\0" * 2000, VERSION + b"\xff" * 2000, packet(1, 0, b""), packet(12, 255, b"\x14"), packet(28, 10, kexinit),
        packet(76, 4, kexinit + struct.pack(">I", 10) + b"\xff" * 10), packet(76, 4, kexinit + b"\xff" * 54),
        packet(28, 6, b"\x01" + struct.pack(">II", 2, 9000) + b"\xff" * 20), packet(12, 6, b"\x02"), packet(12, 6, b"\x07" + b"\xff" * 30),
    ]  # fmt: skip
    for _ in range(30):
        payload = bytes(chance.choice((chance.randrange(256), 20, 1, 2, 4, 7, 0, 255)) for _ in range(2100))
        made.append(
            packet(chance.choice((12, 20, 28, 76, 100, 2000)), chance.choice((0, 4, 6, 10, 200)), payload)
        )
    return made


class MalformedTest(unittest.IsolatedAsyncioTestCase):
    async def test_every_answer_ends_in_words(self) -> None:
        async def one(answer: bytes) -> None:
            async def serve(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
                writer.write(answer)
                writer.close()

            server = await asyncio.start_server(serve, "127.0.0.1", 0)
            target = Target("pier", "127.0.0.1", server.sockets[0].getsockname()[1], ())
            try:
                for attempt in (
                    connect(target, Login("oast", None, None), 60.0),
                    offered_host_key(target, 60.0),
                ):
                    with self.assertRaises((ConnectionFailed, DeviceTimeout), msg=answer[:60]) as caught:
                        await attempt
                    self.assertIn("cannot connect to 127.0.0.1 port", caught.exception.message)
            finally:
                server.close()

        for answer in answers():
            await one(answer)


if __name__ == "__main__":
    unittest.main()
