"""The state of the network, worked out from configurations and links: interfaces, adjacencies, and when they came about."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from oastsim.bridging import Bridging, End
from oastsim.facts import Facts, Filters, Interface
from oastsim.network import DevicePlan, NetworkPlan


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
        # Neighbors that will be missed only when their hellos have been missing for the dead interval.
        self._unheard: dict[tuple[End, End], tuple[float, Neighbor]] = {}
        self._last: dict[tuple[End, End], Neighbor] = {}
        self._links: dict[End, End] = {}
        for one, other in plan.links:
            self._links[one], self._links[other] = other, one
        attached = {device.name: device.attached for device in plan.devices}
        self.bridging = Bridging(self._links, attached, self._facts, self._alive)

    def facts(self, name: str) -> Facts:
        return self._facts[name]

    def filters(self, name: str) -> Filters:
        """What a device lets through now."""
        return self._filters[name]()

    def names(self) -> list[str]:
        """The devices that are running."""
        return [name for name, alive in self._alive.items() if alive]

    def system(self, device: str) -> str:
        """What a device runs."""
        return self._devices[device].system

    def link(self, device: str, port: str) -> End | None:
        """The other end of the cable in a port."""
        return self._links.get((device, port))

    def update(self, name: str, facts: Facts, filters: Callable[[], Filters] = Filters, *, alive: bool = True) -> None:
        """A device's configuration has changed, or it has started or stopped."""
        touched = self.bridging.changed(name) if name in self._facts else set()
        self._facts[name] = facts
        self._filters[name] = filters
        self._alive[name] = alive
        self._settle(touched | self.bridging.changed(name))

    def cut(self, device: str, port: str, *, is_cut: bool) -> None:
        """A cable is cut, or mended. Raises KeyError when there is none in the port."""
        self.bridging.cut((device, port), is_cut=is_cut)
        self._settle(self.bridging.changed(device) | self.bridging.changed(self._links[device, port][0]))

    def _settle(self, touched: set[str]) -> None:
        """See who has become whose neighbour, and who no longer is."""
        now = self._clock()
        for device in touched:
            if device not in self._facts:
                continue
            for interface in self._facts[device].interfaces.values():
                if interface.ospf is None:
                    continue
                for other, peer in self.heard(device, interface):
                    if self._adjacent(device, interface, other, peer):
                        pair = (device, interface.name), (other, peer.name)
                        self._since.setdefault(pair, now)
                        self._pairs.setdefault(device, set()).add(pair)
                        router_id = self._facts[other].router_id or "-"
                        self._last[pair] = Neighbor(interface.name, router_id, str(peer.ipv4[0].ip), "full", other)
        self._forget(touched)

    def _forget(self, touched: set[str]) -> None:
        for pair in [p for name in touched for p in self._pairs.get(name, ()) if p in self._since]:
            (device, name), (other, other_name) = pair
            interface = self._facts[device].interfaces.get(name)
            if interface is not None:
                peer = next((p for d, p in self.heard(device, interface) if (d, p.name) == (other, other_name)), None)
                if peer is not None and self._adjacent(device, interface, other, peer):
                    self._unheard.pop(pair, None)
                    continue
            since = self._since.pop(pair)
            own = interface.ospf if interface is not None else None
            carried = interface is not None and self.oper_up(device, name) and self._alive.get(other, False)
            if own is not None and not own.passive and carried and self._progress(self._clock() - since) == "full":
                self._unheard[pair] = self._clock() + own.dead, self._last[pair]

    def oper_up(self, device: str, name: str) -> bool:
        """Whether an interface passes traffic (RFC 8343, oper-status)."""
        return self.bridging.up(device, name)

    def heard(self, device: str, interface: Interface) -> list[tuple[str, Interface]]:
        """The interfaces of others that frames from this one arrive at."""
        return self.bridging.heard(device, interface)

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
        found: list[Neighbor] = []
        for interface in self._facts[device].interfaces.values():
            if interface.ospf is None:
                continue
            now = [(other, peer) for other, peer in self.heard(device, interface) if self._adjacent(device, interface, other, peer)]
            found.extend(self._neighbor(((device, interface.name), (other, peer.name)), interface, other, peer) for other, peer in now)
            found.extend(self._missed_soon(device, interface.name, {(other, peer.name) for other, peer in now}))
        return found

    def _neighbor(self, pair: tuple[End, End], interface: Interface, name: str, peer: Interface) -> Neighbor:
        since = self._since.get(pair, self._clock())
        state = self._progress(self._clock() - since)
        return Neighbor(interface.name, self._facts[name].router_id or "-", str(peer.ipv4[0].ip), state, name)

    def _missed_soon(self, device: str, name: str, present: set[End]) -> list[Neighbor]:
        found: list[Neighbor] = []
        for pair, (deadline, neighbor) in list(self._unheard.items()):
            if self._clock() >= deadline:
                del self._unheard[pair]
            elif pair[0] == (device, name) and pair[1] not in present and self.oper_up(device, name):
                found.append(neighbor)
        return found

    def _progress(self, age_s: float) -> str:
        share = age_s / self._plan.convergence_s if self._plan.convergence_s else 1.0
        return "full" if share >= 1 else "loading" if share > 0.7 else "exchange" if share > 0.4 else "init"

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
