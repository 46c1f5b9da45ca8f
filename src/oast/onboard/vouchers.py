"""Vouchers after RFC 8366: the maker of a device says whose it is."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from oast.json_text import strict_json
from oast.onboard import cms
from oast.onboard.cms import SignatureError
from oast.onboard.trust import chain_error

TOP = "ietf-voucher:voucher"
ASSERTIONS = ("verified", "logged", "proximity")
NEEDED = ("created-on", "assertion", "serial-number", "pinned-domain-cert")
KNOWN = (
    *NEEDED,
    "expires-on",
    "idevid-issuer",
    "domain-cert-revocation-checks",
    "nonce",
    "last-renewal-date",
)


@dataclass(frozen=True)
class Voucher:
    """Whose device it is: `pinned` is the owner's certificate, or one that the owner's lead to. Without
    `expires_on` it holds for ever."""

    serial: str
    pinned: x509.Certificate
    created_on: datetime
    expires_on: datetime | None
    assertion: str


def read_voucher(message: bytes, trusted: Sequence[x509.Certificate], at: datetime) -> Voucher:
    """Return the voucher in signed data, signed by one of `trusted` and valid `at` a time. Raises
    SignatureError with the reason."""
    opened = cms.verify_signed_data(message, cms.VOUCHER)
    voucher = _voucher(opened.content)
    why = chain_error(opened.signer, opened.others, trusted, at)
    if why is not None:
        raise SignatureError(f"its signer is not trusted: {why}")
    if voucher.created_on > at:
        raise SignatureError(
            f"it was created at {voucher.created_on:%Y-%m-%d %H:%M} UTC, after the current time "
            f"{at:%Y-%m-%d %H:%M}"
        )
    if voucher.expires_on is not None and voucher.expires_on <= at:
        raise SignatureError(f"it expired on {voucher.expires_on:%Y-%m-%d %H:%M} UTC")
    return voucher


def _voucher(content: bytes) -> Voucher:
    """RFC 8366, section 5.3; in JSON after RFC 7951."""
    try:
        data = strict_json(content)[TOP]
        unknown = next((name for name in data if name not in KNOWN), None)
        missing = next((name for name in NEEDED if name not in data), None)
    except (ValueError, KeyError, TypeError, RecursionError):
        raise SignatureError("the signed content is not a voucher") from None
    if unknown is not None or missing is not None:
        raise SignatureError(
            f"the voucher has the unknown field '{unknown}'"
            if unknown is not None
            else f"the voucher has no '{missing}'"
        )
    if (
        data["assertion"] not in ASSERTIONS
        or not isinstance(data["serial-number"], str)
        or not data["serial-number"]
    ):
        raise SignatureError("the voucher has no serial number, or no assertion")
    try:
        pinned = x509.load_der_x509_certificate(base64.b64decode(data["pinned-domain-cert"], validate=True))
    except (ValueError, TypeError, binascii.Error):
        raise SignatureError("the voucher's pinned-domain-cert is not a certificate") from None
    expires = _time(data["expires-on"]) if "expires-on" in data else None
    return Voucher(data["serial-number"], pinned, _time(data["created-on"]), expires, data["assertion"])


def _time(written: object) -> datetime:
    """A date and time of YANG (RFC 6991), which has its offset."""
    try:
        found = datetime.fromisoformat(str(written))
    except ValueError:
        found = datetime.min
    if found.tzinfo is None:
        raise SignatureError(f"the voucher has the invalid time {str(written)[:40]!r}")
    return found.astimezone(UTC)


def matches_owner(voucher: Voucher, serial: str, owner: x509.Certificate) -> str | None:
    """Why the voucher does not give the device `serial` to `owner`; None when it does."""
    if voucher.serial != serial:
        return f"it is for the serial number {voucher.serial[:80]}"
    if voucher.pinned.public_bytes(Encoding.DER) != owner.public_bytes(Encoding.DER):
        return "it assigns the device to another owner: its pinned-domain-cert is not the owner's authority"
    return None
