"""OSPF neighbours: who hears whose hellos, since when, and who is still listed though nothing is heard any
more (RFC 2328)."""

from __future__ import annotations

from dataclasses import dataclass

from oastsim.bridging import Bridging
from oastsim.facts import Interface
from oastsim.known import End, Known

Pair = tuple[End, End]


@dataclass(frozen=True)
class Neighbor:
    """An OSPF neighbour on an interface; `state` as in RFC 2328, section 10.1. `device` and `port` are where
    it is."""

    interface: str
    router_id: str
    address: str
    state: str
    device: str
    port: str


class Adjacencies:
    """The adjacencies of the whole network. `settle` is called with the devices that a change touches."""

    def __init__(self, known: Known, bridging: Bridging) -> None:
        self._known = known
        self._bridging = bridging
        self._since: dict[Pair, float] = {}
        self._pairs: dict[str, set[Pair]] = {}
        # Neighbours that will be missed only when their hellos have been missing for the dead interval.
        self._unheard: dict[Pair, tuple[float, Neighbor]] = {}
        self._last: dict[Pair, Neighbor] = {}

    def settle(self, touched: set[str]) -> None:
        """See who has become whose neighbour, and who no longer is."""
        now = self._known.clock()
        for device in touched:
            if device not in self._known.facts:
                continue
            for interface, other, peer in self._adjacent_to(device):
                pair = (device, interface.name), (other, peer.name)
                if pair not in self._since:
                    self._since[pair] = now
                    self._known.later(now + self._known.convergence_s, device)
                self._pairs.setdefault(device, set()).add(pair)
                self._last[pair] = self._neighbor(interface, other, peer, "full")
        self._forget(touched)

    def _adjacent_to(self, device: str) -> list[tuple[Interface, str, Interface]]:
        found: list[tuple[Interface, str, Interface]] = []
        for interface in self._known.facts[device].interfaces.values():
            if interface.ospf is not None:
                heard = self._bridging.heard(device, interface)
                found.extend(
                    (interface, other, peer)
                    for other, peer in heard
                    if self._adjacent(device, interface, other, peer)
                )
        return found

    def _forget(self, touched: set[str]) -> None:
        for pair in [p for name in touched for p in self._pairs.get(name, ()) if p in self._since]:
            (device, name), (other, other_name) = pair
            interface = self._known.facts[device].interfaces.get(name)
            if interface is not None:
                heard = self._bridging.heard(device, interface)
                peer = next((p for d, p in heard if (d, p.name) == (other, other_name)), None)
                if peer is not None and self._adjacent(device, interface, other, peer):
                    self._unheard.pop(pair, None)
                    continue
            since = self._since.pop(pair)
            own = interface.ospf if interface is not None else None
            carried = (
                interface is not None
                and self._bridging.up(device, name)
                and self._known.alive.get(other, False)
            )
            if own is not None and not own.passive and carried and self._known.progress(since) >= 1:
                until = self._known.clock() + own.dead
                self._unheard[pair] = until, self._last[pair]
                self._known.later(until, device)

    def neighbors(self, device: str) -> list[Neighbor]:
        """The neighbours of a device, in the order of its interfaces.

        One whose hellos do not fit any more stays until the dead interval is over (RFC 2328, section 9.5).
        """
        present: dict[str, list[Neighbor]] = {}
        for interface, other, peer in self._adjacent_to(device):
            since = self._since.get(((device, interface.name), (other, peer.name)), self._known.clock())
            present.setdefault(interface.name, []).append(
                self._neighbor(interface, other, peer, self._stage(since))
            )
        found: list[Neighbor] = []
        for interface in self._known.facts[device].interfaces.values():
            if interface.ospf is not None:
                here = present.get(interface.name, [])
                found.extend(here)
                found.extend(
                    self._missed_soon(device, interface.name, {(one.device, one.port) for one in here})
                )
        return found

    def _neighbor(self, interface: Interface, name: str, peer: Interface, state: str) -> Neighbor:
        return Neighbor(
            interface.name,
            self._known.facts[name].router_id or "-",
            str(peer.ipv4[0].ip),
            state,
            name,
            peer.name,
        )

    def _missed_soon(self, device: str, name: str, present: set[End]) -> list[Neighbor]:
        found: list[Neighbor] = []
        for pair in self._pairs.get(device, ()):
            if pair not in self._unheard:
                continue
            deadline, neighbor = self._unheard[pair]
            if self._known.clock() >= deadline:
                del self._unheard[pair]
            elif pair[0] == (device, name) and pair[1] not in present and self._bridging.up(device, name):
                found.append(neighbor)
        return found

    def _stage(self, since_s: float) -> str:
        share = self._known.progress(since_s)
        return "full" if share >= 1 else "loading" if share > 0.7 else "exchange" if share > 0.4 else "init"

    def _adjacent(self, device: str, one: Interface, peer_device: str, other: Interface) -> bool:
        """Whether two ends accept each other's hellos and databases (RFC 2328, sections 10.5 and 10.6)."""
        a, b = one.ospf, other.ospf
        if a is None or b is None or a.passive or b.passive or not one.ipv4 or not other.ipv4:
            return False
        if not self._bridging.up(device, one.name) or not self._bridging.up(peer_device, other.name):
            return False
        ids = self._known.facts[device].router_id, self._known.facts[peer_device].router_id
        return (
            (a.area, a.hello, a.dead, a.network_type) == (b.area, b.hello, b.dead, b.network_type)
            and one.mtu == other.mtu
            and one.ipv4[0].network == other.ipv4[0].network
            and one.ipv4[0].ip != other.ipv4[0].ip
            and None not in ids
            and ids[0] != ids[1]
        )
