"""Ownership: which parts of a configuration belong to whom, as path patterns over the tree.

A pattern names identities level by level: `ntp`, `interface *`, `interface gate*/vlan-id`. What a pattern
matches is owned with everything below it, but for inner parts that a longer pattern of another owner takes
out: of all patterns that match a statement or one around it, the longest decides, to any depth. Two owners
with patterns of one length that can match the same statement are a mistake (`patterns_overlap`), so there is
always one answer.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from oast.config.globs import glob_matches, globs_overlap
from oast.config.tree import Node, Path

Pattern = tuple[str, ...]


def pattern_of(text: str) -> Pattern:
    """The levels of a written pattern; a slash followed by a letter separates them, so prefixes
    keep theirs."""
    return tuple(level.strip() for level in re.split(r"/(?=[a-z])", text.strip()))


@dataclass(frozen=True, slots=True)
class Scope:
    """What is compared and delivered: inside `includes`, but not inside `excludes`."""

    includes: tuple[Pattern, ...]
    excludes: tuple[Pattern, ...] = field(default=())

    @classmethod
    def of(cls, owned: Iterable[Pattern], others: Iterable[Pattern] = ()) -> Scope:
        """The scope of an owner among others: the parts of `others` strictly inside `owned` are not in it."""
        mine = tuple(owned)
        return cls(
            mine, tuple(other for other in others if any(_strictly_inside(other, own) for own in mine))
        )

    def outside(self) -> Scope:
        """Everything that is not in this scope."""
        return Scope((("*",), *self.excludes), self.includes)

    def within(self, tree: Node) -> Node:
        """The part of `tree` in this scope. Statements that only lead to it have `owned` False; those that
        hold something that is not in it have `partial` True."""
        return _pruned(tree, self.includes, self.excludes, owned=False)

    def holds(self, tree: Node) -> bool:
        """Whether all of `tree` is in this scope, but for statements that only lead to what is."""
        return _all_owned(tree, self.includes, self.excludes, owned=False)

    def covers(self, path: Path) -> bool:
        """Whether the node at `path` is in this scope."""
        depth = max((len(pattern) for pattern in self.includes if _above(pattern, path)), default=0)
        return depth > max((len(pattern) for pattern in self.excludes if _above(pattern, path)), default=0)


def patterns_overlap(one: Pattern, other: Pattern) -> bool:
    """Whether two patterns can match one and the same node."""
    return len(one) == len(other) and all(globs_overlap(a, b) for a, b in zip(one, other, strict=True))


def _above(pattern: Pattern, path: Sequence[str]) -> bool:
    return len(pattern) <= len(path) and all(
        glob_matches(level, identity) for level, identity in zip(pattern, path, strict=False)
    )


def owner_of(path: Path, owners: Mapping[str, Sequence[Pattern]]) -> str | None:
    """Return which of `owners` owns the node at `path`: the longest pattern decides. None when it is not
    owned."""
    longest, found = 0, None
    for name, patterns in owners.items():
        for pattern in patterns:
            if len(pattern) > longest and _above(pattern, path):
                longest, found = len(pattern), name
    return found


def _strictly_inside(inner: Pattern, outer: Pattern) -> bool:
    return len(inner) > len(outer) and all(
        globs_overlap(level, part) for level, part in zip(outer, inner, strict=False)
    )


def _below(patterns: Sequence[Pattern], identity: str) -> list[Pattern]:
    """What is left of the patterns whose first level matches."""
    return [pattern[1:] for pattern in patterns if glob_matches(pattern[0], identity)] if patterns else []


def _below_unknown(patterns: Sequence[Pattern], identity: str) -> list[Pattern]:
    """The same for a line that the grammar does not know: its owner is decided by the words it begins
    with."""
    words = identity.split(" ")
    found = (
        p
        for p in patterns
        if glob_matches(p[0], identity) or glob_matches(p[0], " ".join(words[: len(p[0].split(" "))]))
    )
    return [pattern[1:] for pattern in found]


def _owner(inner: list[Pattern], outer: list[Pattern], *, owned: bool) -> bool:
    """Return whether a node belongs to the scope, given the rest of the patterns there and whether its parent
    does.

    Patterns that end at a deeper node decide again, so the longest wins. Where two end here, "not owned" is
    the safe answer.
    """
    return False if () in outer else True if () in inner else owned


def _all_owned(node: Node, includes: Sequence[Pattern], excludes: Sequence[Pattern], *, owned: bool) -> bool:
    for identity, child in node.children.items():
        inner, outer = _below(includes, identity), _below(excludes, identity)
        child_owned = _owner(inner, outer, owned=owned)
        inner, outer = [p for p in inner if p], [p for p in outer if p]
        if child_owned and not outer:
            continue
        if not child.children:
            if not child_owned:
                return False
        elif not _all_owned(child, inner, outer, owned=child_owned):
            return False
    return True


def _pruned(node: Node, includes: Sequence[Pattern], excludes: Sequence[Pattern], *, owned: bool) -> Node:
    kept: dict[str, Node] = {}
    partial = False
    for identity, child in node.children.items():
        below = _below if child.statement.rule.known else _below_unknown
        inner, outer = below(includes, identity), below(excludes, identity)
        child_owned = _owner(inner, outer, owned=owned)
        inner, outer = [p for p in inner if p], [p for p in outer if p]
        if child_owned and not (outer and child.children):
            kept[identity] = child
            continue
        part = (
            _pruned(child, inner, outer, owned=child_owned)
            if child.children and (inner or child_owned)
            else child.with_children({})
        )
        if child_owned:
            kept[identity] = part
        else:
            partial = True
            if part.children:
                kept[identity] = Node(child.statement, part.children, owned=False, partial=True)
        partial = partial or part.partial
    if not partial and all(kept[identity] is child for identity, child in node.children.items()):
        return node
    return Node(node.statement, kept, owned=node.owned, partial=partial)
