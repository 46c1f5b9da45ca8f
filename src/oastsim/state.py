"""The state of the network, worked out from configurations and links: interfaces, adjacencies, and when they came about."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from oastsim.facts import Facts, Filters, Interface
from oastsim.network import DevicePlan, NetworkPlan

End = tuple[str, str]


@dataclass(frozen=True)
class Neighbor:
    """An OSPF neighbour on an interface; `state` as in RFC 2328, section 10.1."""

    interface: str
    router_id: str
    address: str
    state: str
    device: str


class NetworkState:
    """Knows every device's facts; asks are answered from what is true now. `clock` gives seconds."""

    def __init__(self, plan: NetworkPlan, clock: Callable[[], float]) -> None:
        self._plan = plan
        self._clock = clock
        self._devices: Mapping[str, DevicePlan] = {device.name: device for device in plan.devices}
        self._facts: dict[str, Facts] = {}
        self._filters: dict[str, Callable[[], Filters]] = {}
        self._alive: dict[str, bool] = {}
        self._since: dict[tuple[End, End], float] = {}
        self._pairs: dict[str, set[tuple[End, End]]] = {}
        # Neighbours that will be missed only when their hellos have been missing for the dead interval.
        self._unheard: dict[tuple[End, End], tuple[float, Neighbor]] = {}
        self._last: dict[tuple[End, End], Neighbor] = {}
        self._links: dict[End, End] = {}
        self._neighbors: dict[str, set[str]] = {}
        for one, other in plan.links:
            self._links[one], self._links[other] = other, one
            self._neighbors.setdefault(one[0], set()).add(other[0])
            self._neighbors.setdefault(other[0], set()).add(one[0])

    def facts(self, name: str) -> Facts:
        return self._facts[name]

    def names(self) -> list[str]:
        """The devices that are running."""
        return [name for name, alive in self._alive.items() if alive]

    def update(self, name: str, facts: Facts, filters: Callable[[], Filters] = Filters, *, alive: bool = True) -> None:
        """A device's configuration has changed, or it has started or stopped."""
        self._facts[name] = facts
        self._filters[name] = filters
        self._alive[name] = alive
        touched = {name, *self._neighbors.get(name, ())}
        now = self._clock()
        for device in touched:
            if device not in self._facts:
                continue
            for interface in self._facts[device].interfaces.values():
                peer = self._peer(device, interface)
                if peer is not None and self._adjacent(device, interface, *peer):
                    pair = (device, interface.name), (peer[0], peer[1].name)
                    self._since.setdefault(pair, now)
                    self._pairs.setdefault(device, set()).add(pair)
                    self._last[pair] = Neighbor(
                        interface.name, self._facts[peer[0]].router_id or "-", str(peer[1].ipv4[0].ip), "full", peer[0]
                    )
        self._forget(touched)

    def _forget(self, touched: set[str]) -> None:
        for pair in [p for name in touched for p in self._pairs.get(name, ()) if p in self._since]:
            (device, name), (other, _) = pair
            interface = self._facts[device].interfaces.get(name)
            peer = self._peer(device, interface) if interface else None
            if interface is not None and peer is not None and self._adjacent(device, interface, *peer):
                self._unheard.pop(pair, None)
                continue
            since = self._since.pop(pair)
            own = interface.ospf if interface is not None else None
            carried = interface is not None and self.oper_up(device, name) and self._alive.get(other, False)
            if own is not None and not own.passive and carried and self._progress(self._clock() - since) == "full":
                self._unheard[pair] = self._clock() + own.dead, self._last[pair]

    def oper_up(self, device: str, name: str) -> bool:
        """Whether an interface passes traffic (RFC 8343, oper-status)."""
        interface = self._facts[device].interfaces.get(name)
        if interface is None or not interface.enabled or not self._alive.get(device, False):
            return False
        if "." in name:
            return interface.vlan_id is not None and self._carrier(device, interface.port)
        return self._carrier(device, name)

    def _carrier(self, device: str, port: str) -> bool:
        own = self._facts[device].interfaces.get(port)
        if own is not None and not own.enabled:
            return False
        if port.startswith(("loop", "manage")) or port in self._devices[device].attached:
            return True
        other = self._links.get((device, port))
        if other is None or not self._alive.get(other[0], False):
            return False
        peer = self._facts[other[0]].interfaces.get(other[1])
        return peer is not None and peer.enabled

    def reachable(self, device: str) -> bool:
        """Whether a session can come in: an interface that is up has the management address."""
        wanted = self._devices[device].management
        return any(
            self.oper_up(device, interface.name) and any(str(address.ip) == wanted for address in interface.addresses)
            for interface in self._facts[device].interfaces.values()
        )

    def neighbors(self, device: str) -> list[Neighbor]:
        """The OSPF neighbours of a device, in the order of its interfaces.

        One whose hellos do not fit any more stays until the dead interval is over (RFC 2328, section 9.5).
        """
        found = []
        for interface in self._facts[device].interfaces.values():
            peer = self._peer(device, interface)
            if peer is not None and self._adjacent(device, interface, *peer):
                pair = (device, interface.name), (peer[0], peer[1].name)
                found.append(self._neighbor(pair, interface, *peer))
            else:
                found.extend(self._missed_soon(device, interface.name))
        return found

    def _neighbor(self, pair: tuple[End, End], interface: Interface, name: str, peer: Interface) -> Neighbor:
        since = self._since.get(pair, self._clock())
        state = self._progress(self._clock() - since)
        return Neighbor(interface.name, self._facts[name].router_id or "-", str(peer.ipv4[0].ip), state, name)

    def _missed_soon(self, device: str, name: str) -> list[Neighbor]:
        for pair, (deadline, neighbor) in list(self._unheard.items()):
            if self._clock() >= deadline:
                del self._unheard[pair]
            elif pair[0] == (device, name) and self.oper_up(device, name):
                return [neighbor]
        return []

    def _progress(self, age_s: float) -> str:
        share = age_s / self._plan.convergence_s if self._plan.convergence_s else 1.0
        return "full" if share >= 1 else "loading" if share > 0.7 else "exchange" if share > 0.4 else "init"

    def _peer(self, device: str, interface: Interface) -> tuple[str, Interface] | None:
        """The interface at the other end: of the same port's link, with the same VLAN tag."""
        other = self._links.get((device, interface.port))
        if other is None or other[0] not in self._facts:
            return None
        if "." not in interface.name:
            peer = self._facts[other[0]].interfaces.get(other[1])
            return (other[0], peer) if peer else None
        for peer in self._facts[other[0]].interfaces.values():
            if peer.port == other[1] and "." in peer.name and peer.vlan_id == interface.vlan_id is not None:
                return other[0], peer
        return None

    def _adjacent(self, device: str, one: Interface, peer_device: str, other: Interface) -> bool:
        """Whether two ends accept each other's hellos and databases (RFC 2328, sections 10.5 and 10.6)."""
        a, b = one.ospf, other.ospf
        if a is None or b is None or a.passive or b.passive or not one.ipv4 or not other.ipv4:
            return False
        if not self.oper_up(device, one.name) or not self.oper_up(peer_device, other.name):
            return False
        ids = self._facts[device].router_id, self._facts[peer_device].router_id
        return (
            (a.area, a.hello, a.dead, a.network_type) == (b.area, b.hello, b.dead, b.network_type)
            and one.mtu == other.mtu
            and one.ipv4[0].network == other.ipv4[0].network
            and one.ipv4[0].ip != other.ipv4[0].ip
            and None not in ids
            and ids[0] != ids[1]
        )
