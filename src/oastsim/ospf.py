"""OSPF's routes: shortest paths within each area, and between areas through the backbone (RFC 2328, section
16).

The same adjacencies carry both families of addresses, each over the links that have it (as RFC 5838 has it
for OSPFv3).
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from dataclasses import dataclass

import networkx

from oastsim.adjacency import Adjacencies
from oastsim.bridging import Bridging
from oastsim.facts import Interface
from oastsim.known import Known

BACKBONE = "0.0.0.0"  # noqa: S104  (an OSPF area, not an address to listen on)
FAMILIES = (4, 6)
AreaFamily = tuple[str, int]


@dataclass(frozen=True)
class Way:
    """A path through one area: its cost and how it leaves the device."""

    cost: int
    next_hop: str
    interface: str


@dataclass(frozen=True)
class _Hop:
    """The best of the links from one router to another."""

    cost: int
    interface: str
    next_hop: str


class Ospf:
    """All areas of the network. After a change, only what it reaches is computed again: `refresh` gets the
    touched devices, and the shortest paths of an area stay valid until a link in it changes."""

    def __init__(self, known: Known, bridging: Bridging, adjacencies: Adjacencies) -> None:
        self._known = known
        self._bridging = bridging
        self._adjacencies = adjacencies
        self._graphs: dict[AreaFamily, networkx.DiGraph] = {}
        self._stubs: dict[str, dict[AreaFamily, dict[str, int]]] = {}
        self._reached: dict[tuple[AreaFamily, str], dict[str, Way]] = {}
        # Counts what has changed of links, and of networks behind them.
        self.version = 0

    def refresh(self, devices: set[str]) -> None:
        """Look again at the links and networks of `devices`."""
        for name in devices & self._known.facts.keys():
            hops, stubs = self._links(name), self._networks(name)
            for key in {*hops, *(key for key, graph in self._graphs.items() if name in graph)}:
                self._put(key, name, hops.get(key, {}))
            if stubs != self._stubs.get(name, {}):
                self._stubs[name] = stubs
                self.version += 1

    def _put(self, key: AreaFamily, name: str, hops: dict[str, _Hop]) -> None:
        graph = self._graphs.setdefault(key, networkx.DiGraph())
        present = {other: data["hop"] for other, data in graph.adj[name].items()} if name in graph else {}
        if present == hops:
            return
        graph.remove_edges_from([(name, other) for other in present])
        graph.add_node(name)
        graph.add_edges_from((name, other, {"hop": hop, "weight": hop.cost}) for other, hop in hops.items())
        self._reached = {at: ways for at, ways in self._reached.items() if at[0] != key}
        self.version += 1

    def _links(self, name: str) -> dict[AreaFamily, dict[str, _Hop]]:
        found: dict[AreaFamily, dict[str, _Hop]] = {}
        if not self._known.alive.get(name, False) or self._known.facts[name].router_id is None:
            return found
        interfaces = self._known.facts[name].interfaces
        for neighbor in self._adjacencies.neighbors(name):
            own = interfaces[neighbor.interface]
            peer = self._known.facts[neighbor.device].interfaces.get(neighbor.port)
            if own.ospf is None or neighbor.state != "full" or peer is None:
                continue
            for family in FAMILIES:
                address = neighbor.address if family == 4 else _shared_ipv6(own, peer)
                if address is None:
                    continue
                hops = found.setdefault((own.ospf.area, family), {})
                hop = _Hop(own.ospf.cost, own.name, address)
                present = hops.get(neighbor.device)
                if present is None or (hop.cost, hop.interface) < (present.cost, present.interface):
                    hops[neighbor.device] = hop
        return found

    def _networks(self, name: str) -> dict[AreaFamily, dict[str, int]]:
        found: dict[AreaFamily, dict[str, int]] = {}
        if not self._known.alive.get(name, False) or self._known.facts[name].router_id is None:
            return found
        for interface in self._known.facts[name].interfaces.values():
            if interface.ospf is None or interface.instance or not self._bridging.up(name, interface.name):
                continue
            # A loopback is a host route at no cost of its own (RFC 2328, section 12.4.1).
            cost = 0 if interface.name.startswith("loop") else interface.ospf.cost
            for address in interface.addresses:
                stubs = found.setdefault((interface.ospf.area, address.version), {})
                prefix = str(address.network)
                stubs[prefix] = min(cost, stubs.get(prefix, cost))
        return found

    # --- routes
    # -------------------------------------------------------------------------------------------------------

    def routes(self, device: str) -> Iterator[tuple[str, Way]]:
        """Every prefix that OSPF knows a way to from `device`: within an area before between areas."""
        facts = self._known.facts[device]
        if facts.router_id is None:
            return
        own = {str(a.network) for i in facts.interfaces.values() if not i.instance for a in i.addresses}
        for family in FAMILIES:
            for prefix, way in self._family(device, family).items():
                if prefix not in own:
                    yield prefix, way

    def _family(self, device: str, family: int) -> dict[str, Way]:
        ways: dict[str, Way] = {}
        areas = self._areas(device)
        for area in areas:
            for prefix, way in self._within(device, (area, family)).items():
                if prefix not in ways or way.cost < ways[prefix].cost:
                    ways[prefix] = way
        between: dict[str, Way] = {}
        for area in [BACKBONE] if BACKBONE in areas else areas:
            for prefix, way in self._summaries(device, (area, family)).items():
                if prefix not in ways and (prefix not in between or way.cost < between[prefix].cost):
                    between[prefix] = way
        return {**between, **ways}

    def _areas(self, device: str) -> list[str]:
        return sorted({i.ospf.area for i in self._known.facts[device].interfaces.values() if i.ospf})

    def _routers(self, device: str, key: AreaFamily) -> dict[str, Way]:
        """The shortest way to every router of the area (RFC 2328, section 16.1)."""
        present = self._reached.get((key, device))
        if present is not None:
            return present
        graph = self._graphs.get(key)
        found = {device: Way(0, "-", "-")}
        if graph is not None and device in graph:
            costs, paths = networkx.single_source_dijkstra(graph, device)
            for name, cost in costs.items():
                if name != device:
                    first: _Hop = graph[device][paths[name][1]]["hop"]
                    found[name] = Way(cost, first.next_hop, first.interface)
        self._reached[key, device] = found
        return found

    def _within(self, device: str, key: AreaFamily) -> dict[str, Way]:
        found: dict[str, Way] = {}
        for name, way in self._routers(device, key).items():
            for prefix, cost in self._stubs.get(name, {}).get(key, {}).items():
                if prefix not in found or way.cost + cost < found[prefix].cost:
                    found[prefix] = Way(way.cost + cost, way.next_hop, way.interface)
        return found

    def _summaries(self, device: str, key: AreaFamily) -> dict[str, Way]:
        """What the border routers of an area announce into it (RFC 2328, sections 12.4.3 and 16.2)."""
        found: dict[str, Way] = {}
        area = key[0]
        for border, way in self._routers(device, key).items():
            areas = self._areas(border)
            if (border == device and area != BACKBONE) or BACKBONE not in areas or len(areas) < 2:
                continue
            for prefix, cost in self._announced(border, key).items():
                if border != device and (prefix not in found or way.cost + cost < found[prefix].cost):
                    found[prefix] = Way(way.cost + cost, way.next_hop, way.interface)
        return found

    def _announced(self, border: str, into: AreaFamily) -> dict[str, int]:
        """Into the backbone: what the border reaches in its own areas. Into another area: that, and the
        backbone's own summaries."""
        announced: dict[str, int] = {}
        area_into, family = into
        for area in self._areas(border):
            if area != area_into:
                for prefix, way in self._within(border, (area, family)).items():
                    announced[prefix] = min(way.cost, announced.get(prefix, way.cost))
        if area_into != BACKBONE:
            for prefix, way in self._summaries(border, (BACKBONE, family)).items():
                announced.setdefault(prefix, way.cost)
        return announced


def _shared_ipv6(own: Interface, peer: Interface) -> str | None:
    """The peer's address in a subnet that both ends have."""
    networks = {address.network for address in own.ipv6}
    return next((str(ipaddress.IPv6Address(a.ip)) for a in peer.ipv6 if a.network in networks), None)
