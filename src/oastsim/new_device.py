"""A new device (RFC 8572, section 5): it asks a bootstrap server, and accepts nothing that is not proved.

`python -m oastsim.new_device STATE MAKER SERIAL --server HOST:PORT` runs one; once configured, it becomes a
device of the network that runs with STATE.
"""

from __future__ import annotations

import argparse
import asyncio
import base64
import json
import ssl
import sys
from collections.abc import Callable, Mapping, Sequence
from contextlib import AsyncExitStack
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import aiohttp
import asyncssh
import dns.asyncresolver
import dns.exception
from asn1crypto import cms, core, x509 as asn1
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding

from oastsim.manufacturer import Manufacturer

VOUCHER, CONVEYED = "1.2.840.113549.1.9.16.1.40", "1.2.840.113549.1.9.16.1.43"
OPERATIONS = "/restconf/operations/ietf-sztp-bootstrap-server"
MODULE = "ietf-sztp-bootstrap-server"
INFORMATION = "ietf-sztp-conveyed-info"
MOST_REDIRECTS = 3
TIMEOUT_S = 60.0
SERVICE, NAMES_S = "_sztp._tcp", 5.0
PORTS = ("manage0", "port1", "port2", "port3", "port4")


class Refused(Exception):
    """What the box was given is not proved, or not for it."""


@dataclass(frozen=True)
class Factory:
    """What a box has from its maker: its serial number, its certificate and key, and who may say
    whose it is."""

    serial: str
    certificate: Path
    key: Path
    voucher_authority: Path


@dataclass
class Box:
    """One new device. `clock` returns the time that it believes; with a power cut `until` some step it stops
    there. A `controlled` one starts under a controller, where it can take no configuration: it restarts to
    run alone, and begins again."""

    factory: Factory
    clock: Callable[[], datetime] = lambda: datetime.now(UTC)
    until: str | None = None
    controlled: bool = False
    configuration: str | None = None
    host_key: asyncssh.SSHKey = field(default_factory=lambda: asyncssh.generate_private_key("ssh-ed25519"))
    happened: list[str] = field(default_factory=list)

    async def find_its_way(self, host: str, port: int) -> bool:
        """Ask the bootstrap server there; whether the box is configured afterwards. What it came to is in
        `happened`."""
        while True:
            try:
                async with AsyncExitStack() as stack:
                    return await self._find(host, port, stack)
            except _Restart:
                self.controlled = False

    async def _find(self, host: str, port: int, stack: AsyncExitStack) -> bool:
        anchors: Sequence[x509.Certificate] = ()
        server: _Server | None = None
        try:
            for _ in range(MOST_REDIRECTS):
                server = _Server(host, port, anchors, self.factory)
                stack.push_async_callback(server.close)
                given = await server.ask(
                    "get-bootstrapping-data", {} if server.trusted else {"signed-data-preferred": [None]}
                )
                self._step("asked")
                kind, information = self._proved(given["output"], trusted=server.trusted)
                if kind == "redirect-information":
                    [one, *_] = information["bootstrap-server"]
                    host, port = one["address"], int(one["port"])
                    anchors = _certificates(base64.b64decode(one["trust-anchor"]))
                    self._step("redirected")
                    continue
                await self._take(information, server)
                return True
            raise Refused("it is sent from one server to the next")
        except _PowerCut:
            self.happened.append("power cut")
        except Refused as refused:
            self.happened.append(f"refused: {refused}")
            if server is not None and server.trusted:
                await self._report(server, "bootstrap-error", str(refused))
        except (aiohttp.ClientError, OSError, ValueError, KeyError, TypeError) as error:
            self.happened.append(f"failed: {str(error) or type(error).__name__}")
        return False

    def _step(self, name: str) -> None:
        self.happened.append(name)
        if name == self.until:
            raise _PowerCut

    async def _take(self, information: Mapping[str, Any], server: _Server) -> None:
        text = base64.b64decode(information["configuration"]).decode()
        if self.controlled:
            await self._report(server, "informational", "restarting to stand alone")
            self._step("restarting")
            raise _Restart
        await self._report(server, "config-initiated")
        self._step("taking")
        self.configuration = text
        algorithm, data = self.host_key.export_public_key().decode().split()[:2]
        self._step("taken")
        await self._report(
            server,
            "bootstrap-complete",
            host_keys={"ssh-host-key": [{"algorithm": algorithm, "key-data": data}]},
        )
        self._step("complete")

    async def _report(
        self, server: _Server, kind: str, message: str = "", host_keys: Mapping[str, Any] | None = None
    ) -> None:
        """Report progress to a trusted server, and to no other (RFC 8572, section 5.6)."""
        if server.trusted:
            more: dict[str, Any] = {"message": message} if message else {}
            more |= {"ssh-host-keys": host_keys} if host_keys is not None else {}
            await server.ask("report-progress", {"progress-type": kind, **more})

    # --- what is proved (RFC 8572, sections 5.4 and 5.5)

    def _proved(self, output: Mapping[str, Any], *, trusted: bool) -> tuple[str, Mapping[str, Any]]:
        """The kind of information and the information. Raises Refused."""
        try:
            return self._looked_at(output, trusted=trusted)
        except (ValueError, KeyError, TypeError) as error:
            raise Refused(f"it cannot be read ({type(error).__name__})") from None

    def _looked_at(self, output: Mapping[str, Any], *, trusted: bool) -> tuple[str, Mapping[str, Any]]:
        parts = [
            base64.b64decode(output[name])
            for name in ("ownership-voucher", "owner-certificate", "conveyed-information")
        ]
        pinned = self._pinned(parts[0])
        chain = _certificates(parts[1])
        if not chain:
            raise Refused("the owner has no certificate")
        for one in chain:
            self._need_lead(
                one,
                [*chain, pinned],
                [pinned],
                "the owner's certificate does not lead to the one that the voucher pins",
            )
        content, _ = _signed_by(parts[2], CONVEYED, chain)
        data = json.loads(content)
        [(name, information)] = data.items()
        module, _, kind = name.partition(":")
        if module != INFORMATION or not isinstance(information, dict):
            raise Refused("this is no conveyed information")
        if kind == "onboarding-information" and not trusted:
            raise Refused("the server is not trusted, and this is no place to report to")
        return kind, information

    def _pinned(self, message: bytes) -> x509.Certificate:
        [authority] = x509.load_pem_x509_certificates(self.factory.voucher_authority.read_bytes())
        content, _ = _signed_by(message, VOUCHER, [authority])
        voucher = json.loads(content)["ietf-voucher:voucher"]
        now = self.clock()
        if voucher["serial-number"] != self.factory.serial:
            raise Refused(f"the voucher is for {voucher['serial-number']}")
        if datetime.fromisoformat(voucher["created-on"]) > now:
            raise Refused(f"the voucher is from the future, or the clock is wrong ({now:%Y})")
        if "expires-on" in voucher and datetime.fromisoformat(voucher["expires-on"]) <= now:
            raise Refused("the voucher has expired")
        return x509.load_der_x509_certificate(base64.b64decode(voucher["pinned-domain-cert"], validate=True))

    def _need_lead(
        self,
        one: x509.Certificate,
        others: Sequence[x509.Certificate],
        anchors: Sequence[x509.Certificate],
        why: str,
    ) -> None:
        now = self.clock()
        for _ in range(len(others) + 1):
            if not one.not_valid_before_utc <= now <= one.not_valid_after_utc:
                raise Refused(f"a certificate is not valid now ({now:%Y})")
            if one in anchors:
                return
            issuer = next((other for other in others if other.subject == one.issuer and other != one), None)
            if issuer is None:
                raise Refused(why)
            try:
                one.verify_directly_issued_by(issuer)
            except (InvalidSignature, ValueError, TypeError):
                raise Refused(why) from None
            one = issuer
        raise Refused(why)


class _Restart(Exception):
    """Begin again."""


class _PowerCut(Exception):
    """Nothing more happens."""


class _Server:
    """A bootstrap server; trusted when its certificate leads to an anchor, which the connection makes sure
    of."""

    def __init__(self, host: str, port: int, anchors: Sequence[x509.Certificate], factory: Factory) -> None:
        self._url = f"https://{host}:{port}{OPERATIONS}"
        self.trusted = bool(anchors)
        # No other authority is trusted: a new device knows none.
        self._tls = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        if anchors:
            self._tls.load_verify_locations(
                cadata="".join(one.public_bytes(Encoding.PEM).decode() for one in anchors)
            )
        else:
            self._tls.check_hostname, self._tls.verify_mode = False, ssl.CERT_NONE
        self._tls.load_cert_chain(factory.certificate, factory.key)
        self._session: aiohttp.ClientSession | None = None

    async def close(self) -> None:
        if self._session is not None:
            await self._session.close()

    async def ask(self, operation: str, given: Mapping[str, Any]) -> Mapping[str, Any]:
        """The answer. Raises Refused for an error that the server tells, aiohttp.ClientError."""
        if self._session is None:
            timeout = aiohttp.ClientTimeout(total=TIMEOUT_S)
            self._session = aiohttp.ClientSession(
                timeout=timeout, connector=aiohttp.TCPConnector(ssl=self._tls)
            )
        body = json.dumps({f"{MODULE}:input": dict(given)})
        headers = {"Content-Type": "application/yang-data+json", "Accept": "application/yang-data+json"}
        for pause_s in (1.0, 2.0, 4.0, None):
            async with self._session.post(f"{self._url}:{operation}", data=body, headers=headers) as response:
                text = await response.text()
                if response.status == 204:
                    return {}
                data = json.loads(text)
                if response.status == 200:
                    return {name.partition(":")[2]: value for name, value in data.items()}
                if response.status != 429 or pause_s is None:
                    raise Refused(
                        f"the server says: {data['ietf-restconf:errors']['error'][0]['error-message']}"
                    )
            await asyncio.sleep(pause_s)
        raise AssertionError


def _certificates(message: bytes) -> list[x509.Certificate]:
    """Those of signed data without a signature, in the one form that there is for them. Raises Refused."""
    try:
        given = [one.chosen for one in cms.ContentInfo.load(message, strict=True)["content"]["certificates"]]
        found = [x509.load_der_x509_certificate(one.dump()) for one in given]
        plain = {
            "version": "v1",
            "digest_algorithms": [],
            "encap_content_info": {"content_type": "data"},
            "signer_infos": [],
        }
        whole = (
            cms.ContentInfo(
                {"content_type": "signed_data", "content": {**plain, "certificates": given}}
            ).dump()
            == message
        )
    except Exception as error:  # untrusted input may raise anything
        raise Refused(f"certificates cannot be read ({type(error).__name__})") from None
    if not whole:
        raise Refused("there is more than certificates in it")
    return found


def _signed_by(
    message: bytes, kind: str, known: Sequence[x509.Certificate]
) -> tuple[bytes, x509.Certificate]:
    """The content of signed data, and which of the `known` has signed it (ECDSA with SHA-256). Raises
    Refused."""
    try:
        info = cms.ContentInfo.load(message, strict=True)
        data = info["content"]
        [signer] = data["signer_infos"]
        content = data["encap_content_info"]["content"].native
        values = {one["type"].dotted: one["values"][0] for one in signer["signed_attrs"]}
        digest = hashes.Hash(hashes.SHA256())
        digest.update(content)
        whole = (
            data["encap_content_info"]["content_type"].dotted == kind
            and isinstance(values["1.2.840.113549.1.9.3"], core.ObjectIdentifier)
            and values["1.2.840.113549.1.9.3"].dotted == kind
            and values["1.2.840.113549.1.9.4"].native == digest.finalize()
        )
        number, text = (
            signer["sid"].chosen["serial_number"].native,
            b"\x31" + signer["signed_attrs"].dump()[1:],
        )
        own = next((one for one in known if one.serial_number == number), None)
        key = own.public_key() if own is not None else None
        given = [one.chosen.dump() for one in data["certificates"]]
        if (
            own is None
            or not whole
            or not isinstance(key, ec.EllipticCurvePublicKey)
            or given != [own.public_bytes(Encoding.DER)]
        ):
            raise Refused("it is not signed by anybody who may")
        if _rebuilt(own, kind, content, signer) != message:
            raise Refused("there is more in it than was signed")
        key.verify(signer["signature"].native, text, ec.ECDSA(hashes.SHA256()))
    except InvalidSignature:
        raise Refused("a signature does not fit") from None
    except Refused:
        raise
    except Exception as error:  # untrusted input may raise anything
        raise Refused(f"it cannot be read ({type(error).__name__})") from None
    return content, own


def _rebuilt(own: x509.Certificate, kind: str, content: bytes, signer: cms.SignerInfo) -> bytes:
    """The one form that a message has whose signature is that of `signer`."""
    certificate = asn1.Certificate.load(own.public_bytes(Encoding.DER))
    who = {"issuer": certificate.issuer, "serial_number": certificate.serial_number}
    sha256 = {"algorithm": "sha256"}
    anew = {
        "version": "v1",
        "sid": cms.SignerIdentifier("issuer_and_serial_number", who),
        "digest_algorithm": sha256,
        "signed_attrs": signer["signed_attrs"],
        "signature_algorithm": {"algorithm": "sha256_ecdsa"},
        "signature": signer["signature"].native,
    }
    inner = {"content_type": kind, "content": core.ParsableOctetString(content)}
    data = {
        "version": "v3",
        "digest_algorithms": [sha256],
        "encap_content_info": inner,
        "certificates": [certificate],
        "signer_infos": [anew],
    }
    made: bytes = cms.ContentInfo({"content_type": "signed_data", "content": data}).dump()
    return made


async def found_by_name(domain: str, names: tuple[str, int]) -> tuple[str, int]:
    """The bootstrap server that the network's names tell (RFC 8572, section 4.2; RFC 2782).
    Raises Refused."""
    resolver = dns.asyncresolver.Resolver(configure=False)
    resolver.nameservers, resolver.port, resolver.lifetime = [names[0]], names[1], NAMES_S
    try:
        answer = await resolver.resolve(f"{SERVICE}.{domain}", "SRV")
    except dns.exception.DNSException as wrong:
        raise Refused(f"no name leads to a bootstrap server: {wrong}") from None
    first = min(answer, key=lambda one: (one.priority, -one.weight))
    return first.target.to_text(omit_final_dot=True), int(first.port)


async def plug_in(
    state: Path, box: Box, system: str, at: Sequence[str], call_home: tuple[str, int] | None
) -> None:
    """Make a configured box a device of the running network, its port1, port2 … plugged in `at` DEVICE:PORT.
    Raises Refused."""
    cables = [[f"port{number}", *place.split(":", 1)] for number, place in enumerate(at, 1)]
    listening = json.loads((state / "listening.json").read_text(encoding="utf-8"))
    control = listening["control"]
    request = {
        "do": "add",
        "token": control["token"],
        "system": system,
        "serial": box.factory.serial,
        "ports": PORTS,
        "startup": box.configuration or "",
        "cables": cables,
        "host_key": box.host_key.export_private_key().decode(),
        "call_home": call_home,
    }
    reader, writer = await asyncio.open_connection(control["host"], control["port"], limit=10_000_000)
    writer.write(json.dumps(request).encode() + b"\n")
    await writer.drain()
    answer = json.loads(await reader.readline())
    writer.close()
    if "error" in answer:
        raise Refused(f"the network does not take it: {answer['error']}")


def _place(written: str) -> tuple[str, int]:
    host, _, port = written.rpartition(":")
    return host, int(port)


async def _run(options: argparse.Namespace) -> int:
    maker = Manufacturer(options.maker)
    factory = Factory(
        options.serial, *maker.box(options.serial, again=options.duplicate_serial), maker.voucher_authority
    )
    now = datetime.now(UTC)
    clock = lambda: now.replace(year=options.clock_year or now.year, day=min(now.day, 28))  # noqa: E731
    box = Box(factory, clock=clock, until=options.power_cut, controlled=options.controller_mode)
    try:
        place = options.server or await found_by_name(options.domain, options.names)
    except Refused as refused:
        sys.stdout.write(f"{options.serial}: {refused}\n")
        return 1
    done = await box.find_its_way(*place)
    for what in box.happened:
        sys.stdout.write(f"{options.serial}: {what}\n")
    if not done:
        return 1
    try:
        await plug_in(options.state, box, options.system, options.at, options.call_home)
    except (Refused, OSError, ValueError, KeyError) as wrong:
        sys.stderr.write(f"{options.serial}: {wrong}\n")
        return 1
    return 0


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m oastsim.new_device")
    parser.add_argument("state", type=Path)
    parser.add_argument("maker", type=Path)
    parser.add_argument("serial")
    parser.add_argument("--server", type=_place)
    parser.add_argument("--names", type=_place)
    parser.add_argument("--domain")
    parser.add_argument("--system", default="bine")
    parser.add_argument("--at", action="append", default=[])
    parser.add_argument("--call-home", type=_place)
    parser.add_argument("--clock-year", type=int)
    parser.add_argument("--power-cut")
    parser.add_argument("--duplicate-serial", action="store_true")
    parser.add_argument("--controller-mode", action="store_true")
    return asyncio.run(_run(parser.parse_args()))


if __name__ == "__main__":
    sys.exit(main())
