"""A cowl device's configuration: what holds between statements beyond the schema, and what it says of the
network."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping

from oastsim.cowl.schema import SCHEMA
from oastsim.facts import (
    Entry,
    Facts,
    Filters,
    Interface,
    NtpServer,
    OspfInterface,
    Pair,
    StaticRoute,
    Switching,
    VirtualAddress,
    chosen_router_id,
    entry_of,
    ipv4_of,
    ipv6_of,
)
from oastsim.model import Data, Tree, Wrong
from oastsim.tree_facts import addresses, bgp_of, ospf_interfaces


def empty() -> Tree:
    return Tree(SCHEMA)


def problems(tree: Tree, ports: frozenset[str]) -> Iterator[Wrong]:
    """Everything that keeps a candidate from being committed. `ports` are what the hardware has."""
    yield from tree.problems()
    entries = tree.at("interfaces", "interface") or {}
    holders: dict[str, str] = {}
    for (name,), interface in entries.items():
        path = f"/interfaces/interface[name={name}]"
        if name.startswith(("port", "manage")) and name not in ports:
            yield Wrong(f"this device has no {name}", path)
        switched = interface.get("switched-vlan")
        if switched is not None and not name.startswith(("port", "bundle")):
            yield Wrong("only ports and bundles switch", path + "/switched-vlan")
        if "aggregate" in interface:
            if not name.startswith("port") or not interface["aggregate"].startswith("bundle"):
                yield Wrong("ports are members of bundles, and nothing else is", path + "/aggregate")
            if switched is not None or "ipv4" in interface or "ipv6" in interface:
                yield Wrong("a member of a bundle has no addresses and no VLANs of its own", path)
        if switched is not None and ("ipv4" in interface or "ipv6" in interface):
            yield Wrong("a port that switches has no addresses; give them to vlan interfaces", path)
        if name.startswith("vlan") and (tree.at("vlans", "vlan") or {}).get((name[4:],)) is None:
            yield Wrong(f"there is no vlan {name[4:]}", path)
        for family in ("ipv4", "ipv6"):
            for (ip,), address in interface.get(family, {}).get("address", {}).items():
                where = f"{path}/{family}/address[ip={ip}]"
                if "prefix-length" not in address:
                    yield Wrong("prefix-length is missing", where)
                if ip in holders:
                    yield Wrong(f"{ip} is in use on {holders[ip]}", where)
                holders[ip] = name
            yield from _virtual_problems(interface.get(family, {}), f"{path}/{family}")
    yield from _pair_problems(tree)
    for (name,), acl in (tree.at("acls", "acl") or {}).items():
        for (ace,), rules in acl.get("ace", {}).items():
            if "forwarding" not in rules:
                yield Wrong("forwarding is missing", f"/acls/acl[name={name}]/ace[name={ace}]")
    for (user,), account in (tree.at("users", "user") or {}).items():
        for (key,), data in account.get("authorized-key", {}).items():
            if "algorithm" not in data or "key-data" not in data:
                yield Wrong(
                    "algorithm and key-data are needed",
                    f"/users/user[name={user}]/authorized-key[name={key}]",
                )


def _virtual_problems(family: Data, path: str) -> Iterator[Wrong]:
    networks = [ipaddress.ip_interface(address).network for address in addresses(family)]
    for (vrid,), virtual in family.get("vrrp-instance", {}).items():
        where = f"{path}/vrrp-instance[vrid={vrid}]"
        if "virtual-address" not in virtual:
            yield Wrong("virtual-address is missing", where)
        elif not any(ipaddress.ip_address(virtual["virtual-address"]) in network for network in networks):
            yield Wrong(f"{virtual['virtual-address']} is in no network of the interface", where)


def _pair_problems(tree: Tree) -> Iterator[Wrong]:
    pair = tree.at("pair")
    if pair is not None:
        for name in ("partner", "link"):
            if name not in pair:
                yield Wrong(f"{name} is missing", "/pair")
    bgp = tree.at("bgp")
    if bgp is not None and "as" not in bgp:
        yield Wrong("as is missing", "/bgp")
    for (address,), neighbor in (bgp or {}).get("neighbor", {}).items():
        if "peer-as" not in neighbor:
            yield Wrong("peer-as is missing", f"/bgp/neighbor[remote-address={address}]")


def facts_of(tree: Tree) -> Facts:
    """What the configuration says of interfaces, switching and routing."""
    ospf = tree.at("ospf")
    in_ospf = dict(ospf_interfaces(ospf)) if ospf is not None else {}
    interfaces = {
        name: _interface(name, data, in_ospf.get(name))
        for (name,), data in (tree.at("interfaces", "interface") or {}).items()
    }
    instances = {
        name: data for (name,), data in (tree.at("network-instances", "network-instance") or {}).items()
    }
    tables = {"": tree.at("routing") or {}, **instances}
    statics = tuple(route for name, data in tables.items() for route in _statics(data, name))
    ntp, pair, bgp = tree.at("ntp") or {}, tree.at("pair"), tree.at("bgp")
    vlans = {
        int(number): vlan.get("name", "") for (number,), vlan in (tree.at("vlans", "vlan") or {}).items()
    }
    spanning = tree.at("spanning-tree") or {}
    return Facts(
        (tree.at("system") or {}).get("hostname", "cowl"),
        interfaces,
        statics,
        None if ospf is None else chosen_router_id(ospf.get("router-id"), interfaces),
        vlans,
        int(spanning.get("bridge-priority", 32768)) if spanning.get("enabled", "true") == "true" else None,
        bgp=None if bgp is None else bgp_of(bgp, interfaces),
        ntp=tuple(
            NtpServer(address, server.get("prefer") == "true", int(server.get("port", 123)))
            for (address,), server in ntp.get("server", {}).items()
        ),
        ntp_source=ntp.get("source-interface"),
        pair=None if pair is None else Pair(pair["partner"], pair["link"]),
        instances=frozenset(instances),
    )


def _statics(data: Data, instance: str) -> Iterator[StaticRoute]:
    for (prefix,), route in data.get("static-route", {}).items():
        yield StaticRoute(prefix, tuple(route["next-hop"]), int(route.get("route-preference", 10)), instance)


def _virtual(data: Data) -> Iterator[VirtualAddress]:
    for family in ("ipv4", "ipv6"):
        for (vrid,), one in data.get(family, {}).get("vrrp-instance", {}).items():
            yield VirtualAddress(int(vrid), one["virtual-address"], int(one.get("priority", 100)))


def _interface(name: str, data: Data, ospf: OspfInterface | None) -> Interface:
    switched = data.get("switched-vlan")
    switching = None
    if switched is not None:
        trunk = switched.get("interface-mode", "access") == "trunk"
        vlan = switched.get("access-vlan")
        allowed = frozenset(map(int, switched.get("trunk-vlan", ()))) if trunk else frozenset()
        switching = Switching(int(vlan) if vlan and not trunk else None, allowed)
    return Interface(
        name,
        data.get("enabled", "true") == "true",
        int(data.get("mtu", 1500)),
        int(name[4:]) if name.startswith("vlan") else None,
        tuple(ipv4_of(address) for address in addresses(data.get("ipv4", {}))),
        tuple(ipv6_of(address) for address in addresses(data.get("ipv6", {}))),
        ospf,
        switching,
        data.get("aggregate"),
        data.get("network-instance", ""),
        tuple(_virtual(data)),
    )


def filters_of(tree: Tree) -> Filters:
    """What is let through."""
    lists: Mapping[str, tuple[Entry, ...]] = {
        name: tuple(_entry(ace) for ace in acl.get("ace", {}).values())
        for (name,), acl in (tree.at("acls", "acl") or {}).items()
    }
    interfaces = tree.at("interfaces", "interface") or {}
    ingress = {name: data["ingress-acl"] for (name,), data in interfaces.items() if "ingress-acl" in data}
    egress = {name: data["egress-acl"] for (name,), data in interfaces.items() if "egress-acl" in data}
    return Filters(lists, ingress, egress)


def _entry(ace: Data) -> Entry:
    return entry_of(
        ace["forwarding"],
        ace.get("protocol", "ip"),
        ace.get("source-network"),
        ace.get("destination-network"),
        ace.get("source-port"),
        ace.get("destination-port"),
    )
