"""The owner's keys and certificates: its own authority, the signer of what devices get, and the bootstrap
server."""

from __future__ import annotations

import ipaddress
import os
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    load_pem_private_key,
)
from cryptography.x509.oid import ExtendedKeyUsageOID

from oast.errors import EstateError, StateError
from oast.files import make_private

OWNER, SIGNER, SERVER = "owner", "signer", "server"
CA_DAYS, DAYS = 3650, 825
# A device's clock may be a little behind.
EARLIER = timedelta(minutes=10)


@dataclass(frozen=True)
class Keys:
    """The owner's keys: the authority that vouchers pin, the signer, and the files with the server's
    certificate and key."""

    owner: x509.Certificate
    signer: x509.Certificate
    signer_key: ec.EllipticCurvePrivateKey
    server_certificate: Path
    server_key: Path


def make_keys(folder: Path, organisation: str, names: Sequence[str]) -> None:
    """Make them all in `folder`, which only its owner can read; the server goes by `names`, host names or
    addresses. Raises StateError when there is something already."""
    if folder.exists() and any(folder.iterdir()):
        raise StateError(
            f"{folder} already has files; no keys were created",
            hint="move them away to create new keys",
        )
    make_private(folder)
    now = datetime.now(UTC)
    owner_key = ec.generate_private_key(ec.SECP256R1())
    owner = _certificate(f"{organisation} owner", owner_key, None, owner_key, now, CA_DAYS, is_ca=True)
    _keep(folder, OWNER, owner_key, [owner])
    for name, called in ((SIGNER, f"{organisation} onboarding"), (SERVER, names[0])):
        key = ec.generate_private_key(ec.SECP256R1())
        made = _certificate(called, key, owner, owner_key, now, DAYS, names=names if name == SERVER else ())
        _keep(folder, name, key, [made, owner] if name == SERVER else [made])


def _certificate(
    called: str,
    key: ec.EllipticCurvePrivateKey,
    issuer: x509.Certificate | None,
    issuer_key: ec.EllipticCurvePrivateKey,
    now: datetime,
    days: int,
    *,
    is_ca: bool = False,
    names: Sequence[str] = (),
) -> x509.Certificate:
    """RFC 5280, section 4."""
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, called[:64])])
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer.subject if issuer is not None else subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - EARLIER)
        .not_valid_after(now + timedelta(days=days))
        .add_extension(x509.BasicConstraints(is_ca, None), critical=True)
        .add_extension(
            x509.KeyUsage(
                digital_signature=not is_ca,
                content_commitment=False,
                key_encipherment=False,
                data_encipherment=False,
                key_agreement=False,
                key_cert_sign=is_ca,
                crl_sign=is_ca,
                encipher_only=False,
                decipher_only=False,
            ),
            critical=True,
        )
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(issuer_key.public_key()), critical=False
        )
    )
    if names:
        builder = builder.add_extension(
            x509.SubjectAlternativeName([_name(one) for one in names]), critical=False
        )
        builder = builder.add_extension(
            x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False
        )
    return builder.sign(issuer_key, hashes.SHA256())


def _name(written: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(written))
    except ValueError:
        return x509.DNSName(written)


def _keep(
    folder: Path, name: str, key: ec.EllipticCurvePrivateKey, chain: Sequence[x509.Certificate]
) -> None:
    """Write PKCS #8 and X.509 in PEM (RFC 7468); the key is readable by its owner alone."""
    text = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    with os.fdopen(
        os.open(folder / f"{name}.key", os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb"
    ) as file:
        file.write(text)
    (folder / f"{name}.pem").write_bytes(b"".join(one.public_bytes(Encoding.PEM) for one in chain))


def read_keys(folder: Path) -> Keys:
    """Raises StateError when there are no keys, EstateError when a file is not a key or certificate, or
    others can read a key."""
    try:
        owner, signer = (_first(folder / f"{name}.pem") for name in (OWNER, SIGNER))
        path = folder / f"{SIGNER}.key"
        if path.stat().st_mode & 0o077:
            raise EstateError(f"other users can read {path}", hint=f"chmod 600 {path}")
        key = load_pem_private_key(path.read_bytes(), None)
    except OSError as error:
        raise StateError(
            f"cannot read {error.filename}: {error.strerror}", hint="create the keys with: oast onboard keys"
        ) from None
    except (ValueError, TypeError):
        raise EstateError(
            f"a file in {folder} is not a key or certificate in PEM format",
            hint="restore the keys, or create new ones with: oast onboard keys",
        ) from None
    if not isinstance(key, ec.EllipticCurvePrivateKey) or key.public_key() != signer.public_key():
        raise EstateError(f"{path} is not the key of {SIGNER}.pem")
    return Keys(owner, signer, key, folder / f"{SERVER}.pem", folder / f"{SERVER}.key")


def _first(path: Path) -> x509.Certificate:
    return x509.load_pem_x509_certificates(path.read_bytes())[0]
