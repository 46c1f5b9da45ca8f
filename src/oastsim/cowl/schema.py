"""The configuration that cowl knows, as cowl itself sees it: a schema of its own, in the words of the IETF's
YANG modules."""

from __future__ import annotations

from typing import Literal

from oastsim import values as v
from oastsim.model import Schema
from oastsim.values import Check

_INTERFACE = "/interfaces/interface"
_VLAN = "/vlans/vlan"
_ACL = "/acls/acl"


def _below(nodes: tuple[Schema, ...]) -> dict[str, Schema]:
    return {node.name: node for node in nodes}


def box(name: str, *below: Schema, presence: bool = False) -> Schema:
    return Schema(name, "container", _below(below), presence=presence)


def rows(name: str, key: Schema, *below: Schema, by_user: bool = False, least: int = 0) -> Schema:
    return Schema(name, "list", _below((key, *below)), (key.name,), by_user=by_user, least=least)


def leaf(
    name: str,
    check: Check,
    default: str | None = None,
    *,
    refers: str | None = None,
    form: Literal["text", "number", "boolean"] = "text",
) -> Schema:
    return Schema(name, "leaf", check=check, default=default, refers=refers, form=form)


def number(
    name: str, low: int, high: int, default: str | None = None, *, refers: str | None = None
) -> Schema:
    return leaf(name, v.number(low, high), default, refers=refers, form="number")


def flag(name: str, default: str) -> Schema:
    return leaf(name, v.exactly("true", "false"), default, form="boolean")


def several(
    name: str,
    check: Check,
    *,
    by_user: bool = False,
    least: int = 0,
    refers: str | None = None,
    numbers: bool = False,
) -> Schema:
    return Schema(
        name,
        "leaf-list",
        check=check,
        by_user=by_user,
        least=least,
        refers=refers,
        form="number" if numbers else "text",
    )


def text(value: str) -> str:
    if not value or any(ord(sign) < 32 for sign in value):
        raise ValueError("a text of one line is needed")
    return value


interface_name = v.shaped(r"(port|loop|manage|vlan|bundle)[0-9]{1,4}", "an interface name")


def _virtual(check: Check) -> Schema:
    """An address that several routers have together (RFC 8347)."""
    return rows(
        "vrrp-instance",
        number("vrid", 1, 255),
        leaf("virtual-address", check),
        number("priority", 1, 254, "100"),
    )


def _static_routes() -> Schema:
    return rows(
        "static-route",
        leaf("destination-prefix", v.prefix),
        leaf("description", text),
        number("route-preference", 1, 255, "10"),
        several("next-hop", v.address, least=1),
    )


SCHEMA = box(
    "",
    box(
        "system",
        leaf("hostname", v.name),
        leaf("contact", text),
        leaf("location", text),
        leaf("timezone-name", v.zone, "UTC"),
        box(
            "dns-resolver",
            several("search", v.domain, by_user=True),
            several("server", v.address, by_user=True),
        ),
    ),
    box(
        "users",
        rows(
            "user",
            leaf("name", v.name),
            leaf("role", v.exactly("administrator", "operator", "viewer"), "viewer"),
            leaf("password-hash", v.hashed),
            rows(
                "authorized-key",
                leaf("name", v.name),
                leaf("algorithm", v.key_method),
                leaf("key-data", v.key_data),
            ),
        ),
    ),
    box(
        "ntp",
        rows(
            "server",
            leaf("address", v.address),
            flag("prefer", "false"),
            flag("iburst", "false"),
            number("port", 1, 65535, "123"),
        ),
        leaf("source-interface", interface_name, refers=_INTERFACE),
    ),
    box(
        "acls",
        rows(
            "acl",
            leaf("name", v.name),
            rows(
                "ace",
                leaf("name", v.name),
                leaf("forwarding", v.exactly("accept", "drop", "reject")),
                leaf("protocol", v.exactly("ip", "icmp", "tcp", "udp", "ospf"), "ip"),
                leaf("source-network", v.prefix_or_any, "any"),
                leaf("destination-network", v.prefix_or_any, "any"),
                leaf("source-port", v.ports),
                leaf("destination-port", v.ports),
                flag("log", "false"),
                by_user=True,
            ),
        ),
    ),
    box(
        "snmp",
        rows(
            "community",
            leaf("name", v.any_word),
            leaf("access", v.exactly("read-only", "read-write"), "read-only"),
            leaf("source-acl", v.name, refers=_ACL),
        ),
        rows("target", leaf("address", v.address), number("port", 1, 65535, "162")),
    ),
    box("vlans", rows("vlan", number("vlan-id", 1, 4094), leaf("name", text))),
    box("spanning-tree", flag("enabled", "true"), number("bridge-priority", 0, 61440, "32768")),
    box(
        "interfaces",
        rows(
            "interface",
            leaf("name", interface_name),
            leaf("description", text),
            flag("enabled", "true"),
            number("mtu", 576, 9216, "1500"),
            leaf("aggregate", interface_name, refers=_INTERFACE),
            leaf("network-instance", v.name, refers="/network-instances/network-instance"),
            leaf("ingress-acl", v.name, refers=_ACL),
            leaf("egress-acl", v.name, refers=_ACL),
            box(
                "switched-vlan",
                leaf("interface-mode", v.exactly("access", "trunk"), "access"),
                number("access-vlan", 1, 4094, refers=_VLAN),
                several("trunk-vlan", v.number(1, 4094), refers=_VLAN, numbers=True),
            ),
            box(
                "ipv4", rows("address", leaf("ip", v.ipv4), number("prefix-length", 0, 32)), _virtual(v.ipv4)
            ),
            box(
                "ipv6", rows("address", leaf("ip", v.ipv6), number("prefix-length", 0, 128)), _virtual(v.ipv6)
            ),
        ),
    ),
    box("pair", leaf("partner", v.name), leaf("link", interface_name, refers=_INTERFACE)),
    box(
        "network-instances",
        rows("network-instance", leaf("name", v.name), leaf("description", text), _static_routes()),
    ),
    box("routing", _static_routes()),
    box(
        "ospf",
        leaf("router-id", v.ipv4),
        rows(
            "area",
            leaf("area-id", v.area),
            rows(
                "interface",
                leaf("name", interface_name, refers=_INTERFACE),
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
    box(
        "bgp",
        number("as", 1, 2**32 - 1),
        leaf("identifier", v.ipv4),
        several("network", v.prefix),
        rows(
            "neighbor",
            leaf("remote-address", v.address),
            number("peer-as", 1, 2**32 - 1),
            leaf("description", text),
            leaf("local-address", v.address),
            number("hold-time", 3, 65535, "90"),
            flag("enabled", "true"),
        ),
    ),
)
