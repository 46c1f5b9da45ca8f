"""Layer 2 of the network: which ports have a carrier, bundles (IEEE 802.1AX), the spanning tree (IEEE 802.1Q,
section 13), and which interfaces hear each other's frames."""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from oastsim.facts import Facts, Interface
from oastsim.model import natural

End = tuple[str, str]
Heard = tuple[str, Interface]
# The cost of a link of 1 Gbit/s (IEEE 802.1Q, table 13-4); several in a bundle share it.
LINK_COST = 20000


@dataclass(frozen=True)
class BridgePort:
    """A port of a switch in the spanning tree: its `role` is root, designated, alternate or disabled (IEEE
    802.1Q, section 13.13)."""

    port: str
    role: str
    cost: int

    @property
    def forwards(self) -> bool:
        return self.role in ("root", "designated")


@dataclass(frozen=True)
class Bridge:
    """A switch in the spanning tree: who is the root, how far it is, and the switch's own ports."""

    root: str
    root_cost: int
    priority: int
    ports: Mapping[str, BridgePort]


@dataclass(frozen=True)
class _Span:
    """One way from a switch to the next: by logical ports."""

    port: str
    other: str
    other_port: str
    cost: int


class Bridging:
    """`facts` and `alive` are the network's, and change; `changed` says for whom."""

    def __init__(
        self,
        links: Mapping[End, End],
        attached: Mapping[str, frozenset[str]],
        facts: Mapping[str, Facts],
        alive: Mapping[str, bool],
    ) -> None:
        self._links = links
        self._attached = attached
        self._facts = facts
        self._alive = alive
        self._cut: set[End] = set()
        self._ports: dict[str, list[str]] = {}
        for device, port in links:
            self._ports.setdefault(device, []).append(port)
        self._bridges: dict[str, Bridge] = {}
        self._together: dict[str, frozenset[str]] = {}
        self._heard: dict[End, list[Heard]] = {}

    def plugged(self, one: End, other: End) -> None:
        """There is a cable more, of `links`."""
        for device, port in (one, other):
            self._ports.setdefault(device, []).append(port)

    # --- what changed
    # -----------------------------------------------------------------------------------------------

    def changed(self, device: str) -> set[str]:
        """The devices that may hear of a change of `device`: it, and everybody behind it up to the next
        routers."""
        found, queue = {device}, [device]
        while queue:
            here = queue.pop()
            for other in self._beside(here):
                if other not in found:
                    found.add(other)
                    if other in self._facts and self._facts[other].switches:
                        queue.append(other)
        for name in found:
            self._bridges.pop(name, None)
        self._heard.clear()
        return found

    def cut(self, end: End, *, is_cut: bool) -> None:
        """A cable is cut, or mended."""
        for one in (end, self._links[end]):
            (self._cut.add if is_cut else self._cut.discard)(one)

    def _beside(self, device: str) -> set[str]:
        return {self._links[device, port][0] for port in self._ports.get(device, ())}

    # --- ports
    # ------------------------------------------------------------------------------------------------------

    def carrier(self, device: str, port: str) -> bool:
        """Whether a signal comes in at a port of the hardware."""
        own = self._facts[device].interfaces.get(port)
        if own is not None and not own.enabled:
            return False
        if port.startswith(("loop", "manage")):
            return True
        far = self._links.get((device, port))
        if far is None:
            return port in self._attached[device]
        if not self._alive.get(far[0], False) or (device, port) in self._cut:
            return False
        other = self._facts[far[0]].interfaces.get(far[1])
        return other is not None and other.enabled

    def members(self, device: str, name: str) -> list[str]:
        """The ports of the hardware that an interface stands for."""
        if not name.startswith("bundle"):
            return [name]
        return [i.name for i in self._facts[device].interfaces.values() if i.aggregate == name]

    def bundled(self, device: str, port: str) -> bool:
        """Return whether a port may carry frames for its bundle: its other end must be in a bundle, too."""
        if not self.carrier(device, port):
            return False
        far = self._links.get((device, port))
        return far is None or self._facts[far[0]].interfaces[far[1]].aggregate is not None

    def works(self, device: str, name: str) -> bool:
        """Whether a port or a bundle carries frames."""
        if not name.startswith("bundle"):
            return self.carrier(device, name)
        own = self._facts[device].interfaces.get(name)
        return (
            own is not None
            and own.enabled
            and any(self.bundled(device, port) for port in self.members(device, name))
        )

    def up(self, device: str, name: str) -> bool:
        """Whether an interface passes traffic (RFC 8343, oper-status)."""
        interface = self._facts[device].interfaces.get(name)
        if interface is None or not interface.enabled or not self._alive.get(device, False):
            return False
        if "." in name:
            return interface.vlan_id is not None and self.works(device, interface.port)
        if name.startswith("vlan"):
            vlan = interface.vlan_id
            return vlan in self._facts[device].vlans and any(
                self.works(device, port.name) and self._forwards(device, port.name)
                for port, _ in self._in_vlan(device, vlan)
            )
        return self.works(device, name)

    def _in_vlan(self, device: str, vlan: int | None) -> Iterator[tuple[Interface, int | None]]:
        """The ports of a switch in a VLAN, each with the tag that frames of it have there."""
        for interface in self._facts[device].interfaces.values():
            switching = interface.switching
            if switching is None or not interface.enabled or vlan is None:
                continue
            if switching.vlan == vlan:
                yield interface, None
            elif vlan in switching.allowed:
                yield interface, vlan

    # --- the spanning tree
    # --------------------------------------------------------------------------------------------

    def bridge(self, device: str) -> Bridge | None:
        """A switch's part in the spanning tree; None where it has none."""
        if self._facts[device].bridge_priority is None or not self._facts[device].switches:
            return None
        if device not in self._bridges:
            self._span(device)
        return self._bridges[device]

    def _forwards(self, device: str, port: str) -> bool:
        bridge = self.bridge(device)
        return bridge is None or port not in bridge.ports or bridge.ports[port].forwards

    def _spans(self, device: str) -> Iterator[_Span]:
        """The working ways to other switches that take part, one for each pair of logical ports."""
        found: dict[tuple[str, str, str], int] = {}
        for port in self._ports.get(device, ()):
            near, far = self._logical(device, port), self._links[device, port]
            if near is None or near.switching is None or far[0] not in self._facts:
                continue
            there = self._facts[far[0]]
            other = self._logical(*far)
            if (
                other is None
                or other.switching is None
                or there.bridge_priority is None
                or not there.switches
            ):
                continue
            if self._carries(device, port) and self._carries(*far):
                key = near.name, far[0], other.name
                found[key] = found.get(key, 0) + 1
        for (name, there_name, other_name), number in found.items():
            yield _Span(name, there_name, other_name, LINK_COST // number)

    def _logical(self, device: str, port: str) -> Interface | None:
        own = self._facts[device].interfaces.get(port) if device in self._facts else None
        if own is None or own.aggregate is None:
            return own
        return self._facts[device].interfaces.get(own.aggregate)

    def _carries(self, device: str, port: str) -> bool:
        """Whether frames pass a port of the hardware, as a member of its bundle where it is one."""
        own = self._facts[device].interfaces.get(port)
        if own is None or not self.carrier(device, port):
            return False
        if own.aggregate is None:
            return True
        bundle = self._facts[device].interfaces.get(own.aggregate)
        return bundle is not None and bundle.enabled and self.bundled(device, port)

    def _identifier(self, device: str) -> tuple[int, list[tuple[int, int | str]]]:
        """Lower is better (IEEE 802.1Q, section 13.26): the priority, then the name in place of the hardware
        address."""
        return self._facts[device].bridge_priority or 0, natural(device)

    def _span(self, device: str) -> None:
        """Work out the tree of all switches that hang together with `device`."""
        spans: dict[str, list[_Span]] = {}
        queue = [device]
        while queue:
            here = queue.pop()
            if here not in spans:
                spans[here] = list(self._spans(here))
                queue.extend(span.other for span in spans[here])
        root = min(spans, key=self._identifier)
        cost = _costs(root, spans)
        for name, ways in spans.items():
            self._bridges[name] = Bridge(
                root, cost[name], self._facts[name].bridge_priority or 0, self._roles(name, root, ways, cost)
            )

    def _roles(
        self, name: str, root: str, ways: list[_Span], cost: Mapping[str, int]
    ) -> Mapping[str, BridgePort]:
        to_root = None
        if name != root and ways:
            to_root = min(
                ways, key=lambda w: (cost[w.other] + w.cost, self._identifier(w.other), natural(w.other_port))
            ).port
        found: dict[str, BridgePort] = {}
        for interface in self._facts[name].interfaces.values():
            if interface.switching is not None:
                role = "designated" if self.works(name, interface.name) else "disabled"
                found[interface.name] = BridgePort(interface.name, role, LINK_COST)
        for way in ways:
            mine, theirs = (
                (cost[name], self._identifier(name)),
                (cost[way.other], self._identifier(way.other)),
            )
            role = "root" if way.port == to_root else "designated" if mine < theirs else "alternate"
            if way.other == name:  # both ends of a cable in one switch: one of them is enough
                role = "designated" if natural(way.port) < natural(way.other_port) else "alternate"
            found[way.port] = BridgePort(way.port, role, way.cost)
        return found

    # --- who hears whom
    # -------------------------------------------------------------------------------------------------

    def heard(self, device: str, interface: Interface) -> list[Heard]:
        """The interfaces with addresses, or without, that frames from this one arrive at."""
        end = device, interface.name
        if end not in self._heard:
            self._heard[end] = [
                one for one in _Flood(self).from_(device, interface) if (one[0], one[1].name) != end
            ]
        return self._heard[end]


def _costs(root: str, spans: Mapping[str, list[_Span]]) -> dict[str, int]:
    cost: dict[str, int] = {}
    queue = [(0, root)]
    while queue:
        so_far, name = heapq.heappop(queue)
        if name in cost:
            continue
        cost[name] = so_far
        for span in spans[name]:
            heapq.heappush(queue, (so_far + span.cost, span.other))
    return cost


class _Flood:
    """Follows a broadcast frame through the switches."""

    def __init__(self, bridging: Bridging) -> None:
        self._bridging = bridging
        self._seen: set[tuple[str, int]] = set()
        self._queue: list[tuple[str, int]] = []
        self._found: dict[End, Interface] = {}

    def from_(self, device: str, interface: Interface) -> list[Heard]:
        if interface.name.startswith("vlan"):
            self._bridge(device, interface.vlan_id)
        elif interface.switching is None:
            self._sent(device, interface.port, interface.vlan_id if "." in interface.name else None)
        while self._queue:
            self._within(*self._queue.pop())
        return [(name, found) for (name, _), found in self._found.items()]

    def _sent(self, device: str, name: str, tag: int | None) -> None:
        bridging = self._bridging
        for port in bridging.members(device, name):
            far = bridging._links.get((device, port))
            if (
                far is not None
                and far[0] in bridging._facts
                and bridging._carries(device, port)
                and bridging._carries(*far)
            ):
                self._received(*far, tag)

    def _received(self, device: str, port: str, tag: int | None) -> None:
        bridging = self._bridging
        interface = bridging._logical(device, port)
        if interface is None or not bridging._alive.get(device, False):
            return
        if interface.switching is not None:
            vlan = (
                interface.switching.vlan
                if tag is None
                else tag
                if tag in interface.switching.allowed
                else None
            )
            if bridging._forwards(device, interface.name):
                self._bridge(device, vlan)
        elif tag is None:
            self._found[device, interface.name] = interface
        else:
            for one in bridging._facts[device].interfaces.values():
                if one.port == interface.name and "." in one.name and one.vlan_id == tag:
                    self._found[device, one.name] = one

    def _bridge(self, device: str, vlan: int | None) -> None:
        if (
            vlan is not None
            and vlan in self._bridging._facts[device].vlans
            and (device, vlan) not in self._seen
        ):
            self._seen.add((device, vlan))
            self._queue.append((device, vlan))

    def _within(self, device: str, vlan: int) -> None:
        """In a switch: to its own interface in the VLAN, and out at every other port of it."""
        facts = self._bridging._facts[device]
        own = facts.interfaces.get(f"vlan{vlan}")
        if own is not None:
            self._found[device, own.name] = own
        for port, tag in self._bridging._in_vlan(device, vlan):
            if self._bridging._forwards(device, port.name):
                self._sent(device, port.name, tag)
