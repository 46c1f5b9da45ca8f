"""Checks of readings, their evaluation, and which of them wait for devices of later waves."""

from __future__ import annotations

import fnmatch
import math
import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from enum import StrEnum
from fnmatch import fnmatchcase
from types import MappingProxyType
from typing import NamedTuple

from oast.config import Path
from oast.readings import Readings, Record, Value, natural_sort_key, show_value, to_text
from oast.records import Place


class Operator(StrEnum):
    """What a check looks for in the records it looks at."""

    FIELD = "field"
    """Each of them has `expected` in `field`, and there is one."""
    COUNT = "count"
    """Their number is from `least` to `most`."""
    ALL = "all"
    """Every one of `values` stands in `field` of one of them, whatever else does."""
    EXACTLY = "exactly"
    """Every one of `values` does, and nothing else."""
    RANGE = "range"
    """Each of them has a number from `low` to `high` in `field`, and there is one."""
    ANY = "any"
    """One of `values` stands in `field` of one of them."""
    SAME = "same"
    """Compare `field` of these records on all devices of the same `group`: the value of the majority is
    expected."""


NOBODY: Mapping[str, str] = MappingProxyType({})


# The intent of one device gives a hundred of them: a frozen dataclass of so many fields takes ten times as
# long to create.
class Check(NamedTuple):
    """Check the records of `reading` whose fields match `match` (globs as in selectors), as `test` says.

    `expected` is the expected value as text or a glob. `concerns` are the parts of the configuration that it
    depends on, `section` and `place` are where it was written, `peer` is the device at the other end.
    `owners` are the devices that each of `values` follows from. A `wide` check depends on more devices than
    these, and is not part of a single change. When a `root` fails, others must fail too (see
    `oast.verify.root_cause`). An `is_warning` check is reported, and is no reason for a rollback. It may take
    `wait_s` seconds to pass, and must then stay passed for `stable_for_s`. `group` are the devices it is
    compared with.
    """

    device: str
    title: str
    reading: str
    match: Mapping[str, str]
    field: str | None
    expected: str
    concerns: tuple[Path, ...]
    least: int = 0
    most: int | None = None
    section: str | None = None
    peer: str | None = None
    test: Operator = Operator.FIELD
    values: frozenset[str] = frozenset()
    owners: Mapping[str, str] = NOBODY
    wide: bool = False
    root: bool = False
    place: Place | None = None
    low: float = -math.inf
    high: float = math.inf
    is_warning: bool = False
    wait_s: float = 0.0
    stable_for_s: float = 0.0
    group: str = ""


def at_least(check: Check) -> Check:
    """The check for a change that removes nothing: of what follows from the intent, more than that may be
    there.

    What an engineer wrote (`place`) means what it says.
    """
    return (
        check._replace(test=Operator.ALL) if check.test is Operator.EXACTLY and check.place is None else check
    )


class CheckResult(NamedTuple):
    """`actual` is the value in the device's field, the number of records, or what is missing and unexpected;
    None without such a record. For a check of several values, `missing` are those that were not found."""

    check: Check
    actual: str | None
    passed: bool
    missing: tuple[str, ...] = ()

    @property
    def finding(self) -> str:
        """The result as text."""
        if self.passed:
            return f"{self.check.title}: {self.actual or 'nothing'}"
        return f"{self.check.title}: {self.difference}"

    @property
    def difference(self) -> str:
        """What was expected and what was found; of a set, what is missing and what does not belong."""
        if self.actual and self.check.test in (Operator.ALL, Operator.EXACTLY):
            return f"expected {self.check.expected}; {self.actual}"
        return f"expected {self.check.expected}, found {self.actual or 'nothing'}"


def evaluate(
    checks: Iterable[Check], readings: Readings, hide: Callable[[str], str] = str
) -> list[CheckResult]:
    """Every check against the readings of its device; what a result says of them has passed `hide`."""
    by_value: _ByValue = {}
    judged = [_judged(check, _fitting(check, readings.get(check.reading, ()), by_value)) for check in checks]
    # An expected value reveals nothing that was not there before.
    return [
        r if r.actual in (None, r.check.expected, ALL_THERE) else r._replace(actual=hide(str(r.actual)))
        for r in judged
    ]


_ByValue = dict[tuple[str, str], dict[str, list[Record]]]
_GLOB = re.compile(r"[*?\[]")
FEW = 4
ALL_THERE = "all there"


def _fitting(check: Check, records: Sequence[Record], by_value: _ByValue) -> Sequence[Record]:
    """Return the records that match: looked up by the first field without a glob, as a device has many checks
    of one reading."""
    match, plain = check.match, None
    for field, expected in match.items():
        if not _GLOB.search(expected):
            plain = field
            break
    if plain is None:
        return [
            r for r in records if all(_fits(expected, _shown(r, field)) for field, expected in match.items())
        ]
    key = check.reading, plain
    if key not in by_value:
        by_value[key] = {}
        for record in records:
            value = _shown(record, plain)
            if value is not None:
                by_value[key].setdefault(value, []).append(record)
    likely = by_value[key].get(match[plain], ())
    if len(match) == 1:
        return likely
    return [
        r
        for r in likely
        if all(_fits(expected, _shown(r, field)) for field, expected in match.items() if field != plain)
    ]


def _judged(check: Check, rows: Sequence[Record]) -> CheckResult:
    field, test = check.field, check.test
    if field is None:
        return CheckResult(
            check,
            str(len(rows)),
            check.least <= len(rows) and (check.most is None or len(rows) <= check.most),
        )
    if test is Operator.FIELD:
        values = [row.get(field) for row in rows]
        found = [show_value(value) or None for value in values]
        wrong = [
            told
            for told, value in zip(found, values, strict=True)
            if to_text(value) != check.expected and not _fits(check.expected, to_text(value) or None)
        ]
        actual = (wrong or found or [None])[0]
        # A record without the field is there, and says nothing of it.
        return CheckResult(
            check, f"no {field}" if actual is None and found else actual, bool(found) and not wrong
        )
    if test in (Operator.ALL, Operator.EXACTLY):
        return _compared(check, rows)
    if test is Operator.RANGE:
        return _measured(check, [row.get(field) for row in rows])
    texts = sorted({text for row in rows for text in _each(row.get(field))}, key=natural_sort_key)
    # Whether it is the same elsewhere is found out when every device was read.
    passed = test is Operator.SAME or not check.values.isdisjoint(texts)
    return CheckResult(check, (", ".join(texts) if test is Operator.SAME else _few(texts)) or None, passed)


def _measured(check: Check, values: Sequence[Value]) -> CheckResult:
    """Compare numbers, each of which must be in the range."""
    wrong = [
        value
        for value in values
        if not isinstance(value, int | float) or not check.low <= value <= check.high
    ]
    return CheckResult(check, to_text((wrong or [*values] or [None])[0]) or None, bool(values) and not wrong)


def _compared(check: Check, rows: Iterable[Record]) -> CheckResult:
    """Values of a field as sets; those of a list stand each by itself."""
    there: set[str] = set()
    for row in rows:
        there.update(_each(row.get(str(check.field))))
    if there == check.values:
        return CheckResult(check, ALL_THERE, True)
    missing = sorted(check.values - there, key=natural_sort_key)
    besides = sorted(there - check.values, key=natural_sort_key) if check.test is Operator.EXACTLY else []
    told = [
        *([f"missing: {_few(missing)}"] if missing else []),
        *([f"unexpected: {_few(besides)}"] if besides else []),
    ]
    return CheckResult(check, "; ".join(told) or ALL_THERE, not told, tuple(missing))


def _each(value: Value) -> Iterable[str]:
    """The values of a list each by itself."""
    return map(to_text, value) if isinstance(value, tuple) else (() if value is None else (to_text(value),))


def must_match(results: Mapping[str, Sequence[CheckResult]]) -> dict[str, list[CheckResult]]:
    """Return the results of all devices, with the checks of a `group` compared with each other: the value of
    the majority is expected, and of equally many the first."""
    groups: dict[tuple[str, str], Counter[str]] = {}
    for of_it in results.values():
        for one in of_it:
            if one.check.test is Operator.SAME:
                groups.setdefault((one.check.title, one.check.group), Counter())[one.actual or ""] += 1
    if not groups:
        return {name: list(of_it) for name, of_it in results.items()}
    expected = {key: counts.most_common(1)[0] for key, counts in groups.items()}

    def judged(one: CheckResult) -> CheckResult:
        if one.check.test is not Operator.SAME:
            return one
        value, number = expected[one.check.title, one.check.group]
        others = f"{value or 'nothing'}, like {number} other {'device' if number == 1 else 'devices'}"
        return one._replace(check=one.check._replace(expected=others), passed=(one.actual or "") == value)

    return {name: [judged(one) for one in of_it] for name, of_it in results.items()}


def _few(words: Sequence[str]) -> str:
    return f"{', '.join(words[:FEW])}{f' and {len(words) - FEW} more' if len(words) > FEW else ''}"


def _shown(record: Record, field: str) -> str | None:
    """A value as one writes it in a check; None for nothing."""
    return to_text(record.get(field)) or None


def _fits(expected: str, value: str | None) -> bool:
    return value is not None and (expected == value or fnmatch.fnmatchcase(value, expected))


# Routes are learned from neighbors: while one of these is to come, so are they.
NEIGHBORS = ("ospf-neighbors", "bgp-neighbors")
NO_DEVICES: frozenset[str] = frozenset()


def waits_for(result: CheckResult, results: Sequence[CheckResult], later: Collection[str]) -> frozenset[str]:
    """The devices of `later` waves without which a failed check cannot pass, by the other `results` of its
    device.

    A check that was derived from the intent names its own peer, and is not asked here. One that an engineer
    wrote waits if what it counts is missing, and derived checks of the same reading say that it comes from a
    device that is delivered later.
    """
    check = result.check
    if result.passed or check.peer is not None or not later:
        return NO_DEVICES
    to_come = [other.check for other in results if _is_to_come(other, check, later)]
    if not to_come:
        return NO_DEVICES
    if check.test is Operator.COUNT or check.field is None:
        is_enough = (
            check.reading == "routes"
            or int(result.actual or 0) + len({str(one.match) for one in to_come}) >= check.least
        )
        if not int(result.actual or 0) < check.least or not is_enough:
            return NO_DEVICES
    return frozenset(str(one.peer) for one in to_come)


def later_neighbors(
    failed: Sequence[CheckResult], results: Sequence[CheckResult], later: Collection[str]
) -> list[str]:
    """The devices of later waves that failed user-defined checks may be about, although they cannot wait for
    them."""
    found = {
        str(other.check.peer)
        for one in failed
        if one.check.peer is None
        for other in results
        if _is_to_come(other, one.check, later)
    }
    return sorted(found)


def _is_to_come(other: CheckResult, check: Check, later: Collection[str]) -> bool:
    """Whether a derived check of the device says that a record which `check` looks for comes from a device of
    a later wave."""
    derived = other.check
    if other.passed or derived.peer not in later:
        return False
    if check.reading == "routes":
        return derived.reading in NEIGHBORS
    said: Mapping[str, str] = {
        **derived.match,
        **({derived.field: derived.expected} if derived.field is not None else {}),
    }
    return derived.reading == check.reading and all(
        fnmatchcase(said[field], expected) for field, expected in check.match.items() if field in said
    )
