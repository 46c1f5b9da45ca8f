"""What a bine configuration says about interfaces and routing, as plain records for the state of
the network."""

from __future__ import annotations

from collections.abc import Iterator

from oastsim.bine.configuration import Configuration, Item
from oastsim.facts import (
    Bgp,
    BgpNeighbor,
    Entry,
    Facts,
    Filters,
    Interface,
    NtpServer,
    OspfInterface,
    StaticRoute,
    chosen_router_id,
    entry_of,
    ipv4_of,
    ipv6_of,
)


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
    instances = {i.values[0]: i for i in root.all("network-instance")}
    statics = (
        *_statics(root, ""),
        *(route for name, item in instances.items() for route in _statics(item, name)),
    )
    router_id = None if ospf is None else chosen_router_id(ospf.value("router-id"), interfaces)
    system = root.get("system")
    hostname = (system.value("hostname") if system else None) or "bine"
    bgp, ntp = root.get("bgp"), root.get("ntp")
    servers = tuple(
        NtpServer(s.values[0], s.value("prefer") == "true", int(s.value("port") or 123))
        for s in (ntp.all("server") if ntp else ())
    )
    return Facts(
        hostname,
        interfaces,
        statics,
        router_id,
        bgp=_bgp(bgp, interfaces) if bgp is not None else None,
        ntp=servers,
        ntp_source=ntp.value("source-interface") if ntp else None,
        instances=frozenset(instances),
    )


def _statics(item: Item, instance: str) -> Iterator[StaticRoute]:
    for route in item.all("static-route"):
        hops = tuple(hop.values[0] for hop in route.all("next-hop"))
        yield StaticRoute(route.values[0], hops, int(route.value("route-preference") or 10), instance)


def _bgp(item: Item, interfaces: dict[str, Interface]) -> Bgp | None:
    number = item.value("as")
    if number is None:
        return None
    neighbors = {
        n.values[0]: BgpNeighbor(
            int(peer_as),
            n.value("local-address"),
            n.value("enabled") == "true",
            int(n.value("hold-time") or 90),
        )
        for n in item.all("neighbor")
        if (peer_as := n.value("peer-as")) is not None
    }
    identifier = chosen_router_id(item.value("identifier"), interfaces) or "-"
    return Bgp(int(number), identifier, tuple(n.values[0] for n in item.all("network")), neighbors)


def _interface(item: Item, ospf: OspfInterface | None) -> Interface:
    ipv4, ipv6 = item.get("ipv4"), item.get("ipv6")
    vlan_id = item.value("vlan-id")
    return Interface(
        item.values[0],
        item.value("enabled") == "true",
        int(item.value("mtu") or 1500),
        int(vlan_id) if vlan_id else None,
        tuple(ipv4_of(a.values[0]) for a in ipv4.all("address")) if ipv4 else (),
        tuple(ipv6_of(a.values[0]) for a in ipv6.all("address")) if ipv6 else (),
        ospf,
        instance=item.value("network-instance") or "",
    )


def filters_of(configuration: Configuration) -> Filters:
    """Read out of a configuration what is let through."""
    root = configuration.root
    lists = {acl.values[0]: tuple(_entry(ace.values) for ace in acl.all("ace")) for acl in root.all("acl")}
    bound: dict[str, dict[str, str]] = {"ingress-acl": {}, "egress-acl": {}}
    for interface in root.all("interface"):
        for word, by_name in bound.items():
            name = interface.value(word)
            if name is not None:
                by_name[interface.values[0]] = name
    return Filters(lists, bound["ingress-acl"], bound["egress-acl"])


def _entry(words: tuple[str, ...]) -> Entry:
    """`ACTION PROTOCOL`, then pairs of a word and its value; `log` stands alone."""
    given = dict(zip(*[iter(word for word in words[2:] if word != "log")] * 2, strict=True))
    return entry_of(
        words[0],
        words[1],
        given.get("source-network"),
        given.get("destination-network"),
        given.get("source-port"),
        given.get("destination-port"),
    )
