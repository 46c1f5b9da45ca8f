"""Hostile HTTP: services that answer a source with odd bytes, and clients that send them to the bootstrap server."""

from __future__ import annotations

import asyncio
import random
import ssl
import tempfile
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from urllib.parse import urlsplit

import jmespath

from oast.errors import OastError
from oast.estate.source_settings import Mapped, SourceSettings
from oast.records import Place
from oast.sources import mapping
from oast.sources.pages import Fetching

ATTRIBUTES = {name: Mapped(name, jmespath.compile(name).search) for name in ("name", "address", "platform")}
# The longest that reading a source may take here, in seconds; each of its answers has less.
AT_MOST_S = 30.0
HEADERS = (
    "Content-Length: {size}", "Content-Length: -1", "Content-Length: 99999999999999999999", "Content-Length: x", "Transfer-Encoding: chunked",
    "Content-Type: application/json; charset=utf-16", "Content-Type: text/html; charset=no-such-thing", "Content-Type: ;;;=",
    "Content-Encoding: gzip", "Content-Encoding: br", "Link: <http://[::1/ok>; rel=next", "Link: <?page=2>; rel=\"next\"", "Link: <<<>>>;;",
    "Link: <http://127.0.0.1:99999999/>; rel=next", "Location: http://192.0.2.1/", "Retry-After: 99999999999999999999", "Retry-After: \xff",
    "ETag: \"\x01\"", "X: " + "y" * 20_000, "no colon", ": empty", "Set-Cookie: a=b", "Connection: upgrade", "Connection: close",
)  # fmt: skip
BODIES = (
    "[]", "{}", "null", "[1]", "[{}]", '[{"name": 1}]', '[{"name": "a", "address": "192.0.2.1", "platform": "bine"}]', "[" * 50_000, "x", "", "\x00",
    '{"a": NaN}', '{"a": 1, "a": 2}', "[" + "1," * 50_000 + "1]", '"' + "x" * 300_000 + '"', "\ud800".encode("utf-8", "surrogatepass").decode("latin-1"),
)  # fmt: skip
STATUS = (
    "200 OK",
    "200",
    "204 No Content",
    "206 x",
    "301 x",
    "304 Not Modified",
    "401 x",
    "403 x",
    "404 x",
    "429 x",
    "500 x",
    "999 x",
    "-1 x",
    "20O OK",
)


def answer(chance: random.Random) -> bytes:
    """The bytes of one answer, right in most of its parts."""
    body = chance.choice(BODIES)
    headers = [
        chance.choice(HEADERS).format(size=len(body.encode("utf-8", "replace")))
        for _ in range(chance.randrange(4))
    ]
    head = "\r\n".join([f"HTTP/1.{chance.choice('0119')} {chance.choice(STATUS)}", *headers])
    said = f"{head}\r\n\r\n{body}".encode("utf-8", "replace")
    if chance.random() < 0.3:
        changed = bytearray(said)
        for _ in range(chance.randrange(1, 6)):
            changed[chance.randrange(len(changed))] = chance.randrange(256)
        said = bytes(changed)
    return said[: chance.randrange(len(said) + 1)] if chance.random() < 0.2 else said


async def source_session(seed: int) -> str | None:
    """What was wrong when a source was read whose service answers oddly; None when it ended in records or an error in words."""
    chance = random.Random(seed)

    async def served(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await reader.readuntil(b"\r\n\r\n")
            writer.write(answer(chance))
            await writer.drain()
            if chance.random() < 0.1:
                await asyncio.sleep(5.0)
        except (OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, asyncio.CancelledError):
            pass  # The client has ended, or the session is over.
        writer.close()

    server = await asyncio.start_server(served, "127.0.0.1", 0)
    url = urlsplit(f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/devices")
    settings = SourceSettings(
        "office", url, None, None, "json", None, None, None, None, None, None, None, None, ATTRIBUTES, 10, 0.1, 100_000, 5_000_000, 1.0,
        Place("oast.toml", 1),
    )  # fmt: skip
    try:
        with tempfile.TemporaryDirectory(prefix="oast-fuzz-") as folder:
            async with asyncio.timeout(AT_MOST_S):
                pages = await Fetching(settings, None, Path(folder), _no_pause).pages(
                    partial(mapping.next_page, settings)
                )
                mapping.map_records(settings, pages)
    except OastError as error:
        return None if error.message.isprintable() else f"source {seed}: odd words {error.message!r}"
    except TimeoutError:
        return f"source {seed}: no end within {AT_MOST_S:g} s"
    except Exception as error:
        return f"source {seed}: {type(error).__name__}: {error}"
    finally:
        server.close()
    return None


REQUESTS = (
    b"GET /.well-known/host-meta HTTP/1.1\r\nHost: localhost\r\n\r\n",
    b"POST /restconf/operations/ietf-sztp-bootstrap-server:get-bootstrapping-data HTTP/1.1\r\nHost: localhost\r\nContent-Length: 2\r\n\r\n{}",
    b"POST /restconf/operations/ietf-sztp-bootstrap-server:report-progress HTTP/1.1\r\nHost: localhost\r\nContent-Length: 70\r\n\r\n"
    b'{"ietf-sztp-bootstrap-server:input": {"progress-type": [], "message": 1}}',
    b"OPTIONS * HTTP/1.1\r\nHost: localhost\r\n\r\n",
)


async def client_session(port: int, tls: ssl.SSLContext, seed: int) -> str | None:
    """What was wrong when the bootstrap server was sent odd bytes; None when it answered or ended the connection, and told nothing."""
    chance = random.Random(seed)
    data = bytearray(chance.choice(REQUESTS))
    for _ in range(chance.randrange(8)):
        at = chance.randrange(len(data))
        if chance.random() < 0.5:
            data[at] = chance.randrange(256)
        else:
            data[at:at] = bytes(chance.randrange(256) for _ in range(chance.choice((1, 3, 300))))
    try:
        reader, writer = await asyncio.open_connection("localhost", port, ssl=tls)
        writer.write(bytes(data))
        await writer.drain()
        async with asyncio.timeout(AT_MOST_S * 2):
            said = await reader.read(65_536)
        writer.close()
    except (OSError, ssl.SSLError):
        return None
    except TimeoutError:
        return f"client {seed}: the connection stays open"
    for part in (b"Traceback", b"aiohttp", b"Python", b"Internal Server Error"):
        if part in said:
            return f"client {seed}: it was told {part.decode()}"
    return None


async def _no_pause(seconds: float) -> None:
    return


def source_sessions(seeds: Sequence[int]) -> list[str]:
    """One session after the other; what was wrong with any."""
    return [wrong for seed in seeds if (wrong := asyncio.run(source_session(seed))) is not None]
