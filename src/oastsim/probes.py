"""ping and trace: a packet follows the tables of the network, hop by hop, and so does the answer; access lists included."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from oastsim.facts import Address, Entry, Interface
from oastsim.routes import Route, routes
from oastsim.state import NetworkState

MOST_HOPS = 32


@dataclass(frozen=True)
class Packet:
    """What access lists look at."""

    source: Address
    destination: Address
    protocol: str = "icmp"


@dataclass(frozen=True)
class Hop:
    """A device that the packet came to, by which of its addresses."""

    device: str
    address: str


@dataclass(frozen=True)
class Journey:
    """Where a packet came, in order; `lost` says why it went no further, None if it arrived."""

    hops: tuple[Hop, ...]
    lost: str | None


@dataclass(frozen=True)
class Answer:
    """What somebody who asks finds out: the way there, and whether an answer came back."""

    there: Journey
    reason: str | None

    @property
    def arrived(self) -> bool:
        return self.reason is None


def ping(state: NetworkState, device: str, destination: str, source: str | None = None) -> Answer:
    """Ask for an answer from `destination`. Raises ValueError for what is no address, or not one of the device's own."""
    target = ipaddress.ip_address(destination)
    tables = _Tables(state)
    own = {str(a.ip): a.ip for i in state.facts(device).interfaces.values() for a in i.addresses if state.oper_up(device, i.name)}
    if source is not None and source not in own:
        raise ValueError(f"{source} is no address of an interface that is up")
    from_ = own[source] if source is not None else _source(state, tables, device, target)
    if from_ is None:
        return Answer(Journey((), "no route"), f"{device} has no route to {target}")
    there = _travel(state, tables, device, Packet(from_, target))
    if there.lost is not None:
        return Answer(there, there.lost)
    back = _travel(state, tables, there.hops[-1].device if there.hops else device, Packet(target, from_))
    return Answer(there, None if back.lost is None else f"the answer was lost: {back.lost}")


class _Tables:
    """The routing tables that a journey needs, each worked out once."""

    def __init__(self, state: NetworkState) -> None:
        self._state = state
        self._known: dict[str, list[tuple[ipaddress.IPv4Network | ipaddress.IPv6Network, Route]]] = {}

    def best(self, device: str, destination: Address) -> Route | None:
        """The route with the longest prefix (RFC 1812, section 5.2.4.3)."""
        if device not in self._known:
            self._known[device] = [(ipaddress.ip_network(route.prefix), route) for route in routes(self._state, device)]
        fitting = [
            (net.prefixlen, route) for net, route in self._known[device] if net.version == destination.version and destination in net
        ]
        return max(fitting, key=lambda one: one[0])[1] if fitting else None


def _source(state: NetworkState, tables: _Tables, device: str, target: Address) -> Address | None:
    """The address of the interface that the packet leaves by."""
    if any(a.ip == target for i in state.facts(device).interfaces.values() for a in i.addresses):
        return target
    route = tables.best(device, target)
    interface = state.facts(device).interfaces.get(route.interface) if route is not None else None
    return next((a.ip for a in interface.addresses if a.version == target.version), None) if interface is not None else None


def _travel(state: NetworkState, tables: _Tables, device: str, packet: Packet) -> Journey:
    hops: list[Hop] = []
    here = device
    for _ in range(MOST_HOPS):
        if _has(state, here, packet.destination):
            return Journey(tuple(hops), None)
        route = tables.best(here, packet.destination)
        out = state.facts(here).interfaces.get(route.interface) if route is not None else None
        if route is None or out is None:
            return Journey(tuple(hops), f"{here} has no route to {packet.destination}")
        if not _passes(state, here, out.name, packet, "egress"):
            return Journey(tuple(hops), f"{here} does not let it out of {out.name}")
        next_hop = packet.destination if route.next_hop == "-" else ipaddress.ip_address(route.next_hop)
        found = next(((name, one) for name, one in state.heard(here, out) if _answers(state, name, one, next_hop)), None)
        if found is None:
            return Journey(tuple(hops), f"nobody answers for {next_hop} on {out.name} of {here}")
        here, came_in = found
        if not _passes(state, here, came_in.name, packet, "ingress"):
            return Journey(tuple(hops), f"{here} does not let it in at {came_in.name}")
        hops.append(Hop(here, str(next_hop)))
    return Journey(tuple(hops), "it went in a circle")


def _has(state: NetworkState, device: str, address: Address) -> bool:
    interfaces = state.facts(device).interfaces.values()
    return any(a.ip == address for i in interfaces if state.oper_up(device, i.name) for a in i.addresses)


def _answers(state: NetworkState, device: str, interface: Interface, address: Address) -> bool:
    """Whether an interface answers for an address (RFC 826, RFC 4861)."""
    return state.oper_up(device, interface.name) and any(a.ip == address for a in interface.addresses)


def _passes(state: NetworkState, device: str, interface: str, packet: Packet, way: str) -> bool:
    filters = state.filters(device)
    name = (filters.ingress if way == "ingress" else filters.egress).get(interface)
    return name is None or decides(filters.lists.get(name, ()), packet) == "accept"


def decides(entries: tuple[Entry, ...], packet: Packet) -> str:
    """What the first entry that fits says; what none fits is dropped (RFC 8519, section 4)."""
    fits: Callable[[Entry], bool] = lambda entry: (  # noqa: E731
        entry.protocol in ("ip", packet.protocol)
        and (entry.source is None or packet.source in entry.source)
        and (entry.destination is None or packet.destination in entry.destination)
    )
    return next((entry.forwarding for entry in entries if fits(entry)), "drop")


def ping_lines(state: NetworkState, device: str, words: str) -> Iterator[str]:
    """What a device says of `ADDRESS [from ADDRESS]`. Raises ValueError."""
    answer = ping(state, device, *_asked(words))
    yield "answered" if answer.arrived else f"no answer: {answer.reason}"


def trace_lines(state: NetworkState, device: str, words: str) -> Iterator[str]:
    """What a device says of the way to `ADDRESS [from ADDRESS]`, a hop a line. Raises ValueError."""
    answer = ping(state, device, *_asked(words))
    for number, hop in enumerate(answer.there.hops, 1):
        yield f"{number}  {hop.address}  {state.facts(hop.device).hostname}"
    yield "arrived" if answer.arrived else f"no answer: {answer.reason}"


def _asked(words: str) -> tuple[str, str | None]:
    given = words.split()
    if len(given) not in (1, 3) or (len(given) == 3 and given[1] != "from"):
        raise ValueError("say ADDRESS, or ADDRESS from ADDRESS")
    for address in given[::2]:
        ipaddress.ip_address(address)
    return given[0], given[2] if len(given) == 3 else None
