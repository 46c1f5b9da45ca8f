"""Whether a certificate leads to a trusted authority (RFC 5280, section 6)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from cryptography import x509
from cryptography.x509 import verification

from oast.errors import EstateError, StateError


def authorities(path: Path, what: str) -> list[x509.Certificate]:
    """The certificates of a PEM file. Raises StateError when it cannot be read, EstateError when
    it has none."""
    try:
        found = x509.load_pem_x509_certificates(path.read_bytes())
    except OSError as error:
        raise StateError(f"{what}: cannot read {path}: {error.strerror}") from None
    except ValueError:
        raise EstateError(
            f"{what}: {path} contains no certificate", hint="add certificates in PEM format"
        ) from None
    return found


def chain_error(
    certificate: x509.Certificate,
    others: Sequence[x509.Certificate],
    trusted: Sequence[x509.Certificate],
    at: datetime,
) -> str | None:
    """Why `certificate` leads over `others` to none of `trusted` at a time; None when it does."""
    anything = verification.ExtensionPolicy.permit_all()
    builder = (
        verification.PolicyBuilder().store(verification.Store(list(trusted))).time(at).max_chain_depth(4)
    )
    ca = verification.ExtensionPolicy.webpki_defaults_ca()
    try:
        builder.extension_policies(ca_policy=ca, ee_policy=anything).build_client_verifier().verify(
            certificate, list(others)
        )
    except (verification.VerificationError, ValueError) as wrong:
        return str(wrong)
    return None


def serial_of(subject: x509.Name) -> str | None:
    """The serial number that a device's certificate is for (IEEE 802.1AR, section 8.6)."""
    found = subject.get_attributes_for_oid(x509.NameOID.SERIAL_NUMBER)
    return str(found[0].value) if len(found) == 1 else None
