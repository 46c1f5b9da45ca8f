"""Limits on what one change may take away: a template that renders nothing for what it owns would remove all
of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from oast.change.plan.diff import Comparison
from oast.change.rollout import owning_sections
from oast.config import Edit, Node, Path
from oast.estate import LimitSettings
from oast.platforms import Rule

# Of so few statements a share says nothing.
FEW = 10


@dataclass(frozen=True, slots=True)
class LimitViolation:
    """A removal that exceeds a limit: what the change removes from one device, and the limit (its key in
    oast.toml)."""

    device: str
    what: str
    limit: str


def limit_violations(comparison: Comparison, limits: LimitSettings) -> list[LimitViolation]:
    """The limits that the change of one device is beyond."""
    gone = [
        (path, node) for edit in comparison.edits if edit.operation == "remove" for path, node in _whole(edit)
    ]
    if not gone:
        return []
    name = comparison.name
    found = [
        LimitViolation(name, f"all {number} '{rule}' entries", "last_of")
        for rule, number in _last_of(comparison, gone, limits.last_of)
    ]
    if len(gone) > limits.removals:
        found.append(LimitViolation(name, f"{len(gone)} statements (at most {limits.removals})", "removals"))
    if len(gone) >= FEW:
        found += (LimitViolation(name, what, "share") for what in _shares(comparison, limits.share))
    return found


def _whole(edit: Edit) -> Iterator[tuple[Path, Node]]:
    yield edit.path, edit.node
    yield from edit.node.walk(edit.path)


def _last_of(
    comparison: Comparison, gone: Iterable[tuple[Path, Node]], kinds: Sequence[str]
) -> Iterator[tuple[str, int]]:
    """The lists of those kinds of which nothing is left in what the sections own, and how many entries they
    had there."""
    taken = Counter(node.statement.rule for _, node in gone if _is_of(node.statement.rule, kinds))
    if not taken:
        return
    made = Counter(
        node.statement.rule
        for edit in comparison.edits
        if edit.operation == "create"
        for _, node in _whole(edit)
    )
    there = Counter(
        node.statement.rule
        for _, node in comparison.intent.scope.within(comparison.running).walk()
        if node.statement.rule in taken
    )
    for rule, number in taken.items():
        if there[rule] - number + made[rule] <= 0:
            yield rule.path, there[rule]


def _is_of(rule: Rule, kinds: Sequence[str]) -> bool:
    return rule.kind == "list" and (rule.name in kinds or rule.path in kinds)


def _shares(comparison: Comparison, share: float) -> Iterator[str]:
    """The sections that lose more than their share of what they own on the device. What comes instead is not
    lost: another area of OSPF has the same interfaces."""
    owners = comparison.intent.owners
    gone: Counter[str] = Counter()
    for edit in comparison.edits:
        if edit.operation == "remove":
            gone.update(owning_sections(edit, owners))
        elif edit.operation == "create":
            gone.subtract(owning_sections(edit, owners))
    for section, number in gone.items():
        if number < FEW:
            continue
        there = _owned(comparison, section)
        if number > share * there:
            yield f"{number} of {there} statements of the section '{section}'"


def _owned(comparison: Comparison, section: str) -> int:
    """How many statements the section has on the device."""
    whole = comparison.intent.scope.within(comparison.running)
    edits = (Edit("remove", (), node, None) for node in whole.children.values())
    return sum(
        owner == section for edit in edits for owner in owning_sections(edit, comparison.intent.owners)
    )
