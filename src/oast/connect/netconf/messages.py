"""The messages of NETCONF (RFC 6241, section 4) as elements: hello, rpc, rpc-reply with its errors."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from lxml import etree

from oast.safe_xml import Element, parser

BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
"""The namespace of everything in RFC 6241."""


class NotNetconf(ValueError):
    """The message is not valid NETCONF."""


@dataclass(frozen=True, slots=True)
class RpcError:
    """An rpc-error (RFC 6241, section 4.3); `path` is the device's own XPath to what is wrong, "" when it
    does not say."""

    kind: str
    tag: str
    severity: str
    path: str = ""
    message: str = ""
    app_tag: str = ""
    info: str = ""

    def __str__(self) -> str:
        """`data-missing at /if:interfaces/if:interface[if:name='eth0']: the words of the device (info)`."""
        tag = self.tag if not self.app_tag else f"{self.tag} ({self.app_tag})"
        said = f"{tag} at {self.path}" if self.path else tag
        words = f"{said}: {self.message}" if self.message else said
        return f"{words} [{self.info}]" if self.info else words


def base(name: str) -> str:
    """An element's name in the namespace of RFC 6241."""
    return f"{{{BASE}}}{name}"


def hello(capabilities: Iterable[str]) -> bytes:
    """What a client begins with (RFC 6241, section 8.1): its capabilities, and no session-id."""
    message = etree.Element(base("hello"), nsmap={None: BASE})
    inner = etree.SubElement(message, base("capabilities"))
    for capability in capabilities:
        etree.SubElement(inner, base("capability")).text = capability
    return serialised(message)


def rpc(number: int, operation: Element, config: str | None = None) -> bytes:
    """A request (RFC 6241, section 4.1) for `operation`, known by `number`. `config` is the text of the empty
    config in it: an element that is put into another loses prefixes that only its values use."""
    message = etree.Element(base("rpc"), {"message-id": str(number)}, nsmap={None: BASE})
    message.append(operation)
    made = serialised(message)
    return made if config is None else made.replace(b"<config/>", config.encode(), 1)


def serialised(message: Element) -> bytes:
    """As UTF-8 with an XML declaration (RFC 6241, section 3)."""
    made: bytes = etree.tostring(message, xml_declaration=True, encoding="UTF-8")
    return made


def parsed(message: bytes) -> Element:
    """A message that was received. Raises NotNetconf; a document type is refused (RFC 6241, section 3)."""
    try:
        # Text before the declaration, such as a line break after an end mark, is not part of the message.
        element = etree.fromstring(message.strip(), parser())
    except etree.XMLSyntaxError as wrong:
        if "Excessive depth" in (wrong.msg or ""):
            raise NotNetconf("a message whose elements are nested too deeply") from None
        raise NotNetconf(f"a message that is not XML: {wrong.msg}") from None
    if element.getroottree().docinfo.doctype:
        raise NotNetconf("a message that declares a document type")
    return element


def capabilities_in(message: Element) -> tuple[tuple[str, ...], str]:
    """What a server's hello offers, and the session-id (RFC 6241, section 8.1). Raises NotNetconf."""
    if message.tag != base("hello"):
        raise NotNetconf(f"'{etree.QName(message).localname}' where a hello should be")
    offered = tuple((element.text or "").strip() for element in message.iter(base("capability")))
    session = message.findtext(base("session-id"), "").strip()
    if not session:
        raise NotNetconf("a hello without a session-id")
    return offered, session


def errors_in(reply: Element) -> Sequence[RpcError]:
    """The errors and warnings of a reply (RFC 6241, section 4.3)."""
    return [_error(element) for element in reply.iterchildren(base("rpc-error"))]


def _error(element: Element) -> RpcError:
    def text(name: str) -> str:
        return " ".join((element.findtext(base(name)) or "").split())

    info = element.find(base("error-info"))
    told = [
        f"{etree.QName(one).localname} {(one.text or '').strip()}".strip()
        for one in (info if info is not None else ())
    ]
    return RpcError(
        kind=text("error-type"),
        tag=text("error-tag"),
        severity=text("error-severity") or "error",
        path=_path(element.find(base("error-path"))),
        message=text("error-message"),
        app_tag=text("error-app-tag"),
        info=", ".join(told),
    )


def _path(element: Element | None) -> str:
    return "" if element is None else " ".join((element.text or "").split())
