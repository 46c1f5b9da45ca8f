"""The configuration that roundel knows, as roundel itself sees it: the parts of the IETF's modules that it
has, and its own."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from dataclasses import replace

from oastsim import values as v
from oastsim.model import Kind, Schema
from oastsim.values import Check

NAMESPACES: Mapping[str, str] = {
    "ietf-access-control-list": "urn:ietf:params:xml:ns:yang:ietf-access-control-list",
    "ietf-interfaces": "urn:ietf:params:xml:ns:yang:ietf-interfaces",
    "roundel-hardware": "urn:example:roundel:hardware",
    "roundel-if-type": "urn:example:roundel:if-type",
    "ietf-ip": "urn:ietf:params:xml:ns:yang:ietf-ip",
    "ietf-ipv4-unicast-routing": "urn:ietf:params:xml:ns:yang:ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing": "urn:ietf:params:xml:ns:yang:ietf-ipv6-unicast-routing",
    "ietf-network-instance": "urn:ietf:params:xml:ns:yang:ietf-network-instance",
    "ietf-routing": "urn:ietf:params:xml:ns:yang:ietf-routing",
    "ietf-snmp": "urn:ietf:params:xml:ns:yang:ietf-snmp",
    "ietf-system": "urn:ietf:params:xml:ns:yang:ietf-system",
    "roundel-bgp": "urn:example:roundel:bgp",
    "roundel-instance": "urn:example:roundel:instance",
    "roundel-lldp": "urn:example:roundel:lldp",
    "roundel-ntp": "urn:example:roundel:ntp",
    "roundel-ospf": "urn:example:roundel:ospf",
    "roundel-tools": "urn:example:roundel:tools",
    "roundel-vlan": "urn:example:roundel:vlan",
}
MODULES = {namespace: name for name, namespace in NAMESPACES.items()}

_INTERFACE = "/interfaces/interface"
_ACL = "/acls/acl"


def node(kind: Kind, name: str, *below: Schema, **more: object) -> Schema:
    return replace(Schema(name, kind, {one.name: one for one in below}), **more)  # type: ignore[arg-type]


def box(
    name: str, *below: Schema, presence: bool = False, case: str | None = None, choice: str | None = None
) -> Schema:
    return node("container", name, *below, presence=presence, case=case, choice=choice)


def rows(name: str, keys: str, *below: Schema, by_user: bool = False) -> Schema:
    return node("list", name, *below, keys=tuple(keys.split()), by_user=by_user)


def leaf(
    name: str, check: Check, default: str | None = None, *, needed: bool = False, **more: object
) -> Schema:
    return node("leaf", name, check=check, default=default, least=int(needed), **more)


def number(name: str, low: int, high: int, default: str | None = None, **more: object) -> Schema:
    return leaf(name, v.number(low, high), default, form="number", **more)  # type: ignore[arg-type]


def flag(name: str, default: str) -> Schema:
    return leaf(name, v.exactly("true", "false"), default, form="boolean")


def several(name: str, check: Check, *, by_user: bool = False) -> Schema:
    return node("leaf-list", name, check=check, by_user=by_user)


def identity(name: str, *allowed: str, **more: object) -> Schema:
    """A leaf whose values are identities; a pattern for those of a module with very many."""
    check = v.shaped(allowed[0], "an identity of that kind") if "[" in allowed[0] else v.exactly(*allowed)
    return leaf(name, check, form="identity", **more)  # type: ignore[arg-type]


def inside(module: str, schema: Schema) -> Schema:
    """The same, and everything below that does not say otherwise, in a module."""
    own = schema.module or module
    return replace(schema, module=own, below={name: inside(own, one) for name, one in schema.below.items()})


def of(module: str, schema: Schema) -> Schema:
    return inside(module, schema)


def text(value: str) -> str:
    if re.search(r"[\x00-\x08\x0b-\x1f]", value):
        raise ValueError("a text without control characters is needed")
    return value


def sized(low: int, high: int) -> Check:
    def check(value: str) -> str:
        if not low <= len(text(value)) <= high:
            raise ValueError(f"{low} to {high} characters are needed")
        return value

    return check


def binary(value: str) -> str:
    try:
        return base64.b64encode(base64.b64decode("".join(value.split()), validate=True)).decode()
    except ValueError:
        raise ValueError("data in base64 is needed") from None


def host(value: str) -> str:
    try:
        return v.address(value)
    except ValueError:
        return v.domain(value)


def of_version(version: int, check: Check) -> Check:
    def checked(value: str) -> str:
        found = check(value)
        if (":" in found) != (version == 6):
            raise ValueError(f"an IPv{version} prefix is needed")
        return found

    return checked


def _address(family: str, version: int) -> Schema:
    check = v.ipv4 if version == 4 else v.ipv6
    return of(
        "ietf-ip",
        box(
            family,
            flag("enabled", "true"),
            flag("forwarding", "false"),
            number("mtu", 68, 65535) if version == 4 else number("mtu", 1280, 2**32 - 1),
            rows(
                "address",
                "ip",
                leaf("ip", check),
                number("prefix-length", 0, 32 if version == 4 else 128, needed=version == 6),
            ),
            presence=True,
        ),
    )


def _static(family: str, version: int) -> Schema:
    module = f"ietf-{family}-unicast-routing"
    hop = v.ipv4 if version == 4 else v.ipv6
    return of(
        module,
        box(
            family,
            rows(
                "route",
                "destination-prefix",
                leaf("destination-prefix", of_version(version, v.prefix)),
                leaf("description", text),
                box(
                    "next-hop",
                    leaf("next-hop-address", hop, choice="next-hop", case="simple"),
                    leaf(
                        "special-next-hop",
                        v.exactly("blackhole", "unreachable", "prohibit", "receive"),
                        choice="next-hop",
                        case="special",
                    ),
                    box(
                        "next-hop-list",
                        rows("next-hop", "index", leaf("index", text), leaf("next-hop-address", hop)),
                        choice="next-hop",
                        case="list",
                    ),
                ),
            ),
        ),
    )


def _ports(name: str) -> Schema:
    return box(
        name,
        number("lower-port", 0, 65535, choice="port", case="range"),
        number("upper-port", 0, 65535, choice="port", case="range"),
        leaf("operator", v.exactly("lte", "gte", "eq", "neq"), "eq", choice="port", case="operator"),
        number("port", 0, 65535, choice="port", case="operator"),
    )


def _l3(family: str, version: int) -> Schema:
    prefix = of_version(version, v.prefix)
    return box(
        family,
        number("protocol", 0, 255),
        leaf(f"destination-{family}-network", prefix),
        leaf(f"source-{family}-network", prefix),
        choice="l3",
        case=family,
    )


def _attached(way: str) -> Schema:
    return box(
        way, box("acl-sets", rows("acl-set", "name", leaf("name", sized(1, 64), refers=_ACL), by_user=True))
    )


_ACES = rows(
    "ace",
    "name",
    leaf("name", sized(1, 64)),
    box(
        "matches",
        _l3("ipv4", 4),
        _l3("ipv6", 6),
        box("tcp", _ports("source-port"), _ports("destination-port"), choice="l4", case="tcp"),
        box("udp", _ports("source-port"), _ports("destination-port"), choice="l4", case="udp"),
        box("icmp", number("type", 0, 255), choice="l4", case="icmp"),
    ),
    box(
        "actions",
        identity(
            "forwarding",
            *(f"ietf-access-control-list:{one}" for one in ("accept", "drop", "reject")),
            needed=True,
        ),
        identity(
            "logging",
            "ietf-access-control-list:log-none",
            "ietf-access-control-list:log-syslog",
            default="ietf-access-control-list:log-none",
        ),
    ),
    by_user=True,
)

_OSPF = of(
    "roundel-ospf",
    box(
        "ospf",
        leaf("router-id", v.area),
        rows(
            "area",
            "area-id",
            leaf("area-id", v.area),
            rows(
                "interface",
                "name",
                leaf("name", text, refers=_INTERFACE),
                number("cost", 1, 65535, "10"),
                leaf("interface-type", v.exactly("broadcast", "point-to-point"), "broadcast"),
                number("hello-interval", 1, 65535, "10"),
                number("dead-interval", 1, 65535, "40"),
                number("priority", 0, 255, "1"),
                flag("passive", "false"),
            ),
        ),
        presence=True,
    ),
)
_BGP = of(
    "roundel-bgp",
    box(
        "bgp",
        number("as", 0, 2**32 - 1, needed=True),
        leaf("identifier", v.area),
        several("network", v.prefix),
        rows(
            "neighbor",
            "remote-address",
            leaf("remote-address", v.address),
            number("peer-as", 0, 2**32 - 1, needed=True),
            leaf("description", text),
            leaf("local-address", v.address),
            number("hold-time", 3, 65535, "90"),
            flag("enabled", "true"),
        ),
        presence=True,
    ),
)

SCHEMA = box(
    "",
    of(
        "ietf-interfaces",
        box(
            "interfaces",
            rows(
                "interface",
                "name",
                leaf("name", sized(1, 64)),
                leaf("description", text),
                identity(
                    "type",
                    "roundel-if-type:ethernet",
                    "roundel-if-type:loopback",
                    "roundel-if-type:vlan",
                    needed=True,
                ),
                flag("enabled", "true"),
                _address("ipv4", 4),
                _address("ipv6", 6),
                of(
                    "ietf-network-instance",
                    leaf("bind-ni-name", text, refers="/network-instances/network-instance"),
                ),
                of("roundel-vlan", leaf("parent-interface", text, refers=_INTERFACE)),
                of("roundel-vlan", number("vlan-id", 1, 4094)),
            ),
        ),
    ),
    of(
        "ietf-system",
        box(
            "system",
            leaf("contact", text),
            leaf("hostname", v.domain),
            leaf("location", text),
            box("clock", leaf("timezone-name", text)),
            box(
                "ntp",
                flag("enabled", "true"),
                rows(
                    "server",
                    "name",
                    leaf("name", text),
                    box("udp", leaf("address", host, needed=True), number("port", 0, 65535, "123")),
                    flag("iburst", "false"),
                    flag("prefer", "false"),
                ),
                presence=True,
            ),
            box(
                "dns-resolver",
                several("search", v.domain, by_user=True),
                rows(
                    "server",
                    "name",
                    leaf("name", text),
                    box("udp-and-tcp", leaf("address", v.address, needed=True)),
                    by_user=True,
                ),
                box("options", number("timeout", 1, 255, "5"), number("attempts", 1, 255, "2")),
            ),
            box(
                "authentication",
                rows(
                    "user",
                    "name",
                    leaf("name", text),
                    leaf("password", v.hashed),
                    rows(
                        "authorized-key",
                        "name",
                        leaf("name", text),
                        leaf("algorithm", text, needed=True),
                        leaf("key-data", binary, needed=True),
                    ),
                ),
            ),
        ),
    ),
    of(
        "ietf-routing",
        box(
            "routing",
            box(
                "control-plane-protocols",
                rows(
                    "control-plane-protocol",
                    "type name",
                    identity(
                        "type",
                        "ietf-routing:static",
                        "roundel-ospf:ospf",
                        "roundel-bgp:bgp",
                        "ietf-routing:direct",
                        "ietf-routing:routing-protocol",
                    ),
                    leaf("name", text),
                    leaf("description", text),
                    box("static-routes", _static("ipv4", 4), _static("ipv6", 6)),
                    _BGP,
                    _OSPF,
                ),
            ),
        ),
    ),
    of(
        "ietf-access-control-list",
        box(
            "acls",
            rows("acl", "name", leaf("name", sized(1, 64)), box("aces", _ACES)),
            box(
                "attachment-points",
                rows(
                    "interface",
                    "interface-id",
                    leaf("interface-id", text, refers=_INTERFACE),
                    _attached("ingress"),
                    _attached("egress"),
                ),
            ),
        ),
    ),
    of(
        "ietf-snmp",
        box(
            "snmp",
            box("engine", flag("enabled", "false")),
            rows(
                "target",
                "name",
                leaf("name", sized(1, 32)),
                box("udp", leaf("ip", v.address, needed=True), number("port", 0, 65535, "162")),
            ),
            rows(
                "community",
                "index",
                leaf("index", sized(1, 32)),
                leaf("text-name", text),
                leaf("security-name", sized(1, 32), needed=True),
            ),
        ),
    ),
    of(
        "ietf-network-instance",
        box(
            "network-instances",
            rows(
                "network-instance",
                "name",
                leaf("name", text),
                flag("enabled", "true"),
                leaf("description", text),
                box("vrf-root"),
                of(
                    "roundel-instance",
                    box(
                        "static-routes",
                        rows(
                            "route",
                            "destination-prefix",
                            leaf("destination-prefix", v.prefix),
                            leaf("description", text),
                            several("next-hop-address", v.address),
                        ),
                    ),
                ),
            ),
        ),
    ),
)
