"""The difference of two canonical trees: a list of edits, from which views and commands are derived.

Laws, kept by property tests: `applied(difference(a, b), a)` equals b; the difference of a tree with itself is
empty.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

from oast.config.tree import Node, Path, canonical
from oast.platforms import Rule
from oast.records import Secret

Operation = Literal["create", "remove", "replace", "move"]


@dataclass(frozen=True, slots=True)
class Edit:
    """One step from running to intended, with everything inside of it.

    `outer` are its ancestors, outermost first, as they are before any edit. `replace` sets the statement
    alone (another value of a leaf); its contents change through edits of their own. `before` is the sibling
    that it is inserted before, for statements in the user's order; None means after all others of its kind.
    """

    operation: Operation
    outer: tuple[Node, ...]
    old: Node | None
    new: Node | None
    before: Node | None = None

    @property
    def node(self) -> Node:
        """The node concerned: the new one where there is one."""
        node = self.new if self.new is not None else self.old
        if node is None:
            raise AssertionError("an edit concerns a node")
        return node

    @property
    def path(self) -> Path:
        return (*(node.identity for node in self.outer), self.node.identity)

    @property
    def rule(self) -> Rule:
        return self.node.statement.rule


def difference(running: Node, intended: Node) -> list[Edit]:
    """The edits that make `running` into `intended` (both canonical). Empty if and only if they are equal.

    Statements in a user's order come in the order in which they must be carried out (see `_ordered`).
    """
    edits: list[Edit] = []
    _compare(running, intended, (), edits)
    return edits


def _compare(running: Node, intended: Node, outer: tuple[Node, ...], edits: list[Edit]) -> None:
    if running is intended or (hash(running) == hash(intended) and running == intended):
        return
    ordered: dict[int, Rule] = {}
    there = running.children
    for identity, new in intended.children.items():
        old = there.get(identity)
        rule = new.statement.rule
        if old is not None and old.statement.rule.known is not rule.known:
            # An unknown line that only reads like it: it stays or goes by itself.
            edits += [Edit("remove", outer, old, None)] if old.owned else []
            old = None
        if rule.user_ordered:
            ordered[rule.order] = rule
        elif old is None and new.owned:
            edits.append(Edit("create", outer, None, new))
        elif old is None:
            # It only leads to what is owned; whether the device has it is not looked at, entering it makes
            # it.
            _compare(new.with_children({}), new, (*outer, new), edits)
        elif old is not new:
            _compare_pair(old, new, outer, edits)
    for identity, old in there.items():
        if identity in intended.children:
            continue
        rule = old.statement.rule
        if rule.user_ordered:
            ordered[rule.order] = rule
        elif old.owned:
            edits.append(Edit("remove", outer, old, None))
        else:
            _compare(old, old.with_children({}), (*outer, old), edits)
    for rule in ordered.values():
        _compare_ordered(rule, running, intended, outer, edits)


def _compare_pair(old: Node, new: Node, outer: tuple[Node, ...], edits: list[Edit]) -> None:
    owned = old.owned and new.owned
    if owned and old.statement != new.statement:
        edits.append(Edit("replace", outer, old, new))
    if old.children or new.children:
        # It is entered as the device has it until it is restated: a line that only leads in must not change
        # anything.
        _compare(old, new, (*outer, old), edits)


def _compare_ordered(
    rule: Rule, running: Node, intended: Node, outer: tuple[Node, ...], edits: list[Edit]
) -> None:
    old = {i: n for i, n in running.children.items() if n.statement.rule is rule}
    new = {i: n for i, n in intended.children.items() if n.statement.rule is rule}
    for identity in new.keys() & old.keys():
        _compare_pair(old[identity], new[identity], outer, edits)
    edits.extend(_appended(old, new, outer) if rule.appended_only else _ordered(old, new, outer))


def _appended(old: dict[str, Node], new: dict[str, Node], outer: tuple[Node, ...]) -> Iterator[Edit]:
    """The steps for a device that can only append: everything after the first difference is created again."""
    there, expected = list(old), list(new)
    kept = next(
        (n for n, (a, b) in enumerate(zip(there, expected, strict=False)) if a != b),
        min(len(there), len(expected)),
    )
    for identity in reversed(there[kept:]):
        yield Edit("remove", outer, old[identity], None)
    for identity in expected[kept:]:
        yield Edit("create", outer, None, new[identity])


def _ordered(old: dict[str, Node], new: dict[str, Node], outer: tuple[Node, ...]) -> Iterator[Edit]:
    """The steps between two lists in which the first match decides, safe at every moment.

    Most entries that both lists have stay where they are: a longest common subsequence, the anchors. Between
    two anchors the list then holds first what only the old one has there (A), then what only the new one has
    (B).

    1. Add from the top down. At every step the list is all of A with a beginning of B. A packet whose first
    match is an
       entry of B meets no earlier entry of B, for all of those are already there: it is decided as the new
       list decides.
       Any other first match is the old list's first match.
    2. Remove from the bottom up. At every step the list is all of B with a beginning of A; the same argument
    holds.

    So no packet is ever decided in a way that is neither the old nor the new one. An entry that moves up is
    put at its new place in step 1 (its old place then never decides); one that moves down is moved in step 2
    (its new place did not decide before). The anchors are a longest subsequence, so no entry moves within one
    gap.
    """
    position = {identity: number for number, identity in enumerate(old)}
    anchors = _longest_rising([identity for identity in new if identity in position], position)
    following: list[tuple[str, str | None]] = []
    anchor: str | None = None
    for identity in reversed(new):
        if identity in anchors:
            anchor = identity
        else:
            following.append((identity, anchor))
    moved_down: set[str] = set()
    for identity, anchor in reversed(following):
        if identity not in old:
            yield Edit("create", outer, None, new[identity], None if anchor is None else new[anchor])
        elif anchor is not None and position[anchor] < position[identity]:
            yield Edit("move", outer, old[identity], new[identity], new[anchor])
        else:
            moved_down.add(identity)
    placed_after = _next_placed(list(new), moved_down)
    for identity in reversed(old):
        if identity not in new:
            yield Edit("remove", outer, old[identity], None)
        elif identity in moved_down:
            following_one = placed_after(identity)
            yield Edit(
                "move",
                outer,
                old[identity],
                new[identity],
                None if following_one is None else new[following_one],
            )


class _next_placed:
    """Which entry of the new list, already in its place, follows one that is about to be moved down."""

    def __init__(self, order: Sequence[str], waiting: set[str]) -> None:
        self._order = order
        self._index = {identity: number for number, identity in enumerate(order)}
        self._placed = [number for number, identity in enumerate(order) if identity not in waiting]

    def __call__(self, identity: str) -> str | None:
        number = self._index[identity]
        place = bisect_left(self._placed, number)
        following = self._order[self._placed[place]] if place < len(self._placed) else None
        self._placed.insert(place, number)
        return following


def _longest_rising(identities: Sequence[str], position: dict[str, int]) -> set[str]:
    """A longest subsequence of `identities` whose positions rise (patience sorting, n log n)."""
    tails: list[int] = []
    ends: list[str] = []
    previous: dict[str, str | None] = {}
    for identity in identities:
        place = bisect_left(tails, position[identity])
        previous[identity] = ends[place - 1] if place else None
        if place == len(tails):
            tails.append(position[identity])
            ends.append(identity)
        else:
            tails[place] = position[identity]
            ends[place] = identity
    kept: set[str] = set()
    walk = ends[-1] if ends else None
    while walk is not None:
        kept.add(walk)
        walk = previous[walk]
    return kept


def apply_edits(edits: Iterable[Edit], tree: Node) -> Node:
    """`tree` with `edits` carried out in their order, in canonical form; what no edit touches is shared with
    it.

    Raises KeyError when an edit does not fit.
    """
    edited = _Edited(tree)
    orders: dict[int, _Order] = {}
    for edit in edits:
        place = edited.whole
        for node in edit.outer:
            place = edited.child(place, node)
        edited.apply(edit, place, orders)
    for order in orders.values():
        order.settle()
    return canonical(edited.whole)


class _Edited:
    """A tree under way: a node is copied before its children are changed, once."""

    def __init__(self, tree: Node) -> None:
        self.whole = Node(tree.statement, dict(tree.children), owned=tree.owned)
        # Kept alive by the record, so that no other node gets its number.
        self._own = {id(self.whole): self.whole}

    def child(self, place: Node, node: Node) -> Node:
        """Return the node known as `node` in `place`, which may be changed; it is created if it is
        missing."""
        present = place.children.get(node.identity)
        if present is None or id(present) not in self._own:
            children = dict(present.children) if present is not None else {}
            present = Node(
                node.statement if present is None else present.statement,
                children,
                owned=(present or node).owned,
            )
            place.children[node.identity] = present
            self._own[id(present)] = present
        return present

    def apply(self, edit: Edit, place: Node, orders: dict[int, _Order]) -> None:
        siblings, identity = place.children, edit.node.identity
        if edit.operation == "remove":
            del siblings[identity]
        elif edit.operation == "replace":
            before = siblings[identity]
            siblings[identity] = after = Node(edit.node.statement, before.children)
            if id(before) in self._own:
                self._own[id(after)] = after
        else:
            siblings[identity] = edit.node if edit.operation == "create" else siblings.pop(identity)
            if edit.rule.user_ordered:
                if id(place) not in orders:
                    orders[id(place)] = _Order(place, without=identity)
                orders[id(place)].put(identity, None if edit.before is None else edit.before.identity)


class _Order:
    """The order of the children of `place` while they are moved: each step costs the same, however many there
    are."""

    def __init__(self, place: Node, without: str) -> None:
        self._place = place
        self._next: dict[str | None, str | None] = {}
        self._previous: dict[str | None, str | None] = {}
        names = [None, *(identity for identity in place.children if identity != without), None]
        for one, other in pairwise(names):
            self._next[one], self._previous[other] = other, one

    def put(self, identity: str, before: str | None) -> None:
        """In front of `before`; None: behind all. Raises KeyError for one that is not there."""
        if identity in self._next:
            self._join(self._previous[identity], self._next[identity])
        behind = self._previous[before]
        self._join(behind, identity)
        self._join(identity, before)

    def _join(self, one: str | None, other: str | None) -> None:
        self._next[one], self._previous[other] = other, one

    def settle(self) -> None:
        """Put the children of the place into this order; those that have gone since are left out."""
        children = dict(self._place.children)
        self._place.children.clear()
        walk = self._next[None]
        while walk is not None:
            if walk in children:
                self._place.children[walk] = children.pop(walk)
            walk = self._next[walk]
        self._place.children.update(children)


def secrets_in(edits: Iterable[Edit]) -> Iterator[Secret]:
    """The secrets that `edits` bring."""
    for edit in edits:
        if edit.new is not None:
            yield from secrets_below(edit.new)


def secrets_below(node: Node) -> Iterator[Secret]:
    """The secrets in a statement and all below it."""
    for statement in (node.statement, *(below.statement for _, below in node.walk())):
        yield from (value for value in statement.arguments if isinstance(value, Secret))


@dataclass(frozen=True, slots=True)
class RetainedStatement:
    """A statement that intent does not have and that stays on the device.

    `unknown`: the platform's grammar does not know it; otherwise it holds statements of other sections, or
    unknown ones. `outer` are its ancestors.
    """

    outer: tuple[Node, ...]
    node: Node
    unknown: bool

    @property
    def path(self) -> Path:
        return (*(node.identity for node in self.outer), self.node.identity)

    @property
    def number(self) -> int:
        """How many statements it is, with those below it."""
        return 1 + sum(1 for _ in self.node.walk()) if self.unknown else 1


def split_removals(
    edits: Iterable[Edit], *, remove_unknown: bool = False
) -> tuple[list[Edit], list[RetainedStatement]]:
    """`edits` without the removal of what must stay, and what that is.

    A statement that is to go and holds something that must stay is not removed: only what may go below it is.
    With `remove_unknown`, statements the grammar does not know may go.
    """
    kept: list[Edit] = []
    spared: list[RetainedStatement] = []
    for edit in edits:
        if edit.operation == "remove" and edit.old is not None:
            kept.extend(_removals(edit, edit.old, spared, remove_unknown=remove_unknown))
        else:
            kept.append(edit)
    return kept, spared


def _removals(
    edit: Edit, old: Node, spared: list[RetainedStatement], *, remove_unknown: bool
) -> Iterator[Edit]:
    if not old.statement.rule.known and not remove_unknown:
        spared.append(RetainedStatement(edit.outer, old, unknown=True))
        return
    if not _must_stay(old, remove_unknown=remove_unknown):
        yield edit
        return
    if old.owned and not old.statement.rule.vanishes:
        spared.append(RetainedStatement(edit.outer, old, unknown=False))
    for child in old.children.values():
        yield from _removals(
            Edit("remove", (*edit.outer, old), child, None), child, spared, remove_unknown=remove_unknown
        )


def _must_stay(node: Node, *, remove_unknown: bool) -> bool:
    """Whether a node, or something below it, is not to be removed."""
    own = not node.owned or node.partial or (not remove_unknown and not node.statement.rule.known)
    return own or any(_must_stay(child, remove_unknown=remove_unknown) for child in node.children.values())
