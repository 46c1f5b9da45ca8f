"""What a bine configuration says about interfaces and routing, as plain records for the state of the network."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

from oastsim.bine.configuration import Configuration, Item


@dataclass(frozen=True)
class OspfInterface:
    """One interface in an OSPF area (RFC 2328, section 9)."""

    area: str
    cost: int
    hello: int
    dead: int
    network_type: str
    passive: bool


@dataclass(frozen=True)
class Interface:
    name: str
    enabled: bool
    mtu: int
    vlan_id: int | None
    ipv4: tuple[ipaddress.IPv4Interface, ...]
    ipv6: tuple[ipaddress.IPv6Interface, ...]
    ospf: OspfInterface | None

    @property
    def addresses(self) -> list[ipaddress.IPv4Interface | ipaddress.IPv6Interface]:
        return [*self.ipv4, *self.ipv6]

    @property
    def port(self) -> str:
        return self.name.split(".")[0]


@dataclass(frozen=True)
class StaticRoute:
    prefix: str
    next_hops: tuple[str, ...]
    preference: int


@dataclass(frozen=True)
class Facts:
    """Everything of one device; `router_id` is None without OSPF."""

    interfaces: Mapping[str, Interface]
    static_routes: tuple[StaticRoute, ...]
    router_id: str | None


# The same few addresses are looked at again with every line.
@lru_cache(maxsize=65536)
def _ipv4(text: str) -> ipaddress.IPv4Interface:
    return ipaddress.IPv4Interface(text)


@lru_cache(maxsize=65536)
def _ipv6(text: str) -> ipaddress.IPv6Interface:
    return ipaddress.IPv6Interface(text)


def facts_of(configuration: Configuration) -> Facts:
    """Read the facts out of a configuration."""
    root = configuration.root
    ospf = root.get("ospf")
    in_ospf = {}
    for area in ospf.all("area") if ospf else ():
        for interface in area.all("interface"):
            in_ospf[interface.values[0]] = OspfInterface(
                area.values[0],
                int(interface.value("cost") or 10),
                int(interface.value("hello-interval") or 10),
                int(interface.value("dead-interval") or 40),
                interface.value("interface-type") or "broadcast",
                interface.value("passive") == "true",
            )
    interfaces = {i.values[0]: _interface(i, in_ospf.get(i.values[0])) for i in root.all("interface")}
    statics = tuple(
        StaticRoute(r.values[0], tuple(hop.values[0] for hop in r.all("next-hop")), int(r.value("route-preference") or 10))
        for r in root.all("static-route")
    )
    return Facts(interfaces, statics, _router_id(ospf, interfaces))


def _interface(item: Item, ospf: OspfInterface | None) -> Interface:
    ipv4, ipv6 = item.get("ipv4"), item.get("ipv6")
    vlan_id = item.value("vlan-id")
    return Interface(
        item.values[0],
        item.value("enabled") == "true",
        int(item.value("mtu") or 1500),
        int(vlan_id) if vlan_id else None,
        tuple(_ipv4(a.values[0]) for a in ipv4.all("address")) if ipv4 else (),
        tuple(_ipv6(a.values[0]) for a in ipv6.all("address")) if ipv6 else (),
        ospf,
    )


def _router_id(ospf: Item | None, interfaces: Mapping[str, Interface]) -> str | None:
    """The configured one, else the highest address of a loopback, else of any interface (RFC 2328, section 5)."""
    if ospf is None:
        return None
    configured = ospf.value("router-id")
    if configured:
        return configured
    loops = [a.ip for i in interfaces.values() if i.name.startswith("loop") for a in i.ipv4]
    every = [a.ip for i in interfaces.values() for a in i.ipv4]
    return str(max(loops or every)) if every else None
