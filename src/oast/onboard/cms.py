"""Signed data after RFC 5652: made, and opened only when every byte of it is accounted for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from asn1crypto import cms, core, x509 as asn1
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.serialization import Encoding

# What is signed: a voucher in JSON (RFC 8366, section 8.4) and conveyed information in JSON (RFC 8572,
# section 9.5).
VOUCHER = "1.2.840.113549.1.9.16.1.40"
CONVEYED = "1.2.840.113549.1.9.16.1.43"
DATA = "1.2.840.113549.1.7.1"
SIGNED_DATA = "1.2.840.113549.1.7.2"
HASHES: Mapping[str, hashes.HashAlgorithm] = {
    "sha256": hashes.SHA256(),
    "sha384": hashes.SHA384(),
    "sha512": hashes.SHA512(),
}
LARGEST = 4_000_000
Key = ec.EllipticCurvePrivateKey


class SignatureError(ValueError):
    """The signature or the message is invalid; the text says why."""


@dataclass(frozen=True)
class SignedContent:
    """The signed content, the certificate whose key has signed it, and the others that came along. None of
    them is trusted yet."""

    content: bytes
    signer: x509.Certificate
    others: tuple[x509.Certificate, ...]


def sign_data(
    content: bytes, kind: str, certificate: x509.Certificate, key: Key, chain: Sequence[x509.Certificate] = ()
) -> bytes:
    """`content` of the type `kind` as signed data in DER, with the certificates that lead to whom
    one trusts."""
    own = asn1.Certificate.load(certificate.public_bytes(Encoding.DER))
    digest = _digest(hashes.SHA256(), content)
    attributes = cms.CMSAttributes(
        [
            cms.CMSAttribute({"type": "content_type", "values": [kind]}),
            cms.CMSAttribute(
                {"type": "signing_time", "values": [cms.Time({"utc_time": core.UTCTime(datetime.now(UTC))})]}
            ),
            cms.CMSAttribute({"type": "message_digest", "values": [digest]}),
        ]
    )
    signature = key.sign(attributes.dump(), ec.ECDSA(hashes.SHA256()))
    signer = cms.SignerInfo(
        {
            "version": "v1",
            "sid": cms.SignerIdentifier(
                "issuer_and_serial_number",
                cms.IssuerAndSerialNumber({"issuer": own.issuer, "serial_number": own.serial_number}),
            ),
            "digest_algorithm": {"algorithm": "sha256"},
            "signed_attrs": attributes,
            "signature_algorithm": {"algorithm": "sha256_ecdsa"},
            "signature": signature,
        }
    )
    others = [asn1.Certificate.load(one.public_bytes(Encoding.DER)) for one in chain]
    data = cms.SignedData(
        {
            "version": "v3",
            "digest_algorithms": [{"algorithm": "sha256"}],
            "encap_content_info": {"content_type": kind, "content": content},
            "certificates": [own, *others],
            "signer_infos": [signer],
        }
    )
    made: bytes = cms.ContentInfo({"content_type": "signed_data", "content": data}).dump()
    return made


def certificates_only(certificates: Sequence[x509.Certificate]) -> bytes:
    """Certificates as signed data without a signature (RFC 5652, section 5.1), the end entity's first."""
    data = cms.SignedData(
        {
            "version": "v1",
            "digest_algorithms": [],
            "encap_content_info": {"content_type": DATA},
            "certificates": [asn1.Certificate.load(one.public_bytes(Encoding.DER)) for one in certificates],
            "signer_infos": [],
        }
    )
    made: bytes = cms.ContentInfo({"content_type": "signed_data", "content": data}).dump()
    return made


def verify_signed_data(message: bytes, kind: str) -> SignedContent:
    """The content of signed data of the type `kind`, whose one signature fits. Raises SignatureError: nothing
    is passed over that the signature does not cover, so that a message is accepted in one form only."""
    if len(message) > LARGEST:
        raise SignatureError(f"it is longer than {LARGEST} octets")
    try:
        info = cms.ContentInfo.load(message, strict=True)
        if info["content_type"].dotted != SIGNED_DATA:
            raise SignatureError("it is not signed data")
        data = info["content"]
        return _opened(data, kind, message, info)
    except SignatureError:
        raise
    except Exception as wrong:  # two parsers read untrusted input here
        raise SignatureError(
            f"it cannot be decoded: {str(wrong).splitlines()[0] if str(wrong) else type(wrong).__name__}"
        ) from None


def _opened(data: cms.SignedData, kind: str, message: bytes, info: cms.ContentInfo) -> SignedContent:
    inner = data["encap_content_info"]
    if inner["content_type"].dotted != kind:
        raise SignatureError(f"the signed content has another type ({inner['content_type'].dotted})")
    content = inner["content"].native if inner["content"].native is not None else None
    if not isinstance(content, bytes):
        raise SignatureError("it has no content")
    if len(data["signer_infos"]) != 1:
        raise SignatureError(f"it has {len(data['signer_infos'])} signatures instead of one")
    signer = data["signer_infos"][0]
    given = [_certificate(one.chosen) for one in data["certificates"]]
    own = _signer(signer, given)
    _need_signature(signer, own, content, kind)
    # What the signature does not cover has one form: of any other, nothing is known.
    algorithm = signer["digest_algorithm"]["algorithm"].native
    if (
        data["version"].native != "v3"
        or signer["version"].native != "v1"
        or [one["algorithm"].native for one in data["digest_algorithms"]] != [algorithm]
        or len(signer["unsigned_attrs"])
        or len(data["crls"])
        or info.dump(force=True) != message
    ):
        raise SignatureError("it has unsigned parts")
    return SignedContent(content, own, tuple(one for one in given if one != own))


def _certificate(written: asn1.Certificate) -> x509.Certificate:
    if written.serial_number <= 0:
        raise SignatureError("a certificate in it has no serial number")
    return x509.load_der_x509_certificate(written.dump())


def _signer(signer: cms.SignerInfo, given: Sequence[x509.Certificate]) -> x509.Certificate:
    sid = signer["sid"]
    if sid.name != "issuer_and_serial_number":
        raise SignatureError("it does not identify its signer by issuer and serial number")
    issuer, number = sid.chosen["issuer"].dump(), sid.chosen["serial_number"].native
    for one in given:
        if one.serial_number == number and one.issuer.public_bytes() == issuer:
            return one
    raise SignatureError("it does not contain the certificate of its signer")


def _need_signature(signer: cms.SignerInfo, own: x509.Certificate, content: bytes, kind: str) -> None:
    name = signer["digest_algorithm"]["algorithm"].native
    if name not in HASHES:
        raise SignatureError(f"its digest algorithm is {name}")
    algorithm = HASHES[name]
    attributes = signer["signed_attrs"]
    values: dict[str, list[object]] = {}
    for one in attributes:
        if one["type"].native in values:
            raise SignatureError("it has a duplicate attribute")
        values[one["type"].native] = [
            value.dotted if isinstance(value, core.ObjectIdentifier) else value.native
            for value in one["values"]
        ]
    if values.get("content_type") != [kind]:
        raise SignatureError("its signed type differs from its content type")
    if values.get("message_digest") != [_digest(algorithm, content)]:
        raise SignatureError("the content does not match the signed digest")
    # What is signed is the set itself, and not the tag that it has in the message (RFC 5652, section 5.4).
    text = b"\x31" + attributes.dump()[1:]
    key, signature = own.public_key(), signer["signature"].native
    scheme = signer["signature_algorithm"]
    try:
        if (
            isinstance(key, ec.EllipticCurvePublicKey)
            and scheme["algorithm"].native == f"{name}_ecdsa"
            and not scheme["parameters"].native
        ):
            key.verify(signature, text, ec.ECDSA(algorithm))
        elif isinstance(key, rsa.RSAPublicKey) and scheme["algorithm"].native in (
            "rsassa_pkcs1v15",
            f"{name}_rsa",
        ):
            key.verify(signature, text, padding.PKCS1v15(), algorithm)
        else:
            raise SignatureError(f"its signature algorithm is {scheme['algorithm'].native}")
    except InvalidSignature:
        raise SignatureError("the signature is invalid") from None


def _digest(algorithm: hashes.HashAlgorithm, content: bytes) -> bytes:
    made = hashes.Hash(algorithm)
    made.update(content)
    return made.finalize()
