"""The statements bine knows, as bine itself sees them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from oastsim import values as v

Shape = Literal["block", "entry", "single", "item"]


@dataclass(frozen=True, eq=False)
class Known:
    """A statement: a block, an entry named by its first values, a single value, or one item of several.

    `text` takes the rest of the line as one value; `pairs` are optional words that come with a value each
    (None: alone).
    """

    word: str
    shape: Shape
    takes: Sequence[v.Check] = ()
    named_by: int = 0
    default: str | None = None
    keeps_order: bool = False
    text: bool = False
    mask: bool = False
    pairs: Mapping[str, v.Check | None] = field(default_factory=dict)
    below: Mapping[str, Known] = field(default_factory=dict)


def _below(known: Sequence[Known]) -> dict[str, Known]:
    return {k.word: k for k in known}


def block(word: str, *below: Known) -> Known:
    return Known(word, "block", below=_below(below))


def entry(word: str, takes: Sequence[v.Check], *below: Known) -> Known:
    return Known(word, "entry", takes, named_by=1, below=_below(below))


def single(
    word: str, check: v.Check | None = None, default: str | None = None, *, text: bool = False
) -> Known:
    return Known(word, "single", (check,) if check else (), default=default, text=text)


def item(word: str, check: v.Check, *, keeps_order: bool = False, mask: bool = False) -> Known:
    return Known(word, "item", (check,), keeps_order=keeps_order, mask=mask)


_seconds = v.number(1, 65535)
_as_number = v.number(1, 2**32 - 1)
_STATIC_ROUTE = entry(
    "static-route",
    (v.prefix,),
    single("description", text=True),
    single("route-preference", v.number(1, 255), "10"),
    item("next-hop", v.address),
)

STATEMENTS = Known(
    "",
    "block",
    below=_below(
        (
            block(
                "system",
                single("hostname", v.name),
                single("contact", text=True),
                single("location", text=True),
                single("timezone-name", v.zone, "UTC"),
                single("privilege-password-hash", v.hashed),
                block(
                    "dns-resolver",
                    item("search", v.domain, keeps_order=True),
                    item("server", v.address, keeps_order=True),
                ),
            ),
            entry(
                "user",
                (v.name,),
                single("role", v.one_of("administrator", "operator", "viewer"), "viewer"),
                single("password-hash", v.hashed),
                entry("authorized-key", (v.name, v.key_method, v.key_data)),
            ),
            block(
                "ntp",
                entry(
                    "server",
                    (v.address,),
                    single("prefer", v.boolean, "false"),
                    single("iburst", v.boolean, "false"),
                    single("port", v.number(1, 65535), "123"),
                ),
                single("source-interface", v.interface),
            ),
            entry(
                "acl",
                (v.name,),
                Known(
                    "ace",
                    "item",
                    (v.one_of("accept", "drop", "reject"), v.one_of("ip", "icmp", "tcp", "udp", "ospf")),
                    keeps_order=True,
                    pairs={
                        "source-network": v.prefix_or_any,
                        "destination-network": v.prefix_or_any,
                        "source-port": v.ports,
                        "destination-port": v.ports,
                        "log": None,
                    },
                ),
            ),
            block(
                "snmp",
                entry(
                    "community",
                    (v.any_word,),
                    single("access", v.one_of("read-only", "read-write"), "read-only"),
                    single("source-acl", v.name),
                ),
                entry("target", (v.address,), single("port", v.number(1, 65535), "162")),
            ),
            entry(
                "interface",
                (v.interface,),
                single("description", text=True),
                single("enabled", v.boolean, "true"),
                single("mtu", v.number(576, 9216), "1500"),
                single("vlan-id", v.number(1, 4094)),
                single("network-instance", v.name),
                single("ingress-acl", v.name),
                single("egress-acl", v.name),
                block("ipv4", item("address", v.with_length(4), mask=True)),
                block("ipv6", item("address", v.with_length(6))),
            ),
            _STATIC_ROUTE,
            entry("network-instance", (v.name,), single("description", text=True), _STATIC_ROUTE),
            block(
                "ospf",
                single("router-id", v.ipv4),
                entry(
                    "area",
                    (v.area,),
                    entry(
                        "interface",
                        (v.interface,),
                        single("cost", v.number(1, 65535), "10"),
                        single("interface-type", v.one_of("broadcast", "point-to-point"), "broadcast"),
                        single("hello-interval", _seconds, "10"),
                        single("dead-interval", _seconds, "40"),
                        single("priority", v.number(0, 255), "1"),
                        single("passive", v.boolean, "false"),
                    ),
                ),
            ),
            block(
                "bgp",
                single("as", _as_number),
                single("identifier", v.ipv4),
                item("network", v.prefix),
                entry(
                    "neighbor",
                    (v.address,),
                    single("peer-as", _as_number),
                    single("description", text=True),
                    single("local-address", v.address),
                    single("hold-time", v.number(3, 65535), "90"),
                    single("enabled", v.boolean, "true"),
                ),
            ),
        )
    ),
)
