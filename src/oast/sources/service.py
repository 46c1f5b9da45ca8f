"""An inventory service over HTTP: asked again when it has trouble, believed only when its answer is whole."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from urllib.parse import urlsplit

import aiohttp

from oast import __version__
from oast.errors import StateError
from oast.estate import SourceSettings
from oast.http_retry import retry_after_s
from oast.records import Secret

TRIES = 5
FIRST_PAUSE_S = 0.5
LONGEST_PAUSE_S = 60.0
LARGEST_ANSWER = 64_000_000
LATER = (408, 425, 429, 500, 502, 503, 504)
SAID_AT_MOST = 160

Sleep = Callable[[float], Awaitable[None]]


@dataclass(frozen=True, slots=True)
class ServiceAnswer:
    """What the service answered: the status is one of those that were expected. `link` is the address of the
    next page (RFC 8288)."""

    status: int
    data: bytes
    encoding: str
    link: str | None
    headers: Mapping[str, str]


class Service:
    """The service of one source; use as a context. `token` is sent with every request to it, and never
    elsewhere."""

    def __init__(self, source: SourceSettings, token: Secret | None, sleep: Sleep = asyncio.sleep) -> None:
        self._source = source
        self._token = token
        self._sleep = sleep
        self._session: aiohttp.ClientSession | None = None

    async def __aenter__(self) -> Service:
        connector = aiohttp.TCPConnector(ssl=self._tls())
        timeout = aiohttp.ClientTimeout(total=self._source.timeout_s)
        self._session = aiohttp.ClientSession(
            timeout=timeout, connector=connector, cookie_jar=aiohttp.DummyCookieJar()
        )
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._session is not None:
            await self._session.close()

    def _tls(self) -> ssl.SSLContext:
        try:
            return ssl.create_default_context(cafile=self._source.authority)
        except (ssl.SSLError, OSError) as error:
            raise self.wrong(
                f"cannot use the certificate authority {self._source.authority}: {error.strerror or error}"
            ) from None

    def need_same_place(self, url: str, what: str) -> None:
        """Raises StateError for an address of another service: the token is not sent there."""
        own = self._source.url
        try:
            other = urlsplit(url)
            there = (other.scheme, other.hostname, other.port)
        except ValueError as wrong:
            raise self.wrong(f"{what} has an invalid URL ({wrong}): {url[:80]!r}") from None
        if own is None or (own.scheme, own.hostname, own.port) != there:
            raise self.wrong(
                f"{what} is on another server ({other.scheme}://{other.netloc}), and was not read"
            )

    async def ask(
        self,
        method: str,
        url: str,
        headers: Mapping[str, str],
        expected: tuple[int, ...] = (200, 304),
        body: bytes | None = None,
    ) -> ServiceAnswer:
        """Return the whole answer to one request. Temporary errors of the service are waited out. Raises
        StateError when there is no answer in the end, or its status is not `expected`."""
        pause = FIRST_PAUSE_S
        for attempt in range(1, TRIES + 1):
            said, after = "", None
            try:
                async with self._request(method, url, headers, body) as response:
                    if response.status in expected:
                        return await self._whole(response)
                    said = await self._said(response)
                    if response.status not in LATER:
                        raise self._refused(response.status, said)
                    after = retry_after_s(response.headers.get("Retry-After"), datetime.now(UTC))
            except TimeoutError:
                said = f"no answer within {self._source.timeout_s:g} s"
            except aiohttp.ClientConnectorCertificateError as error:
                raise self.wrong(f"its certificate is not valid: {error.certificate_error}") from None
            except (aiohttp.ClientError, OSError, UnicodeDecodeError) as error:
                said = (
                    " ".join("".join(c if c.isprintable() else " " for c in str(error)).split())[
                        :SAID_AT_MOST
                    ]
                    or type(error).__name__
                )
            if attempt < TRIES:
                await self._sleep(min(after if after is not None else pause, LONGEST_PAUSE_S))
                pause *= 2
        raise self.wrong(
            f"{'reading' if method == 'GET' else 'writing'} failed after {TRIES} attempts: {said}"
        )

    def _request(
        self, method: str, url: str, headers: Mapping[str, str], body: bytes | None
    ) -> aiohttp.client._RequestContextManager:
        assert self._session is not None  # noqa: S101  # it is used as a context
        own = {"User-Agent": f"oast/{__version__}"}
        if self._token is not None:
            own["Authorization"] = f"Bearer {self._token.reveal()}"
        return self._session.request(
            method, url, headers={**headers, **own}, data=body, allow_redirects=False
        )

    async def _whole(self, response: aiohttp.ClientResponse) -> ServiceAnswer:
        data = b""
        while not response.content.at_eof() and len(data) <= LARGEST_ANSWER:
            data += await response.content.read(LARGEST_ANSWER + 1 - len(data))
        if len(data) > LARGEST_ANSWER:
            raise self.wrong(f"an answer is longer than {LARGEST_ANSWER // 1_000_000} MB")
        try:
            links = response.links
        except ValueError as wrong:
            raise self.wrong(f"its Link header (RFC 8288) contains an invalid URL: {wrong}") from None
        link = str(links["next"]["url"]) if "next" in links else None
        encoding = response.charset or "utf-8-sig"
        return ServiceAnswer(
            response.status,
            data,
            encoding,
            link,
            {name.lower(): value for name, value in response.headers.items()},
        )

    async def _said(self, response: aiohttp.ClientResponse) -> str:
        text = (await response.content.read(SAID_AT_MOST * 4)).decode(errors="replace")
        line = " ".join(
            "".join(
                c if c.isprintable() else " "
                for c in f"HTTP {response.status} {response.reason or ''} {text}"
            ).split()
        )
        return line[:SAID_AT_MOST]

    def _refused(self, status: int, said: str) -> StateError:
        if status in (401, 403):
            return self.wrong(f"authentication failed: {said}", "check the token, and whether it has expired")
        if 300 <= status < 400:
            return self.wrong(f"it has moved: {said}", "update its URL")
        return self.wrong(f"it refused: {said}")

    def wrong(self, what: str, hint: str | None = None) -> StateError:
        """What is wrong with the source."""
        return StateError(f"source '{self._source.name}': {what}", hint=hint)
