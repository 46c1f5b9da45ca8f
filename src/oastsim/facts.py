"""What a device's configuration says about interfaces, switching and routing, whatever system it runs."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


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
class Switching:
    """A switch's port (IEEE 802.1Q): in one VLAN without a tag, or in those `allowed` with one."""

    vlan: int | None
    allowed: frozenset[int] = frozenset()


@dataclass(frozen=True)
class VirtualAddress:
    """An address that several routers on a link share: the one with the highest `priority` answers (RFC
    9568)."""

    vrid: int
    address: str
    priority: int = 100


@dataclass(frozen=True)
class Interface:
    """`vlan_id` is the tag of a sub-interface, or the VLAN that an interface of a switch stands in;
    `aggregate` is the interface that a port is a member of (IEEE 802.1AX); `instance` is the network instance
    it is bound to (RFC 8529), "" the device's own."""

    name: str
    enabled: bool
    mtu: int
    vlan_id: int | None
    ipv4: tuple[ipaddress.IPv4Interface, ...]
    ipv6: tuple[ipaddress.IPv6Interface, ...]
    ospf: OspfInterface | None
    switching: Switching | None = None
    aggregate: str | None = None
    instance: str = ""
    virtual: tuple[VirtualAddress, ...] = ()

    @cached_property
    def ips(self) -> tuple[Address, ...]:
        """Its addresses without their lengths."""
        return tuple(address.ip for address in self.addresses)

    @property
    def addresses(self) -> list[ipaddress.IPv4Interface | ipaddress.IPv6Interface]:
        return [*self.ipv4, *self.ipv6]

    @property
    def port(self) -> str:
        return self.name.split(".")[0]


@dataclass(frozen=True)
class StaticRoute:
    """`discards` is how packets are done away with instead (RFC 8349, special-next-hop): blackhole,
    unreachable, prohibit or receive."""

    prefix: str
    next_hops: tuple[str, ...]
    preference: int
    instance: str = ""
    discards: str | None = None


@dataclass(frozen=True)
class BgpNeighbor:
    """Another speaker (RFC 4271): its expected AS, the address that the session is opened from, and how long
    it may be silent."""

    peer_as: int
    local_address: str | None = None
    enabled: bool = True
    hold_time_s: int = 90


@dataclass(frozen=True)
class Bgp:
    """A speaker: `neighbors` by their addresses; `networks` are announced while they are in the routing
    table, or `always`."""

    as_number: int
    identifier: str
    networks: tuple[str, ...] = ()
    neighbors: Mapping[str, BgpNeighbor] = field(default_factory=dict)
    always: bool = False


@dataclass(frozen=True)
class NtpServer:
    """A clock that is asked for the time (RFC 9249)."""

    address: str
    prefer: bool = False
    port: int = 123


@dataclass(frozen=True)
class Pair:
    """Two switches that stand for each other: whom this one takes for its `partner`, and the interface that
    leads there."""

    partner: str
    link: str


@dataclass(frozen=True)
class Entry:
    """An entry of an access list (RFC 8519, section 4): None is any. Ports are low and high."""

    forwarding: str
    protocol: str
    source: Network | None
    destination: Network | None
    source_ports: tuple[int, int] | None
    destination_ports: tuple[int, int] | None


@dataclass(frozen=True)
class Filters:
    """Access lists by name, and the one that each interface has for what comes in and for what goes out."""

    lists: Mapping[str, tuple[Entry, ...]] = field(default_factory=dict)
    ingress: Mapping[str, str] = field(default_factory=dict)
    egress: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Facts:
    """All facts of one device; `router_id` is None without OSPF. `vlans` are number to name;
    `bridge_priority` is None where no spanning tree runs (IEEE 802.1Q, section 13). `ntp_source` is the
    interface that clocks are asked from; `stratum` is the device's own stratum for others (RFC 5905), None
    where it is not a clock."""

    hostname: str
    interfaces: Mapping[str, Interface]
    static_routes: tuple[StaticRoute, ...]
    router_id: str | None
    vlans: Mapping[int, str] = field(default_factory=dict)
    bridge_priority: int | None = None
    bgp: Bgp | None = None
    ntp: tuple[NtpServer, ...] = ()
    ntp_source: str | None = None
    stratum: int | None = None
    pair: Pair | None = None
    instances: frozenset[str] = frozenset()

    @cached_property
    def holders(self) -> Mapping[tuple[str, Address], tuple[Interface, ...]]:
        """The interfaces that have an address, by their network instance and the address."""
        found: dict[tuple[str, Address], tuple[Interface, ...]] = {}
        for interface in self.interfaces.values():
            for ip in interface.ips:
                found[interface.instance, ip] = (*found.get((interface.instance, ip), ()), interface)
        return found

    @cached_property
    def sharing(self) -> tuple[Interface, ...]:
        """The interfaces with virtual addresses."""
        return tuple(interface for interface in self.interfaces.values() if interface.virtual)

    @property
    def switches(self) -> bool:
        """Whether frames may come in at one port and go out at another."""
        return bool(self.vlans)


# The same few addresses are looked at again with every line.
@lru_cache(maxsize=65536)
def ipv4_of(text: str) -> ipaddress.IPv4Interface:
    return ipaddress.IPv4Interface(text)


@lru_cache(maxsize=65536)
def ipv6_of(text: str) -> ipaddress.IPv6Interface:
    return ipaddress.IPv6Interface(text)


def chosen_router_id(configured: str | None, interfaces: Mapping[str, Interface]) -> str | None:
    """The configured one, else the highest address of a loopback, else of any interface (RFC 2328, section
    5)."""
    if configured:
        return configured
    loops = [a.ip for i in interfaces.values() if i.name.startswith("loop") for a in i.ipv4]
    every = [a.ip for i in interfaces.values() for a in i.ipv4]
    return str(max(loops or every)) if every else None


@lru_cache(maxsize=65536)
def entry_of(
    forwarding: str,
    protocol: str,
    source: str | None,
    destination: str | None,
    source_ports: str | None,
    destination_ports: str | None,
) -> Entry:
    """An entry from its words; a port is `80` or `1000-2000`."""
    return Entry(
        forwarding,
        protocol,
        _network(source),
        _network(destination),
        _ports(source_ports),
        _ports(destination_ports),
    )


def _network(text: str | None) -> Network | None:
    return None if text is None or text == "any" else ipaddress.ip_network(text)


def _ports(text: str | None) -> tuple[int, int] | None:
    if text is None:
        return None
    low, _, high = text.partition("-")
    return int(low), int(high or low)
