"""The checks that follow from what was intended, and need not be written."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from oast.config import Path
from oast.intent import Intent, ospf_interfaces
from oast.verify import service_checks as services, switching_checks as switching
from oast.verify.checks import Check, Operator
from oast.verify.intent_facts import Cable, IntentFacts

_PART = re.compile(r"[.:][0-9]+$")
_FAMILIES = (("ipv4-address", 4), ("ipv6-address", 6))


def derive_checks(intents: Sequence[Intent], cables: Mapping[Cable, Cable]) -> dict[str, list[Check]]:
    """The checks that follow from the intents of a network, by device. `cables` lead from each end to the
    other, as the inventory says.

    Each names what it rests on in the configuration of its device. Those that rest on the whole network are
    `wide`.
    """
    every = {intent.device.name: IntentFacts(intent) for intent in intents}
    far_ends = {**_far_ends(every.values()), **{near: far[0] for near, far in cables.items()}}
    # Who is not in service is not expected to be there.
    away = {near for near, far in cables.items() if far[0] not in every}
    checks: dict[str, list[Check]] = {
        name: [*_interfaces(meant, far_ends, away), *services.device_checks(meant)]
        for name, meant in every.items()
    }
    for found in (
        _ospf(every),
        services.pair_checks(every),
        switching.switching_checks(every, cables),
        _heard(every, cables),
        _prefixes(every, away),
    ):
        for check in found:
            checks[check.device].append(check)
    return checks


def _far_ends(every: Iterable[IntentFacts]) -> Mapping[Cable, str]:
    """The device at the other end of each interface (by device and name) that shares its subnet with exactly
    one other."""
    # By numbers, as the text of a network takes ten times as long.
    holders: dict[tuple[int, int, int], set[Cable]] = defaultdict(set)
    for meant in every:
        for interface in meant.interfaces:
            for address in meant.addresses[interface.name]:
                network = address.network
                if network.prefixlen < network.max_prefixlen:
                    holders[network.version, int(network.network_address), network.prefixlen].add(
                        (meant.name, interface.name)
                    )
    found: dict[Cable, str] = {}
    for ends in holders.values():
        if len(ends) == 2:
            one, other = ends
            found[one], found[other] = other[0], one[0]
    return found


def _interfaces(meant: IntentFacts, far_ends: Mapping[Cable, str], away: set[Cable]) -> Iterator[Check]:
    """Enabled interfaces are up, with their addresses; disabled ones are down. Ports in `away` have no
    neighbor yet."""
    if not meant.reads("interfaces"):
        return
    for interface in meant.interfaces:
        name, match = interface.name, {"name": interface.name}
        concerns = (interface.path,)
        if interface.is_off:
            if meant.reads("interfaces", "admin-status"):
                yield Check(
                    meant.name,
                    f"interface {name} is disabled",
                    "interfaces",
                    match,
                    "admin-status",
                    "down",
                    concerns,
                )
            continue
        # What is part of an interface (port3.140) is on its cable.
        whole = _PART.sub("", name)
        far = far_ends.get((meant.name, name)) or far_ends.get((meant.name, whole))
        if meant.reads("interfaces", "admin-status"):
            title = f"interface {name} is enabled"
            yield Check(
                meant.name, title, "interfaces", match, "admin-status", "up", concerns, peer=far, root=True
            )
        if (meant.name, name) not in away and (meant.name, whole) not in away:
            yield Check(
                meant.name,
                f"interface {name} is up",
                "interfaces",
                match,
                "oper-status",
                "up",
                concerns,
                peer=far,
            )
        addresses = meant.addresses[name]
        for family, version in _FAMILIES if addresses else ():
            held = [str(address) for address in addresses if address.version == version]
            if held and meant.reads("interfaces", family):
                title = f"interface {name} has its {family.replace('ipv', 'IPv').replace('-', ' ')}"
                expected = ", ".join(held)
                yield Check(
                    meant.name,
                    title,
                    "interfaces",
                    match,
                    family,
                    expected,
                    concerns,
                    test=Operator.EXACTLY,
                    values=frozenset(held),
                )


@dataclass(frozen=True)
class _OspfEnd:
    device: str
    interface: str
    address: str
    area: str | None
    paths: tuple[Path, ...]


def _ospf(every: Mapping[str, IntentFacts]) -> Iterator[Check]:
    """Devices that run OSPF on the two ends of a subnet are neighbours, in the area that each has
    configured."""
    subnets: dict[str, list[_OspfEnd]] = defaultdict(list)
    for meant in every.values():
        for network, end in _ospf_ends(meant):
            subnets[network].append(end)
    for ends in subnets.values():
        for one in ends:
            for other in ends:
                if one.device != other.device:
                    yield from _adjacency(every[one.device], one, other)


def _ospf_ends(meant: IntentFacts) -> Iterator[tuple[str, _OspfEnd]]:
    if not meant.reads("ospf-neighbors") or not (meant.role("ospf_interface") or meant.role("ospf_network")):
        return
    ids = [path for path, _ in meant.role("ospf_router_id")]
    for path, interface in ospf_interfaces(meant.platform, meant.tree):
        first = next((a for a in meant.addresses[interface.name] if a.version == 4), None)
        if first is not None and not interface.is_off:
            paths = (path, *ids, interface.path)
            yield (
                str(first.network),
                _OspfEnd(meant.name, interface.name, str(first.ip), meant.area(path), paths),
            )


def _adjacency(meant: IntentFacts, one: _OspfEnd, other: _OspfEnd) -> Iterator[Check]:
    match = {"interface": one.interface, "address": other.address}
    title = f"OSPF neighbor {other.device} on {one.interface} is full"
    yield Check(one.device, title, "ospf-neighbors", match, "state", "full", one.paths, peer=other.device)
    if one.area is not None and meant.reads("ospf-neighbors", "area"):
        title = f"OSPF neighbor {other.device} on {one.interface} is in its area"
        yield Check(
            one.device, title, "ospf-neighbors", match, "area", one.area, one.paths, peer=other.device
        )


def _heard(every: Mapping[str, IntentFacts], cables: Mapping[Cable, Cable]) -> Iterator[Check]:
    """Both ends of a cable see each other by LLDP, as the inventory says."""
    for (device, port), (other, far_port) in cables.items():
        here, there = every.get(device), every.get(other)
        if (
            here is None
            or there is None
            or not here.reads("lldp-neighbors")
            or not there.reads("lldp-neighbors")
        ):
            continue
        own, far = here.interface(port), there.interface(far_port)
        if own is None or far is None or own.is_off or far.is_off:
            continue
        match, concerns = {"interface": port}, (own.path,)
        yield Check(
            device,
            f"{port} is connected to {other}",
            "lldp-neighbors",
            match,
            "system-name",
            there.hostname,
            concerns,
            peer=other,
        )
        title = f"{port} is connected to {far_port} of {other}"
        yield Check(device, title, "lldp-neighbors", match, "port-id", far_port, concerns, peer=other)


def _prefixes(every: Mapping[str, IntentFacts], away: set[Cable]) -> Iterator[Check]:
    """What OSPF announces in an area is in the tables of all that are in it; not the links to devices that
    are `away`, which are down."""
    areas: dict[str, dict[str, str]] = defaultdict(dict)
    members: dict[str, list[tuple[IntentFacts, Path]]] = defaultdict(list)
    for meant in every.values():
        seen: set[str] = set()
        for path, node in meant.role("ospf_interface"):
            area, interface = meant.area(path), meant.interface(node.statement.value)
            if area is None or interface is None or interface.is_off:
                continue
            is_away = (meant.name, interface.name) in away or (
                meant.name,
                _PART.sub("", interface.name),
            ) in away
            for address in () if is_away else meant.addresses[interface.name]:
                if address.version == 4:
                    areas[area].setdefault(str(address.network), meant.name)
            if area not in seen:
                seen.add(area)
                members[area].append((meant, path[:1]))
    for area, prefixes in areas.items():
        values = frozenset(prefixes)
        for meant, path in members[area]:
            if meant.reads("routes", "destination-prefix"):
                title = f"the {len(values)} prefixes of OSPF area {area} are in the routing table"
                yield Check(
                    meant.name,
                    title,
                    "routes",
                    {},
                    "destination-prefix",
                    "all of them",
                    (path,),
                    test=Operator.ALL,
                    values=values,
                    owners=prefixes,
                    wide=True,
                )
