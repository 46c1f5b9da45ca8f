"""Checks that everything which worked before a change still works: also on devices that the change does not
touch.

What a change removes itself is not a loss: an address with its prefix and the neighbor there, an interface
that is shut with the far end of its link.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from oast.readings import Readings, Record, to_text
from oast.verify.checks import Check, Operator
from oast.verify.intent_facts import Cable, IntentFacts
from oast.verify.snapshots import DEVICE, ExpectedLoss, StateChange

# Readings, the state that counts as working, the key field, and the name for messages.
KEPT: Sequence[tuple[str, Mapping[str, str], str, str]] = (
    ("interfaces", {"oper-status": "up"}, "name", "all interfaces that were up before the change are up"),
    ("ospf-neighbors", {"state": "full"}, "address", "all OSPF neighbors from before the change are full"),
    (
        "bgp-neighbors",
        {"session-state": "established"},
        "remote-address",
        "all BGP neighbors from before the change are established",
    ),
    ("lldp-neighbors", {}, "system-name", "all LLDP neighbors from before the change are present"),
    ("routes", {}, "destination-prefix", "all prefixes from before the change are in the routing table"),
)
NAMES = tuple(name for name, *_ in KEPT)


@dataclass(frozen=True)
class RemovedFacts:
    """What a change takes away: prefixes, addresses and host names as texts, and interfaces with the far ends
    of their cables."""

    texts: frozenset[str] = frozenset()
    ends: frozenset[Cable] = field(default_factory=frozenset)


def facts_removed(
    changed: Iterable[tuple[IntentFacts, IntentFacts]], cables: Mapping[Cable, Cable]
) -> RemovedFacts:
    """What the changes remove: each device before and after."""
    texts: set[str] = set()
    ends: set[Cable] = set()
    for before, after in changed:
        texts |= _texts(before) - _texts(after)
        for name in _up(before) - _up(after):
            end = before.name, name
            ends |= {end, cables[end]} if end in cables else {end}
    return RemovedFacts(frozenset(texts), frozenset(ends))


def _up(meant: IntentFacts) -> set[str]:
    return {interface.name for interface in meant.interfaces if not interface.is_off}


def _texts(meant: IntentFacts) -> set[str]:
    found = {meant.hostname}
    for name in _up(meant):
        for address in meant.addresses[name]:
            found |= {str(address.ip), str(address.network)}
    for role in ("static_route", "static_route_ipv6"):
        found |= {str(node.statement.arguments[0]) for _, node in meant.role(role)}
    return found


def regression_checks_of(
    device: str, readings: Readings, without: RemovedFacts, expected: Sequence[ExpectedLoss] = ()
) -> Iterator[Check]:
    """The checks of one device; `expected` things may be lost, too."""
    for reading, good, name, title in KEPT:
        values = {
            to_text(record.get(name))
            for record in readings.get(reading, ())
            if all(to_text(record.get(key)) == expected for key, expected in good.items())
            and not _goes(device, reading, name, record, without)
            and not any(
                may(StateChange(device, reading, "", "", "", lost=True, record={DEVICE: device, **record}))
                for may in expected
            )
        }
        values.discard("")
        if values:
            yield Check(
                device,
                title,
                reading,
                dict(good),
                name,
                "as before",
                (),
                test=Operator.ALL,
                values=frozenset(values),
            )


def _goes(device: str, reading: str, name: str, record: Record, without: RemovedFacts) -> bool:
    interface = record.get("name" if reading == "interfaces" else "interface") or record.get(
        "outgoing-interface"
    )
    if (
        reading != "routes"
        and interface is not None
        and (device, to_text(interface).partition(".")[0]) in without.ends
    ):
        return True
    return to_text(record.get(name)) in without.texts


def devices_within_hops(
    changed: Iterable[str], cables: Iterable[Cable], far: Callable[[Cable], Cable], hops: int
) -> set[str]:
    """Return the neighbors at most this many links away from the changing devices, without these."""
    beside: dict[str, set[str]] = {}
    for end in cables:
        beside.setdefault(end[0], set()).add(far(end)[0])
    known = edge = set(changed)
    found: set[str] = set()
    for _ in range(hops):
        edge = {other for name in edge for other in beside.get(name, ())} - known
        known = known | edge
        found |= edge
    return found
