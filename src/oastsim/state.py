"""The state of the network, computed from configurations and links: everything that devices can be asked
for."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterable

from oastsim.adjacency import Adjacencies, Neighbor
from oastsim.bgp import UNPRIVILEGED, Session, Speakers
from oastsim.bridging import Bridging, End
from oastsim.clocks import Association, associations
from oastsim.facts import Facts, Filters, Interface
from oastsim.forwarding import Forwarding, Packet
from oastsim.known import Known
from oastsim.network import DevicePlan, NetworkPlan
from oastsim.ospf import Ospf
from oastsim.outside import facts_of
from oastsim.redundancy import Agreement, VirtualAddresses, VirtualState, agreements
from oastsim.tables import Route, Table, Tables

__all__ = ["Neighbor", "NetworkState"]
SSH = 22
# The addresses of this port are management addresses, whatever they are configured to be.
MANAGEMENT_PORT = "manage0"


class NetworkState:
    """Knows every device's facts; answers reflect the present state. `clock` returns seconds.

    After a change, only what it reaches is computed again, and only on demand: links and bridging of the
    devices up to the next routers, the shortest paths of the areas whose links have changed, the tables
    behind them.
    """

    def __init__(self, plan: NetworkPlan, clock: Callable[[], float]) -> None:
        links: dict[End, End] = {}
        for one, other in plan.links:
            links[one], links[other] = other, one
        devices = self._devices = {device.name: device for device in plan.devices}
        self._links = links
        outside = frozenset(host.name for host in plan.outside)
        self._known = Known(devices, links, clock, plan.convergence_s, outside)
        attached = self._attached = {device.name: device.attached for device in plan.devices}
        self.bridging = Bridging(links, attached, self._known.facts, self._known.alive)
        self._adjacencies = Adjacencies(self._known, self.bridging)
        self._ospf = Ospf(self._known, self.bridging, self._adjacencies)
        self._virtual = VirtualAddresses(self._known, self.bridging)
        self._tables = Tables(self._known, self.bridging, self._ospf)
        within = Forwarding(self._known, self.bridging, self._virtual, self._tables.of)
        self._speakers = Speakers(self._known, self.bridging, self._tables, within)
        self._forwarding = Forwarding(self._known, self.bridging, self._virtual, self._full)
        self._made: dict[tuple[str, str], tuple[object, Table]] = {}
        self._reached: dict[tuple[str, str], tuple[int, bool]] = {}
        for host in plan.outside:
            self.update(host.name, facts_of(host))

    # --- what changes
    # ---------------------------------------------------------------------------------------------------

    def update(
        self, name: str, facts: Facts, filters: Callable[[], Filters] = Filters, *, alive: bool = True
    ) -> None:
        """A device's configuration has changed, or it has started or stopped."""
        self._observe()
        touched = self.bridging.changed(name) if name in self._known.facts else set()
        self._known.put(name, facts, filters, alive=alive)
        self._settle(touched | self.bridging.changed(name))

    def add(self, plan: DevicePlan, cables: Iterable[tuple[End, End]]) -> None:
        """There is a device more, and it is plugged in. Raises ValueError for a name that is taken, or a
        port."""
        if plan.name in self._devices:
            raise ValueError(f"there is a device '{plan.name}' already")
        cables = list(cables)
        for near, far in cables:
            if (
                near[1] not in plan.ports
                or far[0] not in self._devices
                or far[1] not in self._devices[far[0]].ports
                or far in self._links
            ):
                raise ValueError(f"{near[1]} of {plan.name} cannot be plugged into {far[1]} of {far[0]}")
        self._observe()
        self._devices[plan.name], self._attached[plan.name] = plan, plan.attached
        for near, far in cables:
            self._links[near], self._links[far] = far, near
            self.bridging.plugged(near, far)

    def filtered(self, name: str) -> None:
        """What a device lets through may have changed."""
        self._observe()
        self._known.filtered(name)

    def cut(self, device: str, port: str, *, is_cut: bool) -> None:
        """A cable is cut, or mended. Raises KeyError when the port has none."""
        self._observe()
        self.bridging.cut((device, port), is_cut=is_cut)
        self._settle(
            self.bridging.changed(device) | self.bridging.changed(self._known.links[device, port][0])
        )

    def _settle(self, touched: set[str]) -> None:
        self._known.changed(touched)
        self._adjacencies.settle(touched)
        self._ospf.refresh(touched)

    def _observe(self) -> None:
        """Sessions outlast a change for a while, so the former state must be known."""
        if self._known.speakers:
            self._tick()
            self._speakers.current()

    def _tick(self) -> None:
        """What has changed by itself since one asked last: adjacencies that are full now, and those that are
        given up."""
        due = self._known.due()
        if due:
            self._ospf.refresh(due)

    def now(self) -> float:
        """The time in seconds, by the clock of the network."""
        return self._known.clock()

    # --- what is asked for
    # ----------------------------------------------------------------------------------------------

    def facts(self, name: str) -> Facts:
        return self._known.facts[name]

    def names(self) -> list[str]:
        """The devices that are running."""
        return [name for name in self._known.devices if self._known.alive.get(name, False)]

    def system(self, device: str) -> str | None:
        """What a device runs; None for what is outside."""
        return self._known.devices[device].system if device in self._known.devices else None

    def link(self, device: str, port: str) -> End | None:
        """The other end of the cable in a port."""
        return self._known.links.get((device, port))

    def oper_up(self, device: str, name: str) -> bool:
        """Whether an interface passes traffic (RFC 8343, oper-status)."""
        return self.bridging.up(device, name)

    def heard(self, device: str, interface: Interface) -> list[tuple[str, Interface]]:
        """The interfaces of others that frames from this one arrive at."""
        return self.bridging.heard(device, interface)

    def neighbors(self, device: str) -> list[Neighbor]:
        """The OSPF neighbours of a device, in the order of its interfaces."""
        return self._adjacencies.neighbors(device)

    def routes(self, device: str) -> list[Route]:
        """The active routes of a device, one for each prefix, in the order of the prefixes; those of network
        instances behind its own."""
        self._tick()
        instances = sorted(self._known.facts[device].instances)
        return [route for instance in ("", *instances) for route in self._full(device, instance).routes]

    def sessions(self, device: str) -> list[Session]:
        """The BGP sessions of a device."""
        self._tick()
        return self._speakers.sessions(device)

    def clocks(self, device: str) -> list[Association]:
        """Where a device gets the time from."""
        self._tick()
        return list(associations(self._known, self._forwarding, device))

    def virtual_addresses(self, device: str) -> list[VirtualState]:
        """The addresses that a device has together with others."""
        return list(self._virtual.states(device))

    def agreements(self, device: str) -> list[Agreement]:
        """What a device and its partner have to have alike."""
        return agreements(self._known, self.bridging, device)

    def forwarding(self) -> Forwarding:
        """Where packets go, as of now."""
        self._tick()
        return self._forwarding

    def management_addresses(self, device: str) -> list[str]:
        """The addresses through which sessions may come in: those of network.yaml, and those of the
        management port as it is configured."""
        plan, port = self._known.devices[device], self._known.facts[device].interfaces.get(MANAGEMENT_PORT)
        configured = [str(ip) for ip in sorted(port.ips, key=str)] if port is not None else []
        return list(
            dict.fromkeys([plan.management, *([plan.alternate] if plan.alternate else []), *configured])
        )

    def reachable(self, device: str, address: str | None = None) -> bool:
        """Return whether a session can come in at an address, or at any: an interface that is up has it and,
        in-band, packets get there and back."""
        plan = self._known.devices[device]
        if address is None:
            return any(self.reachable(device, one) for one in self.management_addresses(device))
        if plan.station is not None:
            self._tick()
        present = self._reached.get((device, address))
        if present is None or present[0] != self._known.generation:
            present = self._reached[device, address] = (
                self._known.generation,
                self._comes_in(device, plan.station, address),
            )
        return present[1]

    def _comes_in(self, device: str, station: str | None, management: str) -> bool:
        target = ipaddress.ip_address(management)
        holding = (i for i in self._known.facts[device].interfaces.values() if target in i.ips)
        if not any(self.oper_up(device, interface.name) for interface in holding):
            return False
        source = self._forwarding.source(station, target) if station is not None else None
        if station is None or source is None:
            return station is None
        return (
            self._forwarding.exchange(station, Packet(source, target, "tcp", UNPRIVILEGED, SSH)).reason
            is None
        )

    def _full(self, device: str, instance: str = "") -> Table:
        """The table with everything in it."""
        version = self._tables.version(device), self._speakers.current() if not instance else 0
        present = self._made.get((device, instance))
        if present is None or present[0] != version:
            table = self._tables.of(device, instance)
            learned = list(self._speakers.candidates(device)) if not instance else []
            present = self._made[device, instance] = (
                version,
                Table([*table.candidates, *learned]) if learned else table,
            )
        return present[1]
