"""The bootstrap server (RFC 8572, section 7): RESTCONF over HTTPS, where every device proves by its
certificate who it is."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import json
import ssl
import time
from collections import deque
from collections.abc import Callable, Mapping
from typing import Any

from aiohttp import hdrs, web
from aiohttp.web_protocol import RequestHandler
from cryptography import x509

from oast.connect import host_key_of
from oast.errors import EstateError, StateError
from oast.estate import OnboardingSettings
from oast.json_text import strict_json
from oast.onboard import cms, conveyed_information as conveyed
from oast.onboard.keys import Keys
from oast.onboard.listener import ConnectionLimits, Listener
from oast.onboard.store import NewDevice, NewDeviceState, NewDeviceStore
from oast.onboard.trust import serial_of

ROOT = "/restconf"
MODULE = "ietf-sztp-bootstrap-server"
YANG_JSON = "application/yang-data+json"
LARGEST = 200_000
MINUTE_S = 60.0
# Between two requests on one connection, in seconds.
IDLE_S = 5.0
# There may be many refused connections: of each address, one in this many seconds is logged.
LOGGED_EVERY_S = 10.0
ADDRESSES_REMEMBERED = 1000
SAID_AT_MOST = 300
# Who does not trust what it is given does not say so either (RFC 8572, section 5.3).
NOT_HEARD = "no report since its request: it rejected its configuration (clock, voucher), or lost power"
# What a device reports (RFC 8572, section 7.3): that it has come to its end, and that it cannot.
COMPLETE = "bootstrap-complete"
ERRORS = (
    "bootstrap-error",
    "parsing-error",
    "boot-image-error",
    "boot-image-mismatch",
    "pre-script-error",
    "config-error",
    "post-script-error",
)
PROGRESS = frozenset(
    (
        COMPLETE,
        *ERRORS,
        "bootstrap-initiated",
        "parsing-initiated",
        "parsing-warning",
        "parsing-complete",
        "boot-image-initiated",
        "boot-image-warning",
        "boot-image-installed-rebooting",
        "boot-image-complete",
        "pre-script-initiated",
        "pre-script-warning",
        "pre-script-complete",
        "config-initiated",
        "config-warning",
        "config-complete",
        "post-script-initiated",
        "post-script-warning",
        "post-script-complete",
        "bootstrap-warning",
        "informational",
    )
)

OnBox = Callable[[str, str], None]


class _Refused(Exception):
    """A request that is answered with an error of RESTCONF (RFC 8040, section 7.1), and what of it is only
    for the log."""

    def __init__(self, status: int, tag: str, message: str, *, after_s: float | None = None) -> None:
        super().__init__(message)
        self.status, self.tag, self.message, self.after_s = status, tag, message, after_s


class BootstrapServer:
    """Serves what is staged. `on_box` is called with the progress of each device as text; `configured` with
    the serial number of one that is configured."""

    def __init__(
        self,
        settings: OnboardingSettings,
        keys: Keys,
        boxes: NewDeviceStore,
        on_box: OnBox,
        configured: Callable[[str], None] = lambda serial: None,
        clock: Callable[[], float] = time.monotonic,
        limits: ConnectionLimits | None = None,
    ) -> None:
        self._settings = settings
        self._keys = keys
        self._boxes = boxes
        self._on_box = on_box
        self._configured = configured
        self._clock = clock
        self._asked: dict[str, deque[float]] = {}
        self._runner: web.AppRunner | None = None
        self._listener: Listener | None = None
        self._limits = limits or ConnectionLimits(settings.connections, settings.per_address)
        self._refused_at: dict[str, float] = {}
        self._redirect = b""

    async def start(self) -> int:
        """Listen; the port. Raises StateError when that is taken, EstateError when a key or an authority
        cannot be used."""
        application = web.Application(client_max_size=LARGEST)
        application.router.add_get("/.well-known/host-meta", self._host_meta)
        application.router.add_post(f"{ROOT}/operations/{MODULE}:{{operation}}", self._operation)
        application.router.add_route("*", "/{other:.*}", self._elsewhere)
        application.on_response_prepare.append(_without_banner)
        self._runner = web.AppRunner(application, access_log=None, shutdown_timeout=5.0)
        await self._runner.setup()
        self._listener = Listener(self._handler, self._tls(), self._limits, self._not_let_in)
        try:
            port = await self._listener.start(self._settings.host, self._settings.port)
        except OSError as error:
            await self.close()
            raise StateError(
                f"cannot listen at {self._settings.host}:{self._settings.port}: {error.strerror or error}"
            ) from None
        where = conveyed.redirect_information(
            self._settings.names[0], port, cms.certificates_only([self._keys.owner])
        )
        self._redirect = cms.sign_data(where, cms.CONVEYED, self._keys.signer, self._keys.signer_key)
        return port

    async def close(self) -> None:
        """End what is being answered, and listen no more. Safe to call again."""
        if self._listener is not None:
            await self._listener.close()
            self._listener = None
        if self._runner is not None:
            await self._runner.cleanup()
            self._runner = None

    def _handler(self) -> asyncio.Protocol:
        if self._runner is None or self._runner.server is None:
            raise RuntimeError("the server was not started")
        return _Http(self._runner.server, asyncio.get_running_loop(), self._malformed)

    def _malformed(self, address: str, status: int, said: str) -> None:
        """What is no HTTP is in the log like every request."""
        self._log(
            {"peer": address, "serial": None, "request": None, "status": status, "said": said[:SAID_AT_MOST]}
        )

    def _not_let_in(self, address: str, said: str) -> None:
        """A connection that was refused or ended: in the log, of each address once in a while."""
        now = self._clock()
        if now - self._refused_at.get(address, -LOGGED_EVERY_S) < LOGGED_EVERY_S:
            return
        if len(self._refused_at) >= ADDRESSES_REMEMBERED:
            self._refused_at.clear()
        self._refused_at[address] = now
        self._log(
            {"peer": address, "serial": None, "request": None, "status": None, "said": said[:SAID_AT_MOST]}
        )

    def _log(self, entry: Mapping[str, Any]) -> None:
        try:
            self._boxes.log(entry)
        except StateError as error:
            self._on_box(str(entry["peer"]), error.message)

    def _tls(self) -> ssl.SSLContext:
        """Return a TLS context that requires a certificate of a manufacturer's authority."""
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.minimum_version = ssl.TLSVersion.TLSv1_2
        context.verify_mode = ssl.CERT_REQUIRED
        # A device's certificate is for ever (IEEE 802.1AR), and may have critical extensions of its maker's.
        try:
            context.load_cert_chain(self._keys.server_certificate, self._keys.server_key)
            context.load_verify_locations(cafile=self._settings.makers)
        except ssl.SSLError as error:
            raise EstateError(
                f"cannot use the server's key, or {self._settings.makers}: {error.reason}"
            ) from None
        except OSError as error:
            raise StateError(
                f"cannot read a key of the server, or {self._settings.makers}: {error.strerror}"
            ) from None
        return context

    # --- requests

    async def _host_meta(self, request: web.Request) -> web.Response:
        """RFC 8040, section 3.1."""
        self._log(
            {
                "peer": str(request.remote),
                "serial": None,
                "request": f"GET {request.path}"[:SAID_AT_MOST],
                "status": 200,
                "said": "",
            }
        )
        text = (
            "<XRD xmlns='http://docs.oasis-open.org/ns/xri/xrd-1.0'><Link rel='restconf'"
            f" href='{ROOT}'/></XRD>"
        )
        return web.Response(text=text, content_type="application/xrd+xml")

    async def _elsewhere(self, request: web.Request) -> web.Response:
        return await self._answered(request, self._nothing_there)

    async def _operation(self, request: web.Request) -> web.Response:
        operations = {"get-bootstrapping-data": self._data, "report-progress": self._progress}
        return await self._answered(
            request, operations.get(request.match_info["operation"], self._nothing_there)
        )

    async def _answered(
        self, request: web.Request, answer: Callable[[str, NewDevice | None, Mapping[str, Any]], web.Response]
    ) -> web.Response:
        """The answer, or the error; both are logged."""
        serial: str | None = None
        try:
            serial, certificate = _peer(request)
            self._need_patience(serial)
            body = await _input(request)
            response = self._for_its_own(serial, certificate, body, answer)
            said = ""
        except _Refused as refused:
            response, said = _error(refused), refused.message
        except StateError as error:
            response, said = (
                _error(_Refused(500, "operation-failed", "the server cannot answer now")),
                error.message,
            )
        asked = f"{request.method} {request.path}"[:SAID_AT_MOST]
        try:
            if said and serial is not None and response.status < 500:
                self._boxes.refuse(serial, said)
            self._boxes.log(
                {
                    "peer": str(request.remote),
                    "serial": serial,
                    "request": asked,
                    "status": response.status,
                    "said": said,
                }
            )
        except StateError as error:
            # Who was answered is answered, also when nothing more can be written.
            said = said or error.message
        if said:
            self._on_box(serial or str(request.remote), said)
        return response

    def _need_patience(self, serial: str) -> None:
        now, times = self._clock(), self._asked.setdefault(serial, deque())
        while times and times[0] <= now - MINUTE_S:
            times.popleft()
        if len(times) >= self._settings.per_minute:
            raise _Refused(429, "resource-denied", "too many requests", after_s=times[0] + MINUTE_S - now)
        times.append(now)

    def _for_its_own(
        self,
        serial: str,
        certificate: str,
        body: Mapping[str, Any],
        answer: Callable[[str, NewDevice | None, Mapping[str, Any]], web.Response],
    ) -> web.Response:
        box = self._boxes.one(serial)
        if box is not None and not self._boxes.is_its(serial, certificate):
            self._boxes.note(
                serial, ("a device with the same serial number and another certificate was refused")
            )
            raise _Refused(403, "access-denied", "another device has this serial number")
        return answer(serial, box, body)

    def _nothing_there(self, serial: str, box: NewDevice | None, body: Mapping[str, Any]) -> web.Response:
        raise _Refused(404, "invalid-value", "not found")

    def _data(self, serial: str, box: NewDevice | None, body: Mapping[str, Any]) -> web.Response:
        """get-bootstrapping-data (RFC 8572, section 7.2)."""
        given = self._boxes.artifacts(serial)
        if box is None or given is None:
            raise _Refused(
                404, "invalid-value", "unexpected device: nothing is staged for this serial number"
            )
        # A device that does not trust this server yet is sent what it needs to, and asks again (section 5.3).
        elsewhere = "signed-data-preferred" in body
        if box.state in (NewDeviceState.CALLED, NewDeviceState.MANAGED):
            raise _Refused(403, "access-denied", f"it is already {box.state}, and was not staged again")
        if box.state is not NewDeviceState.CONFIGURED:
            self._boxes.come_to(serial, NewDeviceState.ASKED, NOT_HEARD)
        self._on_box(
            box.name,
            "asked, and was redirected to this server" if elsewhere else "received its first configuration",
        )
        information = self._redirect if elsewhere else given.conveyed
        names = (
            ("conveyed-information", information),
            ("owner-certificate", given.owner),
            ("ownership-voucher", given.voucher),
        )
        output = {
            "reporting-level": "verbose",
            **{name: base64.b64encode(data).decode() for name, data in names},
        }
        return web.Response(text=json.dumps({f"{MODULE}:output": output}), content_type=YANG_JSON)

    def _progress(self, serial: str, box: NewDevice | None, body: Mapping[str, Any]) -> web.Response:
        """report-progress (RFC 8572, section 7.3)."""
        kind, message = body.get("progress-type"), str(body.get("message", ""))[:SAID_AT_MOST]
        if not isinstance(kind, str) or kind not in PROGRESS:
            raise _Refused(400, "invalid-value", "unknown 'progress-type'")
        if box is None:
            raise _Refused(
                404, "invalid-value", "unexpected device: nothing is staged for this serial number"
            )
        said = " ".join("".join(c if c.isprintable() else " " for c in message).split())
        if box.state in (NewDeviceState.CALLED, NewDeviceState.MANAGED):
            raise _Refused(409, "operation-failed", f"it is already {box.state}")
        if kind in ERRORS:
            self._boxes.come_to(serial, NewDeviceState.FAILED, f"{kind}: {said}" if said else str(kind))
        elif kind == COMPLETE:
            if box.state not in (NewDeviceState.ASKED, NewDeviceState.CONFIGURED):
                raise _Refused(
                    409,
                    "operation-failed",
                    "it reports that it is configured, but has not asked since it was staged",
                )
            keys = self._host_keys(serial, body)
            self._boxes.come_to(serial, NewDeviceState.CONFIGURED, None, keys)
            self._configured(serial)
        self._on_box(box.name, f"{kind}{f': {said}' if said else ''}")
        return web.Response(status=204)

    def _host_keys(self, serial: str, body: Mapping[str, Any]) -> tuple[str, ...]:
        """The host keys that a device reports: without one that can be used it is not configured. Raises
        _Refused."""
        try:
            keys = _host_keys(body)
            if not keys:
                raise _Refused(
                    400, "missing-element", "the device reported no host key, so it cannot be identified"
                )
        except _Refused as refused:
            self._boxes.note(serial, refused.message)
            raise
        return keys


class _Http(RequestHandler):
    """HTTP on one connection; what is no HTTP is logged, and answered without words that come from it."""

    __slots__ = ("_malformed",)

    def __init__(
        self, server: web.Server, loop: asyncio.AbstractEventLoop, malformed: Callable[[str, int, str], None]
    ) -> None:
        super().__init__(server, loop=loop, keepalive_timeout=IDLE_S, lingering_time=0)
        self._malformed = malformed

    def handle_error(
        self,
        request: web.BaseRequest,
        status: int = 500,
        exc: BaseException | None = None,
        message: str | None = None,
    ) -> web.StreamResponse:
        said = " ".join(
            "".join(
                c if c.isprintable() else " " for c in str(message or exc or "not an HTTP request")
            ).split()
        )
        self._malformed(str(request.remote), status, said)
        if request.writer.output_size > 0:
            raise ConnectionError("an answer was already sent")
        response = _Plain(status=status)
        response.force_close()
        return response


class _Plain(web.Response):
    """An answer without a banner, also where no application prepares it."""

    async def _prepare_headers(self) -> None:
        await super()._prepare_headers()
        self.headers.pop(hdrs.SERVER, None)


async def _without_banner(request: web.Request, response: web.StreamResponse) -> None:
    """What the server is made of is not told."""
    response.headers.pop(hdrs.SERVER, None)


def _peer(request: web.Request) -> tuple[str, str]:
    """The serial number in the certificate that was shown, and its SHA-256."""
    transport = request.transport
    secured = transport.get_extra_info("ssl_object") if transport is not None else None
    der = secured.getpeercert(binary_form=True) if secured is not None else None
    if not der:
        raise _Refused(403, "access-denied", "the device presented no certificate")
    try:
        serial = serial_of(x509.load_der_x509_certificate(der).subject)
    except ValueError:
        serial = None
    if not serial:
        raise _Refused(403, "access-denied", "its certificate contains no device serial number")
    return serial, hashlib.sha256(der).hexdigest()


async def _input(request: web.Request) -> Mapping[str, Any]:
    try:
        text = await request.text()
        body = strict_json(text)[f"{MODULE}:input"] if text else {}
    except web.HTTPRequestEntityTooLarge:
        raise _Refused(413, "too-big", "it is too long") from None
    except (ValueError, KeyError, TypeError, LookupError, RecursionError):
        raise _Refused(400, "malformed-message", f"the request has no {MODULE}:input in JSON") from None
    if not isinstance(body, dict):
        raise _Refused(400, "malformed-message", f"{MODULE}:input is not an object")
    return body


def _host_keys(body: Mapping[str, Any]) -> tuple[str, ...]:
    """The host keys that a device reports (RFC 7317, ssh-host-keys), each as `ALGORITHM BASE64`."""
    keys = body.get("ssh-host-keys")
    listed = keys.get("ssh-host-key") if isinstance(keys, dict) else []
    found = []
    for one in listed if isinstance(listed, list) else []:
        algorithm, data = (
            (one.get("algorithm"), one.get("key-data")) if isinstance(one, dict) else (None, None)
        )
        try:
            found.append(host_key_of(str(algorithm), str(data)).line)
        except ValueError as wrong:
            raise _Refused(400, "invalid-value", f"invalid host key: {wrong}") from None
    return tuple(found)


def _error(refused: _Refused) -> web.Response:
    inner = {"error-type": "application", "error-tag": refused.tag, "error-message": refused.message}
    headers = {"Retry-After": f"{max(1.0, refused.after_s):.0f}"} if refused.after_s is not None else None
    text = json.dumps({"ietf-restconf:errors": {"error": [inner]}})
    return web.Response(status=refused.status, text=text, content_type=YANG_JSON, headers=headers)
