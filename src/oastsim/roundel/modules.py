"""The YANG modules of a roundel: named in its hello, and sent to clients that ask (RFC 6022, section 3.1)."""

from __future__ import annotations

import re
import sysconfig
from collections.abc import Mapping
from functools import cache
from pathlib import Path

OWN = Path(__file__).parent / "yang"
# The features that it has of each (RFC 7950, section 7.20.1).
IMPLEMENTED: Mapping[str, tuple[str, ...]] = {
    "ietf-interfaces": (),
    "roundel-if-type": (),
    "ietf-ip": (),
    "ietf-system": ("authentication", "local-users", "ntp", "ntp-udp-port", "timezone-name"),
    "ietf-routing": (),
    "ietf-ipv4-unicast-routing": (),
    "ietf-ipv6-unicast-routing": (),
    "ietf-access-control-list": (
        "match-on-ipv4",
        "match-on-ipv6",
        "match-on-tcp",
        "match-on-udp",
        "match-on-icmp",
        "interface-attachment",
    ),
    "ietf-snmp": (),
    "ietf-network-instance": (),
    "roundel-bgp": (),
    "roundel-deviations": (),
    "roundel-hardware": (),
    "roundel-instance": (),
    "roundel-lldp": (),
    "roundel-ntp": (),
    "roundel-ospf": (),
    "roundel-tools": (),
    "roundel-vlan": (),
}
DEVIATED = (
    "ietf-access-control-list",
    "ietf-ip",
    "ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing",
    "ietf-network-instance",
    "ietf-routing",
    "ietf-snmp",
    "ietf-system",
)


@cache
def _files() -> Mapping[str, Path]:
    """By name. Those of the IETF are where pyang has put them; a device without them answers all the same,
    but has no text of them."""
    standard = Path(sysconfig.get_path("data")) / "share" / "yang" / "modules"
    found = {path.stem.partition("@")[0]: path for path in sorted(standard.rglob("*.yang"))}
    found.update({path.stem: path for path in sorted(OWN.glob("*.yang"))})
    return found


def text_of(name: str, revision: str | None) -> str | None:
    """The text of a module or submodule; None when the device does not know it."""
    path = _files().get(name)
    text = path.read_text(encoding="utf-8") if path is not None else None
    return (
        None if text is None or (revision and f"revision {revision}" not in text.replace('"', "")) else text
    )


@cache
def hello_modules() -> tuple[str, ...]:
    """Each as a capability (RFC 6020, section 5.6.4)."""
    found = []
    for name, features in IMPLEMENTED.items():
        text = text_of(name, None)
        if text is None:
            continue
        namespace = re.search(r'namespace\s+"?([^";\s]+)"?', text)
        revision = re.search(r'revision\s+"?(\d{4}-\d{2}-\d{2})"?', text)
        parts = [f"module={name}", *([f"revision={revision[1]}"] if revision else [])]
        parts += [f"features={','.join(features)}"] if features else []
        parts += ["deviations=roundel-deviations"] if name in DEVIATED else []
        found.append(f"{namespace[1] if namespace else name}?{'&'.join(parts)}")
    return tuple(found)
