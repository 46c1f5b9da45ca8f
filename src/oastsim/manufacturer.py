"""The manufacturer of new devices: an authority for their certificates (IEEE 802.1AR), and one that signs
vouchers (RFC 8366).

`python -m oastsim.manufacturer FOLDER --owner PEM --into FOLDER SERIAL ...` creates what is missing in
FOLDER, and a voucher for each serial number.
"""

from __future__ import annotations

import argparse
import base64
import json
import os
import sys
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from asn1crypto import cms, core, x509 as asn1
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    load_pem_private_key,
)

VOUCHER = "1.2.840.113549.1.9.16.1.40"
DEVICES, VOUCHERS = "devices", "vouchers"
YEARS = timedelta(days=36_500)
BEGAN = datetime(2020, 1, 1, tzinfo=UTC)
NAME, SERIAL = x509.NameOID.COMMON_NAME, x509.NameOID.SERIAL_NUMBER
_Key = ec.EllipticCurvePrivateKey


class Manufacturer:
    """Keeps its keys and what it has made in `folder`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        self._devices = self._authority(DEVICES)
        self._vouchers = self._authority(VOUCHERS)

    @property
    def authority(self) -> Path:
        """Whose certificates the boxes have, as PEM."""
        return self.folder / f"{DEVICES}.pem"

    @property
    def voucher_authority(self) -> Path:
        """Who signs vouchers, as PEM."""
        return self.folder / f"{VOUCHERS}.pem"

    def _authority(self, name: str) -> tuple[x509.Certificate, _Key]:
        if not (self.folder / f"{name}.pem").exists():
            key = ec.generate_private_key(ec.SECP256R1())
            subject = x509.Name([x509.NameAttribute(NAME, f"Made-up boxes: {name}")])
            builder = _builder(subject, subject, key, key).add_extension(
                x509.BasicConstraints(True, None), critical=True
            )
            usage = x509.KeyUsage(False, False, False, False, False, True, True, False, False)
            self._keep(name, builder.add_extension(usage, critical=True).sign(key, hashes.SHA256()), key)
        return self._kept(name)

    def _keep(self, name: str, certificate: x509.Certificate, key: _Key) -> None:
        path = self.folder / f"{name}.key"
        path.touch(mode=0o600)
        path.write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
        (self.folder / f"{name}.pem").write_bytes(certificate.public_bytes(Encoding.PEM))

    def _kept(self, name: str) -> tuple[x509.Certificate, _Key]:
        key = load_pem_private_key((self.folder / f"{name}.key").read_bytes(), None)
        assert isinstance(key, ec.EllipticCurvePrivateKey)  # noqa: S101  # it has made it
        return x509.load_pem_x509_certificate((self.folder / f"{name}.pem").read_bytes()), key

    def box(self, serial: str, *, again: bool = False) -> tuple[Path, Path]:
        """The certificate of the box and its key; made once, or `again` as no maker should."""
        name = f"box-{serial}{'-again' if again else ''}"
        if not (self.folder / f"{name}.pem").exists():
            issuer, issuer_key = self._devices
            key = ec.generate_private_key(ec.SECP256R1())
            subject = x509.Name(
                [x509.NameAttribute(NAME, "A made-up box"), x509.NameAttribute(SERIAL, serial)]
            )
            builder = _builder(subject, issuer.subject, key, issuer_key).add_extension(
                x509.BasicConstraints(False, None), critical=True
            )
            self._keep(name, builder.sign(issuer_key, hashes.SHA256()), key)
        return self.folder / f"{name}.pem", self.folder / f"{name}.key"

    def voucher(self, serial: str, owner: x509.Certificate, expires: datetime | None = None) -> bytes:
        """A voucher (RFC 8366, section 5.3): the box `serial` is the owner's."""
        voucher = {
            "created-on": _written(datetime.now(UTC) - timedelta(minutes=1)),
            "assertion": "logged",
            "serial-number": serial,
            "pinned-domain-cert": base64.b64encode(owner.public_bytes(Encoding.DER)).decode(),
            **({"expires-on": _written(expires)} if expires is not None else {}),
        }
        return _signed(json.dumps({"ietf-voucher:voucher": voucher}).encode(), VOUCHER, *self._vouchers)


def _builder(subject: x509.Name, issuer: x509.Name, key: _Key, issuer_key: _Key) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder(
            issuer, subject, key.public_key(), x509.random_serial_number(), BEGAN, BEGAN + YEARS
        )
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(issuer_key.public_key()), critical=False
        )
    )


def _written(at: datetime) -> str:
    return at.strftime("%Y-%m-%dT%H:%M:%SZ")


def _signed(content: bytes, kind: str, certificate: x509.Certificate, key: _Key) -> bytes:
    """Signed data (RFC 5652, section 5)."""
    own = asn1.Certificate.load(certificate.public_bytes(Encoding.DER))
    digest = hashes.Hash(hashes.SHA256())
    digest.update(content)
    signed = cms.CMSAttributes(
        [
            {"type": "content_type", "values": [kind]},
            {"type": "message_digest", "values": [digest.finalize()]},
        ]
    )
    sid = cms.SignerIdentifier(
        "issuer_and_serial_number", {"issuer": own.issuer, "serial_number": own.serial_number}
    )
    signer = {
        "version": "v1",
        "sid": sid,
        "digest_algorithm": {"algorithm": "sha256"},
        "signed_attrs": signed,
        "signature_algorithm": {"algorithm": "sha256_ecdsa"},
        "signature": key.sign(signed.dump(), ec.ECDSA(hashes.SHA256())),
    }
    data = cms.SignedData(
        {
            "version": "v3",
            "digest_algorithms": [{"algorithm": "sha256"}],
            "certificates": [own],
            "signer_infos": [signer],
            "encap_content_info": {"content_type": kind, "content": core.ParsableOctetString(content)},
        }
    )
    made: bytes = cms.ContentInfo({"content_type": "signed_data", "content": data}).dump()
    return made


def main(arguments: Sequence[str] | None = None) -> int:
    parser = argparse.ArgumentParser(prog="python -m oastsim.manufacturer")
    parser.add_argument("folder", type=Path)
    parser.add_argument("--owner", type=Path, required=True)
    parser.add_argument("--into", type=Path, required=True)
    parser.add_argument("serials", nargs="+")
    options = parser.parse_args(arguments)
    os.umask(0o077)
    try:
        owner = x509.load_pem_x509_certificate(options.owner.read_bytes())
        maker = Manufacturer(options.folder)
        options.into.mkdir(parents=True, exist_ok=True)
        for serial in options.serials:
            maker.box(serial)
            (options.into / f"{serial}.vcj").write_bytes(maker.voucher(serial, owner))
    except (OSError, ValueError) as error:
        sys.stderr.write(f"{error}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
