"""Checks: what must be true of readings, derived from what was intended, and whether it is."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from oast.config.tree import Path
from oast.intent.intent import Intent
from oast.intent.roles import addresses, interfaces, ospf_interfaces, with_role
from oast.readings.tables import Readings, Record
from oast.readings.values import text_of


@dataclass(frozen=True)
class Check:
    """In the reading `reading`, look at the records whose fields fit `match` (globs as in selectors).

    With `field`, each of them has to fit `wanted` there, and there has to be one. Without, their number has to be from `least`
    to `most`, and `wanted` says so in words. `concerns` are the parts of the configuration this rests on, `section` the section
    it was written for, `peer` the device at the other end of what is looked at.
    """

    device: str
    title: str
    reading: str
    match: Mapping[str, str]
    field: str | None
    wanted: str
    concerns: tuple[Path, ...]
    least: int = 0
    most: int | None = None
    section: str | None = None
    peer: str | None = None


@dataclass(frozen=True)
class CheckResult:
    """`actual` is what the device has in the field, or the number of records; None when it has no such record."""

    check: Check
    actual: str | None
    passed: bool

    @property
    def finding(self) -> str:
        """The result in words."""
        return f"{self.check.title}: {self.actual or 'not there'}" + ("" if self.passed else f", wanted {self.check.wanted}")


def evaluate(checks: Iterable[Check], readings: Readings, hide: Callable[[str], str] = str) -> list[CheckResult]:
    """Every check against the readings of its device; what a result says of them has passed `hide`."""
    by_value: dict[tuple[str, str], dict[str, list[Record]]] = {}
    judged = (_judged(check, _likely(check, readings.get(check.reading, ()), by_value)) for check in checks)
    return [result if result.actual is None else replace(result, actual=hide(result.actual)) for result in judged]


_GLOB = re.compile(r"[*?\[]")
_PART = re.compile(r"[.:][0-9]+$")


def _likely(check: Check, records: Sequence[Record], by_value: dict[tuple[str, str], dict[str, list[Record]]]) -> Sequence[Record]:
    """The records that can fit: looked up by the first field that is no glob, as a device has many checks of one reading."""
    for field, wanted in check.match.items():
        if not _GLOB.search(wanted):
            key = check.reading, field
            if key not in by_value:
                by_value[key] = {}
                for record in records:
                    by_value[key].setdefault(text_of(record.get(field)), []).append(record)
            return by_value[key].get(wanted, ())
    return records


def _judged(check: Check, records: Iterable[Record]) -> CheckResult:
    rows = [r for r in records if all(_fits(wanted, _shown(r, field)) for field, wanted in check.match.items())]
    if check.field is None:
        return CheckResult(check, str(len(rows)), check.least <= len(rows) and (check.most is None or len(rows) <= check.most))
    found = [_shown(row, check.field) for row in rows]
    wrong = [value for value in found if not _fits(check.wanted, value)]
    return CheckResult(check, (wrong or found or [None])[0], bool(found) and not wrong)


def _shown(record: Record, field: str) -> str | None:
    """A value as one writes it in a check; None for nothing."""
    return text_of(record.get(field)) or None


def _fits(wanted: str, value: str | None) -> bool:
    return value is not None and (wanted == value or fnmatch.fnmatchcase(value, wanted))


@dataclass(frozen=True)
class _OspfEnd:
    device: str
    interface: str
    address: str
    paths: tuple[Path, ...]


def derive(intents: Sequence[Intent], cables: Mapping[tuple[str, str], str]) -> dict[str, list[Check]]:
    """The checks that follow from the intents of a network, by device: interfaces that are meant to be up are up, and
    devices that run OSPF on the two ends of a subnet are neighbours. `cables` are the devices at the other ends of interfaces, by device
    and name."""
    far_ends = {**_far_ends(intents), **cables}
    checks: dict[str, list[Check]] = {intent.device.name: list(_interfaces_up(intent, far_ends)) for intent in intents}
    subnets: dict[str, list[_OspfEnd]] = {}
    for intent in intents:
        for network, end in _ospf_ends(intent):
            subnets.setdefault(network, []).append(end)
    for ends in subnets.values():
        for one in ends:
            for other in ends:
                if one.device != other.device:
                    checks[one.device].append(_adjacency(one, other))
    return checks


def _far_ends(intents: Iterable[Intent]) -> Mapping[tuple[str, str], str]:
    """The device at the other end of each interface (by device and name) that shares its subnet with exactly one other."""
    holders: dict[str, set[tuple[str, str]]] = {}
    for intent in intents:
        for interface in interfaces(intent.platform, intent.tree):
            for _, address in addresses(intent.platform, interface.node):
                if address.network.num_addresses > 1:
                    holders.setdefault(str(address.network), set()).add((intent.device.name, interface.name))
    found: dict[tuple[str, str], str] = {}
    for ends in holders.values():
        if len(ends) == 2:
            one, other = ends
            found[one], found[other] = other[0], one[0]
    return found


def _interfaces_up(intent: Intent, far_ends: Mapping[tuple[str, str], str]) -> Iterable[Check]:
    device = intent.device.name
    if "interfaces" not in intent.platform.readings:
        return
    for interface in interfaces(intent.platform, intent.tree):
        if not interface.is_off:
            title = f"interface {interface.name} is up"
            # What is part of an interface (port3.140) is on its cable.
            far = far_ends.get((device, interface.name)) or far_ends.get((device, _PART.sub("", interface.name)))
            yield Check(device, title, "interfaces", {"name": interface.name}, "oper-status", "up", (interface.path,), peer=far)


def _ospf_ends(intent: Intent) -> Iterable[tuple[str, _OspfEnd]]:
    platform = intent.platform
    if "ospf-neighbors" not in platform.readings:
        return
    for path, interface in ospf_interfaces(platform, intent.tree):
        first = next((a for _, a in addresses(platform, interface.node) if a.version == 4), None)
        if first is not None and not interface.is_off:
            ids = [other for other, _ in with_role(platform, intent.tree, "ospf_router_id")]
            paths = (path, *ids, interface.path)
            yield str(first.network), _OspfEnd(intent.device.name, interface.name, str(first.ip), paths)


def _adjacency(one: _OspfEnd, other: _OspfEnd) -> Check:
    return Check(
        one.device,
        f"OSPF neighbour {other.device} on {one.interface} is full",
        "ospf-neighbors",
        {"interface": one.interface, "address": other.address},
        "state",
        "full",
        one.paths,
        peer=other.device,
    )
