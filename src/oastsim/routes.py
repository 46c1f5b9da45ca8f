"""Routing tables: what is connected, static routes, and OSPF's shortest paths within and between areas (RFC 2328, section 16)."""

from __future__ import annotations

import heapq
import ipaddress
from collections.abc import Iterable
from dataclasses import dataclass

from oastsim.state import NetworkState

BACKBONE = "0.0.0.0"  # noqa: S104  (an OSPF area, not an address to listen on)
PREFERENCE = {"direct": 0, "static": 10, "ospf": 30}


@dataclass(frozen=True)
class Route:
    """`source` is direct, static or ospf; `next_hop` is "-" for what is connected."""

    prefix: str
    source: str
    next_hop: str
    interface: str
    metric: int


@dataclass(frozen=True)
class _Way:
    """A path through one area: its cost and how it leaves the device."""

    cost: int
    next_hop: str
    interface: str


def routes(state: NetworkState, device: str) -> list[Route]:
    """The active routes of a device, one for each prefix, in the order of the prefixes."""
    best: dict[str, tuple[int, Route]] = {}
    direct = list(_direct(state, device))
    ospf = _Ospf(state).routes(device) if state.facts(device).router_id else []
    for preference, route in (
        *((PREFERENCE["direct"], route) for route in direct),
        *_static(state, device, direct),
        *((PREFERENCE["ospf"], route) for route in ospf),
    ):
        present = best.get(route.prefix)
        if present is None or preference < present[0]:
            best[route.prefix] = (preference, route)
    return sorted((route for _, route in best.values()), key=_order)


def _order(route: Route) -> tuple[int, int, int]:
    network = ipaddress.ip_network(route.prefix)
    return network.version, int(network.network_address), network.prefixlen


def _direct(state: NetworkState, device: str) -> Iterable[Route]:
    for interface in state.facts(device).interfaces.values():
        if state.oper_up(device, interface.name):
            for address in interface.addresses:
                yield Route(str(address.network), "direct", "-", interface.name, 0)


def _static(state: NetworkState, device: str, direct: list[Route]) -> Iterable[tuple[int, Route]]:
    """A static route is active while one of its next hops is on a connected network."""
    for route in state.facts(device).static_routes:
        for hop in route.next_hops:
            via = next((d for d in direct if ipaddress.ip_address(hop) in ipaddress.ip_network(d.prefix)), None)
            if via is not None:
                yield route.preference, Route(route.prefix, "static", hop, via.interface, 0)
                break


class _Ospf:
    """All areas of the network at one moment."""

    def __init__(self, state: NetworkState) -> None:
        self._state = state
        self._names = [name for name in state.names() if state.facts(name).router_id]
        self._full = {name: [n for n in state.neighbors(name) if n.state == "full"] for name in self._names}

    def routes(self, device: str) -> list[Route]:
        """Intra-area routes first, then those between areas through the backbone."""
        ways: dict[str, _Way] = {}
        areas = self._areas(device)
        for area in areas:
            for prefix, way in self._within(device, area).items():
                if prefix not in ways or way.cost < ways[prefix].cost:
                    ways[prefix] = way
        between: dict[str, _Way] = {}
        for area in [BACKBONE] if BACKBONE in areas else areas:
            for prefix, way in self._summaries(device, area).items():
                if prefix not in ways and (prefix not in between or way.cost < between[prefix].cost):
                    between[prefix] = way
        own = {str(a.network) for i in self._state.facts(device).interfaces.values() for a in i.ipv4}
        every = {**between, **ways}
        return [Route(p, "ospf", w.next_hop, w.interface, w.cost) for p, w in every.items() if p not in own]

    def _areas(self, device: str) -> list[str]:
        return sorted({i.ospf.area for i in self._state.facts(device).interfaces.values() if i.ospf})

    def _reached(self, device: str, area: str) -> dict[str, _Way]:
        """The shortest way to every router of the area (Dijkstra; RFC 2328, section 16.1)."""
        reached: dict[str, _Way] = {}
        queue: list[tuple[int, str, str, str]] = [(0, device, "-", "-")]
        while queue:
            cost, name, hop, out = heapq.heappop(queue)
            if name in reached:
                continue
            reached[name] = _Way(cost, hop, out)
            interfaces = self._state.facts(name).interfaces
            for neighbor in self._full.get(name, ()):
                ospf = interfaces[neighbor.interface].ospf
                if ospf is not None and ospf.area == area and neighbor.device not in reached:
                    first = (neighbor.address, neighbor.interface) if name == device else (hop, out)
                    heapq.heappush(queue, (cost + ospf.cost, neighbor.device, *first))
        return reached

    def _within(self, device: str, area: str) -> dict[str, _Way]:
        found: dict[str, _Way] = {}
        for name, way in self._reached(device, area).items():
            for interface in self._state.facts(name).interfaces.values():
                if interface.ospf is None or interface.ospf.area != area or not self._state.oper_up(name, interface.name):
                    continue
                # A loopback is a host route at no cost of its own (RFC 2328, section 12.4.1).
                cost = way.cost + (0 if interface.name.startswith("loop") else interface.ospf.cost)
                for address in interface.ipv4:
                    prefix = str(address.network)
                    if prefix not in found or cost < found[prefix].cost:
                        found[prefix] = _Way(cost, way.next_hop, way.interface)
        return found

    def _summaries(self, device: str, area: str) -> dict[str, _Way]:
        """What the border routers of `area` announce into it (RFC 2328, sections 12.4.3 and 16.2)."""
        found: dict[str, _Way] = {}
        for border, way in self._reached(device, area).items():
            areas = self._areas(border)
            if (border == device and area != BACKBONE) or BACKBONE not in areas or len(areas) < 2:
                continue
            for prefix, cost in self._announced(border, area).items():
                if border != device and (prefix not in found or way.cost + cost < found[prefix].cost):
                    found[prefix] = _Way(way.cost + cost, way.next_hop, way.interface)
        return found

    def _announced(self, border: str, into: str) -> dict[str, int]:
        """Into the backbone: what the border reaches in its own areas. Into another area: that, and the backbone's own summaries."""
        announced: dict[str, int] = {}
        for area in self._areas(border):
            if area != into:
                for prefix, way in self._within(border, area).items():
                    announced[prefix] = min(way.cost, announced.get(prefix, way.cost))
        if into != BACKBONE:
            for prefix, way in self._summaries(border, BACKBONE).items():
                announced.setdefault(prefix, way.cost)
        return announced
