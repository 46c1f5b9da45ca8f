"""Derived checks of switches: VLANs, trunks, spanning tree, interfaces that are one, and pairs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping

from oast.config import Path
from oast.verify.checks import Check, Operator
from oast.verify.intent_facts import Cable, IntentFacts


def switching_checks(every: Mapping[str, IntentFacts], cables: Mapping[Cable, Cable]) -> Iterator[Check]:
    """What follows from the intents of switches."""
    for meant in every.values():
        yield from _vlans(meant)
        yield from _forwarding(meant, cables)
        yield from _aggregates(meant)
        yield from _pair(meant)
    yield from _trunks(every, cables)


def _ports(meant: IntentFacts, role: str) -> Iterator[tuple[str, Path, str]]:
    """The interfaces that are not shut with a statement of the role below them: name, path, value of that."""
    by_path = {interface.path: interface for interface in meant.interfaces if not interface.is_off}
    for path, node in meant.role(role):
        for n in range(len(path), 0, -1):
            if path[:n] in by_path:
                yield by_path[path[:n]].name, path[:n], node.statement.value
                break


def _vlans(meant: IntentFacts) -> Iterator[Check]:
    if not meant.reads("vlans", "vlan-id"):
        return
    for path, node in meant.role("vlan"):
        number = node.statement.value
        yield Check(
            meant.name,
            f"VLAN {number} exists",
            "vlans",
            {"vlan-id": number},
            None,
            "1",
            (path,),
            1,
            1,
            test=Operator.COUNT,
        )
    if meant.reads("vlans", "untagged"):
        for port, path, number in _ports(meant, "access_vlan"):
            title = f"{port} is an untagged member of VLAN {number}"
            yield _has(meant, title, number, "untagged", port, path)


def _has(
    meant: IntentFacts, title: str, number: str, field: str, port: str, path: Path, peer: str | None = None
) -> Check:
    match, values = {"vlan-id": number}, frozenset((port,))
    return Check(
        meant.name, title, "vlans", match, field, port, (path,), test=Operator.ALL, values=values, peer=peer
    )


def _trunks(every: Mapping[str, IntentFacts], cables: Mapping[Cable, Cable]) -> Iterator[Check]:
    """A VLAN that a trunk has at one end, it has at both."""
    tagged: dict[Cable, dict[str, Path]] = defaultdict(dict)
    bundles: dict[Cable, str] = {}
    for meant in every.values():
        for port, path, number in _ports(meant, "trunk_vlan"):
            tagged[meant.name, port][number] = path
        for port, _, bundle in _ports(meant, "aggregate"):
            bundles[meant.name, port] = bundle
    done: set[tuple[str, str, str]] = set()
    for near, far in cables.items():
        here = near[0], bundles.get(near, near[1])
        there = far[0], bundles.get(far, far[1])
        other = every.get(there[0])
        if other is None or not other.reads("vlans", "tagged") or not tagged.get(here):
            continue
        if not tagged.get(there) and not other.role("trunk_vlan"):
            continue  # not a switch
        interface = other.interface(there[1])
        for number, path in tagged[here].items():
            if (*there, number) in done:
                continue
            done.add((*there, number))
            own = tagged[there].get(number) or (interface.path if interface is not None else path)
            title = f"{there[1]} is a tagged member of VLAN {number}, like {here[1]} of {here[0]}"
            yield _has(other, title, number, "tagged", there[1], own, here[0])


def _forwarding(meant: IntentFacts, cables: Mapping[Cable, Cable]) -> Iterator[Check]:
    """A port to which no other switch is connected forwards."""
    if not meant.reads("spanning-tree", "state"):
        return
    for port, path, _ in _ports(meant, "access_vlan"):
        if (meant.name, port) not in cables:
            title = f"{port} is not blocking"
            yield Check(
                meant.name, title, "spanning-tree", {"interface": port}, "state", "forwarding", (path,)
            )


def _aggregates(meant: IntentFacts) -> Iterator[Check]:
    if not meant.reads("aggregates", "active"):
        return
    members: dict[str, dict[str, Path]] = defaultdict(dict)
    for port, path, bundle in _ports(meant, "aggregate"):
        members[bundle][port] = path
    for bundle, ports in members.items():
        title = f"{bundle} has all its members"
        expected = ", ".join(sorted(ports))
        paths = tuple(ports.values())
        match, values = {"name": bundle}, frozenset(ports)
        yield Check(
            meant.name,
            title,
            "aggregates",
            match,
            "active",
            expected,
            paths,
            test=Operator.EXACTLY,
            values=values,
        )


def _pair(meant: IntentFacts) -> Iterator[Check]:
    if not meant.reads("redundancy", "agrees"):
        return
    for path, node in meant.role("pair_partner"):
        title = f"the settings match those of the partner {node.statement.value}"
        yield Check(
            meant.name, title, "redundancy", {}, "agrees", "true", (path[:1],), peer=node.statement.value
        )
