"""Which failed checks follow from others: one shut interface is one problem, not a dozen.

A check follows from a *root*, an interface that is shut and should not be, when it depends on that interface,
or when its other end is there. Checks of the same record follow from the first of them when the record is
missing. A check without a root is its own cause.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from oast.config import Path
from oast.verify.checks import CheckResult


@dataclass
class RootCause:
    """A failed check, and those that follow from it."""

    result: CheckResult
    follows: list[CheckResult] = field(default_factory=list)


def root_causes(wrong: Iterable[CheckResult]) -> list[RootCause]:
    """What is wrong, in the order of the checks; each result once."""
    results = list(wrong)
    roots = {
        (r.check.device, r.check.concerns[0]): RootCause(r)
        for r in results
        if r.check.root and r.check.concerns
    }
    by_ends: dict[tuple[str, str], RootCause] = {}
    for finding in roots.values():
        if finding.result.check.peer is not None:
            by_ends.setdefault((finding.result.check.device, finding.result.check.peer), finding)
    explained = _explained(roots.values())
    first: dict[tuple[object, ...], RootCause] = {}
    found: list[RootCause] = []
    for result in results:
        check = result.check
        own = roots.get((check.device, check.concerns[0])) if check.concerns else None
        if own is not None and own.result is result:
            found.append(own)
            continue
        cause = own or _cause(result, roots, by_ends, explained) or first.get(_record(result))
        if cause is not None:
            cause.follows.append(result)
            continue
        finding = RootCause(result)
        if result.actual is None:
            first[_record(result)] = finding
        found.append(finding)
    return found


def _record(result: CheckResult) -> tuple[object, ...]:
    """The record that is looked at; one of its own where there is one."""
    check = result.check
    return (
        (check.device, check.reading, *sorted(check.match.items()))
        if result.actual is None
        else (id(result),)
    )


def _cause(
    result: CheckResult,
    roots: Mapping[tuple[str, Path], RootCause],
    by_ends: Mapping[tuple[str, str], RootCause],
    explained: Mapping[str, RootCause],
) -> RootCause | None:
    check = result.check
    for path in check.concerns:
        if (check.device, path) in roots:
            return roots[check.device, path]
    if check.peer is not None and (check.peer, check.device) in by_ends:
        return by_ends[check.peer, check.device]
    owners = {check.owners.get(value) for value in result.missing}
    if owners and all(owner in explained for owner in owners):
        return explained[str(next(iter(owners)))]
    return None


def _explained(roots: Iterable[RootCause]) -> dict[str, RootCause]:
    """The devices at either end of a root, whose prefixes may be missing elsewhere because of it."""
    found: dict[str, RootCause] = {}
    for finding in roots:
        for name in (finding.result.check.device, finding.result.check.peer):
            if name is not None:
                found.setdefault(name, finding)
    return found
