"""What a source over HTTP lists, page after page, whole or not at all; pages that have not changed are not sent again."""

from __future__ import annotations

import asyncio
import hashlib
import json
import ssl
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import urljoin, urlsplit

import aiohttp

from oast import __version__
from oast.errors import StateError
from oast.estate.sources import CSV, JSON, ZONE, SourceSettings
from oast.files import write_whole
from oast.http import after_s
from oast.records import Secret

TRIES = 5
FIRST_PAUSE_S = 0.5
LONGEST_PAUSE_S = 60.0
MOST_PAGES = 20_000
LARGEST_PAGE = 64_000_000
LATER = (408, 425, 429, 500, 502, 503, 504)
SAID_AT_MOST = 160
# RFC 8259, RFC 4180, RFC 4027.
ACCEPTED = {JSON: "application/json", CSV: "text/csv", ZONE: "text/dns"}

Sleep = Callable[[float], Awaitable[None]]


@dataclass(frozen=True, slots=True)
class Page:
    """One answer: `text` as it was sent, `link` the address of the next page by its Link header (RFC 8288), if it has one."""

    url: str
    text: str
    link: str | None


class Fetching:
    """Fetches the pages of one source. What was sent before is kept in `folder`, and used when the service says that it is as it was."""

    def __init__(self, source: SourceSettings, token: Secret | None, folder: Path, sleep: Sleep = asyncio.sleep) -> None:
        self._source = source
        self._token = token
        self._folder = folder
        self._sleep = sleep
        self.unchanged = 0

    async def pages(self, following: Callable[[Page], str | None]) -> list[Page]:
        """All pages, the first to the last; `following` says where the next is. Raises StateError for whatever makes them not whole."""
        assert self._source.url is not None  # noqa: S101  # a source with a file is not fetched
        timeout = aiohttp.ClientTimeout(total=self._source.timeout_s)
        connector = aiohttp.TCPConnector(ssl=self._tls())
        url: str | None = self._source.url.geturl()
        found: list[Page] = []
        seen: set[str] = set()
        async with aiohttp.ClientSession(timeout=timeout, connector=connector, cookie_jar=aiohttp.DummyCookieJar()) as session:
            while url is not None:
                if url in seen:
                    raise self._wrong(f"it leads back to a page that was there already ({url}): its listing has no end")
                if len(seen) >= MOST_PAGES:
                    raise self._wrong(f"it has more than {MOST_PAGES} pages")
                seen.add(url)
                page = await self._page(session, url)
                found.append(page)
                next_ = following(page)
                url = None if next_ is None else self._same_place(urljoin(url, next_))
        return found

    def _tls(self) -> ssl.SSLContext:
        try:
            return ssl.create_default_context(cafile=self._source.authority)
        except (ssl.SSLError, OSError) as error:
            raise self._wrong(f"the authority {self._source.authority} cannot be used: {error.strerror or error}") from None

    def _same_place(self, url: str) -> str:
        """The next page has to be of the same service: whoever is elsewhere is not told the token."""
        own, other = self._source.url, urlsplit(url)
        if own is None or (own.scheme, own.hostname, own.port) != (other.scheme, other.hostname, other.port):
            raise self._wrong(f"its next page is elsewhere ({other.scheme}://{other.netloc}): it is not followed")
        return url

    async def _page(self, session: aiohttp.ClientSession, url: str) -> Page:
        pause = FIRST_PAUSE_S
        for attempt in range(1, TRIES + 1):
            said, after = "", None
            try:
                async with session.get(url, headers=self._headers(url), allow_redirects=False) as response:
                    if response.status in (200, 304):
                        return await self._answer(url, response)
                    said = await self._said(response)
                    if response.status not in LATER:
                        raise self._refused(response.status, said)
                    after = after_s(response.headers.get("Retry-After"), datetime.now(UTC))
            except TimeoutError:
                said = f"no answer within {self._source.timeout_s:g} s"
            except aiohttp.ClientConnectorCertificateError as error:
                raise self._wrong(f"its certificate is not accepted: {error.certificate_error}") from None
            except (aiohttp.ClientError, OSError, UnicodeDecodeError) as error:
                said = str(error) or type(error).__name__
            if attempt < TRIES:
                await self._sleep(min(after if after is not None else pause, LONGEST_PAUSE_S))
                pause *= 2
        raise self._wrong(f"it could not be read in {TRIES} tries: {said}")

    async def _answer(self, url: str, response: aiohttp.ClientResponse) -> Page:
        if response.status == 304:
            kept = self._kept(url)
            if kept is None:
                raise aiohttp.ClientPayloadError("it says that nothing has changed, though nothing is known")
            self.unchanged += 1
            return Page(url, str(kept["text"]), kept.get("link"))
        data = await response.content.read(LARGEST_PAGE + 1)
        while not response.content.at_eof() and len(data) <= LARGEST_PAGE:
            data += await response.content.read(LARGEST_PAGE + 1 - len(data))
        if len(data) > LARGEST_PAGE:
            raise self._wrong(f"a page is longer than {LARGEST_PAGE // 1_000_000} MB")
        text = data.decode(response.get_encoding() if self._source.format != JSON else "utf-8-sig")
        links = response.links
        page = Page(url, text, str(links["next"]["url"]) if "next" in links else None)
        self._keep(page, response.headers.get("ETag"), response.headers.get("Last-Modified"))
        return page

    def _headers(self, url: str) -> dict[str, str]:
        accept = ACCEPTED[self._source.format]
        headers = {"Accept": accept, "User-Agent": f"oast/{__version__}"}
        if self._token is not None:
            headers["Authorization"] = f"Bearer {self._token.reveal()}"
        kept = self._kept(url)
        for name, field in (("etag", "If-None-Match"), ("modified", "If-Modified-Since")):
            if kept is not None and kept.get(name):
                headers[field] = str(kept[name])
        return headers

    # --- what was sent before

    def _path(self, url: str) -> Path:
        return self._folder / f"{hashlib.sha256(url.encode()).hexdigest()[:32]}.json"

    def _kept(self, url: str) -> Mapping[str, Any] | None:
        try:
            kept = json.loads(self._path(url).read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return None
        return kept if isinstance(kept, dict) and kept.get("url") == url and isinstance(kept.get("text"), str) else None

    def _keep(self, page: Page, etag: str | None, modified: str | None) -> None:
        """What has no mark by which it would be known again need not be kept."""
        if not etag and not modified:
            return
        kept = {"url": page.url, "etag": etag, "modified": modified, "link": page.link, "text": page.text}
        try:
            write_whole(self._path(page.url), json.dumps(kept), mode=0o600, durable=False)
        except OSError:
            self._path(page.url).unlink(missing_ok=True)

    # --- what is wrong

    async def _said(self, response: aiohttp.ClientResponse) -> str:
        text = (await response.content.read(SAID_AT_MOST * 4)).decode(errors="replace")
        line = " ".join("".join(c if c.isprintable() else " " for c in f"HTTP {response.status} {response.reason or ''} {text}").split())
        return line[:SAID_AT_MOST]

    def _refused(self, status: int, said: str) -> StateError:
        if status in (401, 403):
            return self._wrong(f"it does not let us read: {said}", "is the token right, and has it expired?")
        if 300 <= status < 400:
            return self._wrong(f"it is elsewhere: {said}", "write the address that it is at now")
        return self._wrong(f"it refuses: {said}")

    def _wrong(self, what: str, hint: str | None = None) -> StateError:
        return StateError(f"the source '{self._source.name}': {what}", hint=hint)
