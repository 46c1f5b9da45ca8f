"""User-defined checks that cannot pass before a device of a later wave is delivered."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from fnmatch import fnmatchcase

from oast.verify.checks import Check, CheckResult, Operator

# Routes are learned from neighbors: while one of these is to come, so are they.
NEIGHBORS = ("ospf-neighbors", "bgp-neighbors")
NOBODY: frozenset[str] = frozenset()


def waits_for(result: CheckResult, results: Sequence[CheckResult], later: Collection[str]) -> frozenset[str]:
    """The devices of `later` waves without which a failed check cannot pass, by the other `results` of its
    device.

    A check that was derived from the intent names its own peer, and is not asked here. One that an engineer
    wrote waits if what it counts is missing, and derived checks of the same reading say that it comes from a
    device that is delivered later.
    """
    check = result.check
    if result.passed or check.peer is not None or not later:
        return NOBODY
    to_come = [other.check for other in results if _is_to_come(other, check, later)]
    if not to_come:
        return NOBODY
    if check.test is Operator.COUNT or check.field is None:
        is_enough = (
            check.reading == "routes"
            or int(result.actual or 0) + len({str(one.match) for one in to_come}) >= check.least
        )
        if not int(result.actual or 0) < check.least or not is_enough:
            return NOBODY
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
        **({derived.field: derived.wanted} if derived.field is not None else {}),
    }
    return derived.reading == check.reading and all(
        fnmatchcase(said[field], wanted) for field, wanted in check.match.items() if field in said
    )
