"""Routing tables: what is connected, static routes, OSPF's and BGP's, one table for each network instance
(RFC 8349, RFC 8529)."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache

import radix

from oastsim.bridging import Bridging
from oastsim.facts import Address
from oastsim.known import Known
from oastsim.ospf import Ospf

# The lower one is taken (RFC 8349, section 5.2); BGP's are those of other AS and of one's own.
PREFERENCE = {"direct": 0, "static": 10, "ospf": 30, "bgp": 60, "bgp-internal": 90}


@dataclass(frozen=True)
class Route:
    """`source` is direct, static, ospf or bgp; `next_hop` is "-" for what is connected; `instance` is "" for
    the device's own table. `discards` says how packets end here; the interface is "-" then."""

    prefix: str
    source: str
    next_hop: str
    interface: str
    metric: int
    instance: str = ""
    discards: str | None = None


Candidate = tuple[int, Route]


class Table:
    """The active routes of one network instance of a device."""

    def __init__(self, candidates: Iterable[Candidate]) -> None:
        best: dict[str, Candidate] = {}
        for preference, route in candidates:
            present = best.get(route.prefix)
            if present is None or preference < present[0]:
                best[route.prefix] = (preference, route)
        self._tree = radix.Radix()
        for _, route in best.values():
            self._tree.add(route.prefix).data["route"] = route
        self.candidates = tuple(best.values())
        self.routes = sorted((route for _, route in best.values()), key=lambda route: _order(route.prefix))

    def best(self, destination: Address) -> Route | None:
        """The route with the longest prefix (RFC 1812, section 5.2.4.3)."""
        node = self._tree.search_best(str(destination))
        found: Route | None = node.data["route"] if node is not None else None
        return found

    def exact(self, prefix: str) -> Route | None:
        """The route to just this prefix."""
        node = self._tree.search_exact(prefix)
        found: Route | None = node.data["route"] if node is not None else None
        return found


# The prefixes of a network stand in the tables of all its devices.
@lru_cache(maxsize=65536)
def _order(prefix: str) -> tuple[int, int, int]:
    network = ipaddress.ip_network(prefix)
    return network.version, int(network.network_address), network.prefixlen


class Tables:
    """Tables without BGP: what its sessions themselves are carried by. Each holds until something of the
    device or of OSPF changes."""

    def __init__(self, known: Known, bridging: Bridging, ospf: Ospf) -> None:
        self._known = known
        self._bridging = bridging
        self._ospf = ospf
        self._made: dict[tuple[str, str], tuple[tuple[int, int], Table]] = {}

    def version(self, device: str) -> tuple[int, int]:
        """Another one as soon as the tables of a device may be others."""
        return self._known.touched.get(device, 0), self._ospf.version

    def of(self, device: str, instance: str = "") -> Table:
        """The table of a network instance."""
        version = self.version(device)
        present = self._made.get((device, instance))
        if present is None or present[0] != version:
            present = self._made[device, instance] = version, Table(self._candidates(device, instance))
        return present[1]

    def _candidates(self, device: str, instance: str) -> Iterator[Candidate]:
        direct = list(self._direct(device, instance))
        yield from ((PREFERENCE["direct"], route) for route in direct)
        for static in self._known.facts[device].static_routes:
            if static.discards is not None and static.instance == instance:
                yield (
                    static.preference,
                    Route(static.prefix, "static", "-", "-", 0, instance, static.discards),
                )
            # Active while one of its next hops is on a connected network.
            for hop in static.next_hops if static.instance == instance else ():
                via = next(
                    (d for d in direct if ipaddress.ip_address(hop) in ipaddress.ip_network(d.prefix)), None
                )
                if via is not None:
                    yield static.preference, Route(static.prefix, "static", hop, via.interface, 0, instance)
                    break
        if not instance:
            for prefix, way in self._ospf.routes(device):
                yield PREFERENCE["ospf"], Route(prefix, "ospf", way.next_hop, way.interface, way.cost)

    def _direct(self, device: str, instance: str) -> Iterator[Route]:
        for interface in self._known.facts[device].interfaces.values():
            if interface.instance == instance and self._bridging.up(device, interface.name):
                for address in interface.addresses:
                    yield Route(str(address.network), "direct", "-", interface.name, 0, instance)
