"""Whoever is told: a webhook and a syslog receiver on loopback, over TLS if wanted, that can be in trouble."""

from __future__ import annotations

import base64
import datetime
import hashlib
import hmac
import ipaddress
import json
import socket
import ssl
import threading
import time
import weakref
from collections.abc import Callable, Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

PATIENCE_S = 60.0


def certificate(folder: Path, name: str, host: str = "127.0.0.1") -> tuple[Path, Path]:
    """A self-signed certificate for `host` and its key, as files."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=2))
        .add_extension(
            x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(host))]), critical=False
        )
        .sign(key, hashes.SHA256())
    )
    paths = folder / f"{name}.pem", folder / f"{name}.key"
    paths[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    plain = serialization.NoEncryption()
    paths[1].write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain)
    )
    return paths


def tls(pair: tuple[Path, Path]) -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(*pair)
    return context


def until(true: Callable[[], object], what: str) -> None:
    end = time.monotonic() + PATIENCE_S
    while not true():
        if time.monotonic() > end:
            raise AssertionError(f"it did not come to be: {what}")
        time.sleep(0.05)


class Webhook:
    """Takes notifications on a port of its own, which it keeps while it is down. `answers` are given first: a status and header fields."""

    def __init__(self, context: ssl.SSLContext | None = None, port: int = 0) -> None:
        self.taken: list[dict[str, Any]] = []
        self.heads: list[Mapping[str, str]] = []
        self.refused = 0
        self.answers: list[tuple[int, dict[str, str]]] = []
        self._context = context
        # It keeps the port for itself while nothing listens there: who connects is refused, and no other process gets it.
        self._kept = socket.socket()
        self._kept.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
        self._kept.bind(("127.0.0.1", port))
        weakref.finalize(self, self._kept.close)
        self.port = int(self._kept.getsockname()[1])
        self.up()

    def up(self) -> None:
        receiver = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                status, fields = receiver.answers.pop(0) if receiver.answers else (204, {})
                if 200 <= status < 300:
                    receiver.heads.append(
                        {**dict(self.headers.items()), "body": body.decode(), "path": self.path}
                    )
                    receiver.taken.append(json.loads(body))
                else:
                    receiver.refused += 1
                self.send_response(status)
                for name, value in fields.items():
                    self.send_header(name, value)
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, format: str, *args: object) -> None:
                return

        self._server = ThreadingHTTPServer(("127.0.0.1", self.port), Handler, bind_and_activate=False)
        self._server.socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
        self._server.server_bind()
        self._server.server_activate()
        if self._context is not None:
            self._server.socket = self._context.wrap_socket(self._server.socket, server_side=True)
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.02,), daemon=True)
        self._thread.start()

    def down(self) -> None:
        self._server.shutdown()
        self._thread.join()
        self._server.server_close()

    @property
    def url(self) -> str:
        return f"{'https' if self._context else 'http'}://127.0.0.1:{self.port}/notify"

    def news(self) -> list[tuple[str, str, str | None]]:
        return [
            (one["became"], one["about"], one["device"])
            for taken in list(self.taken)
            for one in taken["news"]
        ]


def is_signed(head: Mapping[str, str], url: str, key: str) -> bool:
    """Whether a request bears the signature of RFC 9421, worked out from what was received alone."""
    digest = base64.b64encode(hashlib.sha256(head["body"].encode()).digest()).decode()
    if head["Content-Digest"] != f"sha-256=:{digest}:":
        return False
    label, _, parameters = head["Signature-Input"].partition("=")
    names = parameters[1 : parameters.index(")")].replace('"', "").split(" ")
    known = {"@method": "POST", "@target-uri": url, **{name.lower(): value for name, value in head.items()}}
    base = "".join(f'"{name}": {known[name]}\n' for name in names) + f'"@signature-params": {parameters}'
    made = base64.b64encode(hmac.new(key.encode(), base.encode(), hashlib.sha256).digest()).decode()
    return head["Signature"] == f"{label}=:{made}:"


class SyslogOverTls:
    """Takes framed messages (RFC 5425)."""

    def __init__(self, context: ssl.SSLContext) -> None:
        self.messages: list[str] = []
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        self._context = context
        threading.Thread(target=self._serve, daemon=True).start()

    def close(self) -> None:
        self._socket.close()

    def _serve(self) -> None:
        while True:
            try:
                plain, _ = self._socket.accept()
            except OSError:
                return
            try:
                with self._context.wrap_socket(plain, server_side=True) as connection:
                    data = b""
                    while part := connection.recv(65536):
                        data += part
            except OSError:
                continue
            while data:
                length, _, data = data.partition(b" ")
                self.messages.append(data[: int(length)].decode())
                data = data[int(length) :]
