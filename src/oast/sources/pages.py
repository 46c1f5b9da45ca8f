"""What a source over HTTP lists, page after page, whole or not at all; pages that have not changed are not
sent again."""

from __future__ import annotations

import asyncio
import hashlib
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urljoin

from oast.estate import CSV, JSON, ZONE, SourceSettings
from oast.files import write_whole
from oast.records import Secret
from oast.sources.service import Service, ServiceAnswer, Sleep

MOST_PAGES = 20_000
# RFC 8259, RFC 4180, RFC 4027.
ACCEPTED = {JSON: "application/json", CSV: "text/csv", ZONE: "text/dns"}


@dataclass(frozen=True, slots=True)
class Page:
    """One answer: `text` as it was sent, `link` the address of the next page by its Link header (RFC 8288),
    if it has one."""

    url: str
    text: str
    link: str | None


class Fetching:
    """Fetches the pages of one source. Pages are kept in `folder`, and used when the service says that they
    have not changed."""

    def __init__(
        self, source: SourceSettings, token: Secret | None, folder: Path, sleep: Sleep = asyncio.sleep
    ) -> None:
        self._source = source
        self._service = Service(source, token, sleep)
        self._folder = folder
        self.unchanged = 0

    async def pages(self, following: Callable[[Page], str | None]) -> list[Page]:
        """All pages, the first to the last; `following` says where the next is. Raises StateError for
        whatever makes them not whole."""
        assert self._source.url is not None  # noqa: S101  # a source with a file is not fetched
        url: str | None = self._source.url.geturl()
        found: list[Page] = []
        seen: set[str] = set()
        size = 0
        async with self._service:
            while url is not None:
                if url in seen:
                    raise self._service.wrong(f"its pages lead back to an earlier page ({url})")
                if len(seen) >= MOST_PAGES:
                    raise self._service.wrong(f"it has more than {MOST_PAGES} pages")
                seen.add(url)
                page = await self._page(url)
                size += len(page.text)
                if size > self._source.most_bytes:
                    what = f"its pages are longer than {self._source.most_bytes} bytes in total"
                    raise self._service.wrong(what, "allow more with 'bytes' in [sources.limits]")
                found.append(page)
                next_ = following(page)
                url = None if next_ is None else self._joined(url, next_)
        return found

    def _joined(self, url: str, following: str) -> str:
        """Return the address of the next page. Raises StateError for an invalid address, or one of another
        service."""
        try:
            joined = urljoin(url, following)
        except ValueError as wrong:
            raise self._service.wrong(
                f"the address of its next page is not a URL ({wrong}): {following[:80]!r}"
            ) from None
        self._service.need_same_place(joined, "its next page")
        return joined

    async def _page(self, url: str) -> Page:
        kept = self._kept(url)
        answer = await self._service.ask("GET", url, self._headers(kept))
        if answer.status == 304:
            if kept is None:
                raise self._service.wrong("it reports no changes, although this is the first request")
            self.unchanged += 1
            return Page(url, str(kept["text"]), kept.get("link"))
        page = Page(url, self._text(answer), answer.link)
        self._keep(page, answer.headers.get("etag"), answer.headers.get("last-modified"))
        return page

    def _text(self, answer: ServiceAnswer) -> str:
        try:
            return answer.data.decode("utf-8-sig" if self._source.format == JSON else answer.encoding)
        except (UnicodeDecodeError, LookupError) as error:
            raise self._service.wrong(f"its answer is not text: {error}") from None

    def _headers(self, kept: Mapping[str, Any] | None) -> dict[str, str]:
        headers = {"Accept": ACCEPTED[self._source.format]}
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
        return (
            kept
            if isinstance(kept, dict) and kept.get("url") == url and isinstance(kept.get("text"), str)
            else None
        )

    def _keep(self, page: Page, etag: str | None, modified: str | None) -> None:
        """What has no mark by which it would be known again need not be kept."""
        if not etag and not modified:
            return
        kept = {"url": page.url, "etag": etag, "modified": modified, "link": page.link, "text": page.text}
        try:
            write_whole(self._path(page.url), json.dumps(kept), mode=0o600, durable=False)
        except OSError:
            self._path(page.url).unlink(missing_ok=True)
