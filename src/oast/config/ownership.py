"""Ownership: which parts of a configuration belong to whom, as path patterns over the tree.

A pattern names identities level by level: `ntp`, `interface *`, `interface gate*/vlan-id`. What a pattern matches is
owned with everything below it, but for inner parts that a more specific pattern of another owner takes out.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from oast.config.tree import Node, Path

Pattern = tuple[str, ...]


def pattern_of(text: str) -> Pattern:
    """The levels of a written pattern; a slash followed by a letter separates them, so prefixes keep theirs."""
    return tuple(level.strip() for level in re.split(r"/(?=[a-z])", text.strip()))


@lru_cache(maxsize=4096)
def _expression(level: str) -> re.Pattern[str]:
    return re.compile(fnmatch.translate(level))


@lru_cache(maxsize=65536)
def level_matches(level: str, identity: str) -> bool:
    """Whether one level of a pattern, with globs, matches an identity."""
    return level == identity or _expression(level).match(identity) is not None


@dataclass(frozen=True, slots=True)
class Scope:
    """What is compared and delivered: inside `includes`, but not inside `excludes`."""

    includes: tuple[Pattern, ...]
    excludes: tuple[Pattern, ...] = field(default=())

    @classmethod
    def of(cls, owned: Iterable[Pattern], others: Iterable[Pattern] = ()) -> Scope:
        """The scope of an owner among others: the parts of `others` strictly inside `owned` are not in it."""
        mine = tuple(owned)
        return cls(mine, tuple(other for other in others if any(_strictly_inside(other, own) for own in mine)))

    def within(self, tree: Node) -> Node:
        """The part of `tree` in this scope; statements that only lead to it have `owned` False."""
        return _pruned(tree, self.includes, self.excludes, owned=False)

    def holds(self, tree: Node) -> bool:
        """Whether all of `tree` is in this scope, but for statements that only lead to what is."""
        return _all_owned(tree, self.includes, self.excludes, owned=False)

    def covers(self, path: Path) -> bool:
        """Whether the node at `path` is in this scope."""
        covered = any(_above(pattern, path) for pattern in self.includes)
        return covered and not any(_above(pattern, path) for pattern in self.excludes)


def same_part(one: Pattern, other: Pattern) -> bool:
    """Whether two patterns can match one and the same node."""
    return len(one) == len(other) and all(level_matches(a, b) or level_matches(b, a) for a, b in zip(one, other, strict=True))


def _above(pattern: Pattern, path: Sequence[str]) -> bool:
    return len(pattern) <= len(path) and all(level_matches(level, identity) for level, identity in zip(pattern, path, strict=False))


def _strictly_inside(inner: Pattern, outer: Pattern) -> bool:
    return len(inner) > len(outer) and all(
        level_matches(level, part) or level_matches(part, level) for level, part in zip(outer, inner, strict=False)
    )


def _all_owned(node: Node, includes: Sequence[Pattern], excludes: Sequence[Pattern], *, owned: bool) -> bool:
    for identity, child in node.children.items():
        inner = [pattern[1:] for pattern in includes if level_matches(pattern[0], identity)] if includes else []
        outer = [pattern[1:] for pattern in excludes if level_matches(pattern[0], identity)] if excludes else []
        child_owned = (owned or () in inner) and () not in outer
        if child_owned and not outer:
            continue
        if not child.children:
            if not child_owned:
                return False
        elif () in outer or not _all_owned(child, [p for p in inner if p], outer, owned=child_owned):
            return False
    return True


def _pruned(node: Node, includes: Sequence[Pattern], excludes: Sequence[Pattern], *, owned: bool) -> Node:
    kept: dict[str, Node] = {}
    for identity, child in node.children.items():
        inner = [pattern[1:] for pattern in includes if pattern and level_matches(pattern[0], identity)]
        outer = [pattern[1:] for pattern in excludes if pattern and level_matches(pattern[0], identity)]
        child_owned = owned or () in inner
        if () in outer:
            child_owned = False
            inner = []
        if child_owned and not outer:
            kept[identity] = child
        elif child_owned:
            kept[identity] = _pruned(child, inner, outer, owned=True)
        elif inner:
            part = _pruned(child, inner, outer, owned=False)
            if part.children:
                kept[identity] = Node(child.statement, part.children, owned=False)
    if len(kept) == len(node.children) and all(a is b for a, b in zip(kept.values(), node.children.values(), strict=True)):
        return node
    return Node(node.statement, kept, owned=node.owned)
