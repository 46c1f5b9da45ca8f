"""Packets follow the tables of the network hop by hop, access lists included (RFC 1812, section 5)."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable
from dataclasses import dataclass

from oastsim.bridging import Bridging
from oastsim.facts import Address, Entry, Interface
from oastsim.known import Known
from oastsim.redundancy import VirtualAddresses
from oastsim.tables import Table

MOST_HOPS = 32
TableOf = Callable[[str, str], Table]


@dataclass(frozen=True)
class Packet:
    """What access lists look at."""

    source: Address
    destination: Address
    protocol: str = "icmp"
    source_port: int | None = None
    destination_port: int | None = None

    @property
    def answer(self) -> Packet:
        """The answer to a packet."""
        return Packet(self.destination, self.source, self.protocol, self.destination_port, self.source_port)


@dataclass(frozen=True)
class Hop:
    """A device that the packet came to, by which of its addresses; `instance` is the network instance that it
    came into."""

    device: str
    address: str
    instance: str = ""


@dataclass(frozen=True)
class Journey:
    """Where a packet came, in order; `lost` says why it went no further, None if it arrived; `filtered` is
    whether an access list was it."""

    hops: tuple[Hop, ...]
    lost: str | None
    filtered: bool = False


@dataclass(frozen=True)
class Exchange:
    """A packet's path, and why no answer came back; None if one did."""

    there: Journey
    reason: str | None
    filtered: bool = False

    @property
    def arrived(self) -> bool:
        return self.reason is None


class Forwarding:
    """`table_of` gives the table of a device and network instance that packets follow."""

    def __init__(
        self, known: Known, bridging: Bridging, virtual: VirtualAddresses, table_of: TableOf
    ) -> None:
        self._known = known
        self._bridging = bridging
        self._virtual = virtual
        self._table_of = table_of
        self._managed: tuple[int, dict[str, tuple[str, Interface]]] = (-1, {})

    def own(self, device: str, instance: str = "") -> dict[str, Address]:
        """The addresses that a device itself answers for, on interfaces that are up."""
        facts = self._known.facts[device]
        up = (
            i
            for i in facts.interfaces.values()
            if i.instance == instance and self._bridging.up(device, i.name)
        )
        return {str(ip): ip for i in up for ip in i.ips}

    def source(self, device: str, target: Address, instance: str = "") -> Address | None:
        """The address of the interface that a packet leaves by; None without a route."""
        if self._holds(device, target, instance):
            return target
        route = self._table_of(device, instance).best(target)
        interface = self._known.facts[device].interfaces.get(route.interface) if route is not None else None
        return (
            next((ip for ip in interface.ips if ip.version == target.version), None)
            if interface is not None
            else None
        )

    def exchange(self, device: str, packet: Packet, instance: str = "") -> Exchange:
        """A packet from `device`, and the answer to it."""
        there = self.travel(device, packet, instance)
        if there.lost is not None:
            return Exchange(there, there.lost, there.filtered)
        at = there.hops[-1] if there.hops else Hop(device, str(packet.destination), instance)
        back = self.travel(at.device, packet.answer, at.instance)
        if back.lost is None and back.hops and back.hops[-1].device != device:
            return Exchange(there, f"the answer went to {back.hops[-1].device}")
        return Exchange(
            there, None if back.lost is None else f"the answer was lost: {back.lost}", back.filtered
        )

    def travel(self, device: str, packet: Packet, instance: str = "") -> Journey:
        """Where a packet gets."""
        hops: list[Hop] = []
        here = device
        for _ in range(MOST_HOPS):
            if self._holds(here, packet.destination, instance):
                return Journey(tuple(hops), None)
            facts = self._known.facts[here]
            route = self._table_of(here, instance).best(packet.destination)
            if route is not None and route.discards is not None:
                return Journey(tuple(hops), f"{here} discards what is for {route.prefix} ({route.discards})")
            out = facts.interfaces.get(route.interface) if route is not None else None
            if route is None or out is None:
                return Journey(tuple(hops), f"{here} has no route to {packet.destination}")
            if not self._passes(here, out.name, packet, "egress"):
                return Journey(tuple(hops), f"{here} does not let it out of {out.name}", True)
            next_hop = packet.destination if route.next_hop == "-" else ipaddress.ip_address(route.next_hop)
            found = self._answering(here, out, next_hop)
            if found is None:
                return Journey(tuple(hops), f"nobody answers for {next_hop} on {out.name} of {here}")
            here, came_in = found
            if not self._passes(here, came_in.name, packet, "ingress"):
                return Journey(tuple(hops), f"{here} does not let it in at {came_in.name}", True)
            instance = came_in.instance
            hops.append(Hop(here, str(next_hop), instance))
            if here in self._known.outside and not self._holds(here, packet.destination, instance):
                return Journey(tuple(hops), f"{here} passes nothing on")
        return Journey(tuple(hops), "it went in a circle")

    def _holds(self, device: str, address: Address, instance: str) -> bool:
        facts = self._known.facts[device]
        if any(
            self._bridging.up(device, interface.name)
            for interface in facts.holders.get((instance, address), ())
        ):
            return True
        return any(
            i.instance == instance and self._virtual.answers(device, i, address) for i in facts.sharing
        )

    def _answers(self, device: str, interface: Interface, address: Address) -> bool:
        """Whether an interface answers for an address (RFC 826, RFC 4861)."""
        if address not in interface.ips:
            return bool(interface.virtual) and self._virtual.answers(device, interface, address)
        return self._bridging.up(device, interface.name)

    def _answering(self, device: str, out: Interface, address: Address) -> tuple[str, Interface] | None:
        """Who answers for an address on the link of an interface. All management ports are on one link."""
        if out.port.startswith("manage"):
            return self._management().get(str(address))
        heard = self._bridging.heard(device, out)
        return next(((name, one) for name, one in heard if self._answers(name, one, address)), None)

    def _management(self) -> dict[str, tuple[str, Interface]]:
        if self._managed[0] != self._known.generation:
            found = {
                str(ip): (name, interface)
                for name, facts in self._known.facts.items()
                for interface in facts.interfaces.values()
                if interface.port.startswith("manage") and self._bridging.up(name, interface.name)
                for ip in interface.ips
            }
            self._managed = self._known.generation, found
        return self._managed[1]

    def _passes(self, device: str, interface: str, packet: Packet, way: str) -> bool:
        filters = self._known.filters(device)
        name = (filters.ingress if way == "ingress" else filters.egress).get(interface)
        return name is None or decides(filters.lists.get(name, ()), packet) == "accept"


def decides(entries: tuple[Entry, ...], packet: Packet) -> str:
    """What the first entry that fits says; what none fits is dropped (RFC 8519, section 4)."""
    return next((entry.forwarding for entry in entries if _fits(entry, packet)), "drop")


def _fits(entry: Entry, packet: Packet) -> bool:
    return (
        entry.protocol in ("ip", packet.protocol)
        and (entry.source is None or packet.source in entry.source)
        and (entry.destination is None or packet.destination in entry.destination)
        and _within(entry.source_ports, packet.source_port)
        and _within(entry.destination_ports, packet.destination_port)
    )


def _within(ports: tuple[int, int] | None, port: int | None) -> bool:
    return ports is None or (port is not None and ports[0] <= port <= ports[1])
