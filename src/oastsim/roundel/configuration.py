"""A roundel's configuration: what holds between statements beyond the schema, and what it says of the
network."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator

from oastsim.facts import (
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
from oastsim.model import Data, Tree, Wrong
from oastsim.roundel.schema import SCHEMA
from oastsim.tree_facts import addresses, bgp_of, ospf_interfaces

OSPF, BGP, STATIC = "roundel-ospf:ospf", "roundel-bgp:bgp", "ietf-routing:static"
VLAN, LOOPBACK = "roundel-if-type:vlan", "roundel-if-type:loopback"
_PROTOCOLS = {"1": "icmp", "58": "icmp", "6": "tcp", "17": "udp", "89": "ospf"}


def empty() -> Tree:
    return Tree(SCHEMA)


def problems(tree: Tree, ports: frozenset[str]) -> Iterator[Wrong]:
    """Everything that keeps a candidate from being committed. `ports` are what the hardware has."""
    yield from tree.problems()
    holders: dict[str, str] = {}
    for (name,), interface in (tree.at("interfaces", "interface") or {}).items():
        path = f"/interfaces/interface[name='{name}']"
        yield from _kind_problems(name, interface, ports, path)
        for family in ("ipv4", "ipv6"):
            for (ip,), address in interface.get(family, {}).get("address", {}).items():
                if "prefix-length" not in address:
                    yield Wrong("prefix-length is missing", f"{path}/{family}/address[ip='{ip}']")
                if ip in holders:
                    yield Wrong(f"{ip} is in use on {holders[ip]}", f"{path}/{family}/address[ip='{ip}']")
                holders[ip] = name
    for (kind, name), protocol in _protocols(tree):
        path = f"/routing/control-plane-protocols/control-plane-protocol[type='{kind}'][name='{name}']"
        for part, expected in (("ospf", OSPF), ("bgp", BGP), ("static-routes", STATIC)):
            if part in protocol and kind != expected:
                yield Wrong(f"{part} is for protocols of the type {expected}", path)
    for kind in (OSPF, BGP):
        if sum(one == kind for (one, _), _ in _protocols(tree)) > 1:
            yield Wrong(f"there can be one protocol of the type {kind}", "/routing/control-plane-protocols")


def _kind_problems(name: str, interface: Data, ports: frozenset[str], path: str) -> Iterator[Wrong]:
    kind = interface.get("type")
    tagged = "parent-interface" in interface or "vlan-id" in interface
    if kind == VLAN:
        if name != f"{interface.get('parent-interface')}.{interface.get('vlan-id')}":
            yield Wrong(
                "an interface of one VLAN is called PARENT.VLAN after its parent-interface and vlan-id", path
            )
    elif tagged:
        yield Wrong(f"parent-interface and vlan-id are for interfaces of the type {VLAN}", path)
    if name.startswith("loop") != (kind == LOOPBACK):
        yield Wrong(f"interfaces called loop… are of the type {LOOPBACK}, and no others", path)
    if kind not in (VLAN, LOOPBACK) and name not in ports:
        yield Wrong(f"this device has no {name}", path)


def _protocols(tree: Tree) -> list[tuple[tuple[str, str], Data]]:
    found = (tree.at("routing", "control-plane-protocols", "control-plane-protocol") or {}).items()
    return [((keys[0], keys[1]), data) for keys, data in found]


def facts_of(tree: Tree) -> Facts:
    """What the configuration says of interfaces and routing."""
    protocols = _protocols(tree)
    ospf = next((data["ospf"] for (kind, _), data in protocols if kind == OSPF and "ospf" in data), None)
    bgp = next((data["bgp"] for (kind, _), data in protocols if kind == BGP and "bgp" in data), None)
    in_ospf = dict(ospf_interfaces(ospf)) if ospf is not None else {}
    interfaces = {
        name: _interface(name, data, in_ospf.get(name))
        for (name,), data in (tree.at("interfaces", "interface") or {}).items()
    }
    instances = {
        name: data
        for (name,), data in (tree.at("network-instances", "network-instance") or {}).items()
        if data.get("enabled", "true") == "true"
    }
    ntp = tree.at("system", "ntp") or {}
    asked = ntp.get("server", {}).values() if ntp.get("enabled", "true") == "true" else ()
    return Facts(
        (tree.at("system") or {}).get("hostname", "roundel"),
        interfaces,
        (
            *(route for (kind, _), data in protocols if kind == STATIC for route in _static(data)),
            *(route for name, data in instances.items() for route in _static_inside(data, name)),
        ),
        None if ospf is None else chosen_router_id(ospf.get("router-id"), interfaces),
        bgp=None if bgp is None else bgp_of(bgp, interfaces),
        ntp=tuple(
            NtpServer(one["udp"]["address"], one.get("prefer") == "true", int(one["udp"].get("port", 123)))
            for one in asked
            if _is_address(one.get("udp", {}).get("address", ""))
        ),
        instances=frozenset(instances),
    )


def _is_address(text: str) -> bool:
    """Names are looked up nowhere here."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True


def _static_inside(data: Data, instance: str) -> Iterator[StaticRoute]:
    for (prefix,), route in data.get("static-routes", {}).get("route", {}).items():
        yield StaticRoute(prefix, tuple(route.get("next-hop-address", ())), 10, instance)


def _static(data: Data) -> Iterator[StaticRoute]:
    for family in ("ipv4", "ipv6"):
        for (prefix,), route in data.get("static-routes", {}).get(family, {}).get("route", {}).items():
            hop = route.get("next-hop", {})
            listed = hop.get("next-hop-list", {}).get("next-hop", {}).values()
            hops = (
                [hop["next-hop-address"]]
                if "next-hop-address" in hop
                else [one.get("next-hop-address") for one in listed]
            )
            yield StaticRoute(
                prefix, tuple(one for one in hops if one), 10, discards=hop.get("special-next-hop")
            )


def _interface(name: str, data: Data, ospf: OspfInterface | None) -> Interface:
    return Interface(
        name,
        data.get("enabled", "true") == "true",
        int(data.get("ipv4", {}).get("mtu", data.get("ipv6", {}).get("mtu", 1500))),
        int(data["vlan-id"]) if "vlan-id" in data else None,
        tuple(ipv4_of(address) for address in _addresses(data, "ipv4")),
        tuple(ipv6_of(address) for address in _addresses(data, "ipv6")),
        ospf,
        instance=data.get("bind-ni-name", ""),
    )


def _addresses(data: Data, family: str) -> Iterator[str]:
    held = data.get(family, {})
    return addresses(held) if held.get("enabled", "true") == "true" else iter(())


def filters_of(tree: Tree) -> Filters:
    """What is let through. Of several lists at an interface the first decides."""
    lists = {
        name: tuple(_entry(ace) for ace in acl.get("aces", {}).get("ace", {}).values())
        for (name,), acl in (tree.at("acls", "acl") or {}).items()
    }
    points = (tree.at("acls", "attachment-points", "interface") or {}).items()

    def bound(way: str) -> dict[str, str]:
        return {
            name: sets[0][0]
            for (name,), data in points
            if (sets := list(data.get(way, {}).get("acl-sets", {}).get("acl-set", {})))
        }

    return Filters(lists, bound("ingress"), bound("egress"))


def _entry(ace: Data) -> Entry:
    matches = ace.get("matches", {})
    l3 = matches.get("ipv4", matches.get("ipv6", {}))
    family = "ipv4" if "ipv4" in matches else "ipv6"
    l4 = next((name for name in ("tcp", "udp", "icmp") if name in matches), None)
    ports = matches.get(l4, {}) if l4 in ("tcp", "udp") else {}
    return entry_of(
        ace.get("actions", {}).get("forwarding", ":drop").partition(":")[2],
        l4 or _PROTOCOLS.get(l3.get("protocol", ""), l3.get("protocol", "ip")),
        l3.get(f"source-{family}-network"),
        l3.get(f"destination-{family}-network"),
        _port_range(ports.get("source-port", {})),
        _port_range(ports.get("destination-port", {})),
    )


def _port_range(data: Data) -> str | None:
    if "port" in data:
        port = int(data["port"])
        return {"lte": f"0-{port}", "gte": f"{port}-65535"}.get(data.get("operator", "eq"), f"{port}-{port}")
    if "lower-port" in data:
        return f"{data['lower-port']}-{data.get('upper-port', data['lower-port'])}"
    return None
