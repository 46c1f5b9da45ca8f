"""Inventory services that answer with too much, or with what means two things: each is an error of that source, in words."""

from __future__ import annotations

import asyncio
import tempfile
import unittest
from functools import partial
from pathlib import Path
from urllib.parse import urlsplit

import jmespath

from oast.errors import StateError
from oast.estate.source_settings import Mapped, SourceSettings
from oast.json_text import strict_json
from oast.onboard.cms import SignatureError
from oast.onboard.vouchers import _voucher
from oast.records import Place
from oast.sources import mapping
from oast.sources.pages import Fetching

ATTRIBUTES = {name: Mapped(name, jmespath.compile(name).search) for name in ("name", "address", "platform")}
RECORD = '{"name": "edge-%d", "address": "192.0.2.1", "platform": "bine"}'


def source(
    port: int,
    following: str | None = None,
    records: str | None = None,
    most: tuple[int, int] = (1000, 1_000_000),
) -> SourceSettings:
    url = urlsplit(f"http://127.0.0.1:{port}/devices")
    return SourceSettings(
        "office", url, None, None, "json", None, None, None, records, following, None, None, None, ATTRIBUTES, 10, 0.1, *most, 5.0,
        Place("oast.toml", 1),
    )  # fmt: skip


class AnsweringTest(unittest.TestCase):
    """A service that gives an answer of its own to each request."""

    def read(
        self,
        answers: list[tuple[str, str]],
        following: str | None = None,
        records: str | None = None,
        most: tuple[int, int] = (1000, 1_000_000),
    ) -> mapping.MappingResult:
        """What is read of a service whose answers have these headers and bodies, one after the other."""
        left = list(answers)

        async def served(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await reader.readuntil(b"\r\n\r\n")
            headers, body = left.pop(0) if len(left) > 1 else left[0]
            head = f"HTTP/1.1 200 OK\r\nContent-Length: {len(body.encode())}\r\nConnection: close\r\n{headers}\r\n"
            writer.write(head.encode("latin-1") + body.encode())
            await writer.drain()
            writer.close()

        async def work() -> mapping.MappingResult:
            server = await asyncio.start_server(served, "127.0.0.1", 0)
            async with server:
                port = server.sockets[0].getsockname()[1]
                settings = source(port, following, records, most)
                with tempfile.TemporaryDirectory(prefix="oast-test-") as folder:
                    pages = await Fetching(settings, None, Path(folder), _no_pause).pages(
                        partial(mapping.next_page, settings)
                    )
                return mapping.map_records(settings, pages)

        return asyncio.run(work())

    def test_an_address_of_a_next_page_that_is_none_is_told(self) -> None:
        for address in (
            "http://[::1/ok",
            "http://127.0.0.1:99999999/",
            "http://127.0.0.1:-1/",
            "http://127.0.0.1:x/",
            "//[",
            "http://[v9.a]:1/",
        ):
            with (
                self.subTest(address=address, by="Link"),
                self.assertRaisesRegex(StateError, "source 'office': .*(URL|on another server)"),
            ):
                self.read([(f'Link: <{address}>; rel="next"\r\n', "[]")])
            with (
                self.subTest(address=address, by="JSON"),
                self.assertRaisesRegex(StateError, "source 'office': .*(URL|on another server)"),
            ):
                self.read(
                    [("", f'{{"next": "{address}", "devices": []}}')], following="next", records="devices"
                )

    def test_a_next_page_of_another_service_is_not_asked(self) -> None:
        with self.assertRaisesRegex(StateError, "its next page is on another server"):
            self.read([('Link: <http://192.0.2.1/devices>; rel="next"\r\n', "[]")])

    def test_all_pages_together_have_a_limit(self) -> None:
        page = "[" + ", ".join(RECORD % n for n in range(20)) + "]"
        endless = [(f'Link: </devices?page={n}>; rel="next"\r\n', page) for n in range(100)]
        with self.assertRaisesRegex(StateError, r"its pages are longer than 5000 bytes"):
            self.read(endless, most=(1_000_000, 5000))
        three = [*endless[:2], ("", page)]
        with self.assertRaisesRegex(StateError, r"it has more than 50 records"):
            self.read(three, most=(50, 1_000_000))
        self.assertEqual(len(self.read([("", page)], most=(50, 5000)).devices), 20)

    def test_json_that_means_two_things_or_nothing_is_refused(self) -> None:
        for text, why in (
            ('[{"name": "a", "name": "b"}]', "'name' in an object"),
            ('[{"x": {"y": 1, "y": 1}}]', "'y' in an object"),
            ('[{"name": NaN}]', "NaN is not a JSON number"),
            ('[{"name": Infinity}]', "Infinity is not a JSON number"),
            ('[{"name": -Infinity}]', "-Infinity is not a JSON number"),
            ('[{"name": 1e999}]', "the number 1e999 is too large"),
            ("[" * 100_000, "nested too deep"),
            ("[" + "9" * 10_000 + "]", "integer string conversion"),
        ):
            with self.subTest(text=text[:40]):
                with self.assertRaisesRegex(StateError, "its answer is not JSON"):
                    self.read([("", text)])
                with self.assertRaisesRegex(ValueError, why):
                    strict_json(text)

    def test_a_voucher_that_says_something_twice_proves_nothing(self) -> None:
        with self.assertRaises(SignatureError):
            _voucher(b'{"ietf-voucher:voucher": {"serial-number": "a", "serial-number": "b"}}')


async def _no_pause(seconds: float) -> None:
    return


if __name__ == "__main__":
    unittest.main()
