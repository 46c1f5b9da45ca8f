"""How long a check has to stay true: as long as it takes a wrong change to show in it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from oast.change.plan import Comparison, is_ancestor_or_same
from oast.config import Edit, Node, Path, Pattern, owner_of
from oast.platforms import Grammar, Rule
from oast.verify import Check


def touches_check(check: Check, edits: Iterable[Edit]) -> bool:
    """Whether `edits` change what the check rests on."""
    return any(is_ancestor_or_same(edit.path, path) for path in check.concerns for edit in edits)


def is_affected_by(check: Check, comparison: Comparison) -> bool:
    """Whether a check may depend on what a change touches.

    A derived check says what it rests on. One that an engineer wrote says which section it belongs to: then
    it is any edit inside of that; or it does not say, and it may be anything.
    """
    if check.concerns:
        return touches_check(check, comparison.edits)
    if check.section is None:
        return bool(comparison.edits)
    return any(check.section in owning_sections(edit, comparison.intent.owners) for edit in comparison.edits)


def changes_only_descriptions(check: Check, comparison: Comparison) -> bool:
    """Return whether the change only edits leaves that a derived check does not read: inside an existing
    entry, and without a role such as an address or an administrative state. A description does not explain a
    failure before it."""
    if not check.concerns:
        return False
    with_role = set(comparison.intent.platform.roles.values())
    for edit in comparison.edits:
        if not any(is_ancestor_or_same(edit.path, path) for path in check.concerns):
            continue
        is_inside = any(
            len(edit.path) > len(path) and edit.path[: len(path)] == path for path in check.concerns
        )
        touched = [edit.node.statement.rule.path, *(node.statement.rule.path for _, node in edit.node.walk())]
        if not is_inside or with_role.intersection(touched):
            return False
    return True


def owning_sections(edit: Edit, owners: Mapping[str, Sequence[Pattern]]) -> Iterator[str]:
    """Whose each statement of an edit is; what only leads to others counts with the first of them."""
    paths: list[Path] = [edit.path]
    if edit.operation in ("create", "remove"):
        paths.extend((*edit.path, *path) for path, _ in edit.node.walk())
    found = [owner_of(path, owners) for path in paths]
    first = next((name for name in found if name is not None), None)
    for name in found:
        owner = name or first
        if owner is not None:
            yield owner


def stable_for_s(comparison: Comparison, checks: Iterable[Check]) -> float:
    """The longest interval, in seconds, of what `checks` look at and the change touches: before it or after
    it, whichever is longer. A neighbour whose hello interval is wrong from now on is lost only after its dead
    interval (RFC 2328, section 9.5).
    """
    platform = comparison.intent.platform
    longest = 0.0
    for check in checks:
        if check.stable_for_s and is_affected_by(check, comparison):
            longest = max(longest, check.stable_for_s)
        reading = platform.readings.get(check.reading)
        if reading is None or not reading.intervals or not touches_check(check, comparison.edits):
            continue
        for interval in reading.intervals:
            rule = _rule(platform.grammar, interval)
            for tree in (comparison.running, comparison.intent.tree):
                longest = max(
                    longest, *(_seconds(value) for value in _values(tree, rule, check.concerns)), 0.0
                )
    return longest


def _rule(grammar: Grammar, path: str) -> Rule:
    rule = grammar.root
    for name in path.split("/"):
        rule = rule.children[name]
    return rule


def _values(tree: Node, rule: Rule, concerns: Iterable[Path]) -> Iterable[str]:
    """The interval's value for every entry that the check rests on, defaults included."""
    outer = rule.outer
    if outer is None or not outer.path:
        return
    places = list(concerns)
    for path, node in tree.find(outer.path):
        if any(is_ancestor_or_same(path, place) for place in places):
            leaf = node.children.get(rule.name)
            value = leaf.statement.arguments if leaf is not None else rule.default
            if value:
                yield str(value[0])


def _seconds(value: str) -> float:
    try:
        return float(value)
    except ValueError:
        return 0.0
