"""The configuration tree: one statement with the statements below it, shared between trees and
never changed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from operator import attrgetter, is_

from oast.platforms import Grammar, Statement

Path = tuple[str, ...]
"""Where a node stands: the identities from the outermost statement to the node itself."""


class Node:
    """A statement and its children, by identity, in their order.

    Two are equal when all statements inside are equal and in the same order. `owned` is False for a node that
    a scoped tree only holds because something inside of it is owned; `partial` is True where something inside
    of it is outside of the scope.
    """

    __slots__ = ("_canonical", "_hash", "children", "owned", "partial", "statement")

    def __init__(
        self, statement: Statement, children: dict[str, Node], *, owned: bool = True, partial: bool = False
    ) -> None:
        self.statement = statement
        self.children = children
        self.owned = owned
        self.partial = partial
        self._hash: int | None = None
        # True for the node itself: a reference to itself would be a circle, which only the garbage collector
        # finds.
        self._canonical: Node | bool | None = None

    @property
    def identity(self) -> str:
        return self.statement.identity

    @property
    def text(self) -> str:
        """The statement to look at; secrets in it are fingerprints."""
        return self.statement.text

    def __hash__(self) -> int:
        if self._hash is None:
            self._hash = hash((self.statement, tuple(map(hash, self.children.values()))))
        return self._hash

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, Node) or hash(self) != hash(other) or self.statement != other.statement:
            return False
        return list(self.children.values()) == list(other.children.values())

    def __repr__(self) -> str:
        return (
            f"<node of {self.statement.rule.path or 'the whole configuration'}, {len(self.children)} below>"
        )

    def with_children(self, children: dict[str, Node]) -> Node:
        """The same statement with other children."""
        return Node(self.statement, children, owned=self.owned, partial=self.partial)

    def walk(self, path: Path = ()) -> Iterator[tuple[Path, Node]]:
        """Every node below this one with its path, outer before inner, in order."""
        for identity, child in self.children.items():
            here = (*path, identity)
            yield here, child
            if child.children:
                yield from child.walk(here)

    def at(self, path: Iterable[str]) -> Node | None:
        """The node at `path` below this one, or None."""
        node: Node | None = self
        for identity in path:
            node = node.children.get(identity) if node is not None else None
        return node

    def find(self, rule_path: str, path: Path = ()) -> Iterator[tuple[Path, Node]]:
        """Every node that the grammar's rule at `rule_path` (such as `interface/enabled`) describes."""
        for identity, child in self.children.items():
            own = child.statement.rule.path
            if own == rule_path:
                yield (*path, identity), child
            # Only where the rule can be further in: most of a configuration is about something else.
            elif child.children and rule_path.startswith(own) and rule_path[len(own) : len(own) + 1] == "/":
                yield from child.find(rule_path, (*path, identity))


def root_of(grammar: Grammar, children: dict[str, Node] | None = None) -> Node:
    """The tree of a whole configuration."""
    return Node(grammar.root_statement, children or {})


def merge_trees(one: Node, other: Node) -> Node:
    """Two statements of one identity as one, as a device takes them: the later text, the children of both."""
    children = dict(one.children)
    for identity, child in other.children.items():
        present = children.get(identity)
        children[identity] = child if present is None else merge_trees(present, child)
    return Node(other.statement, children)


def join_trees(trees: Iterable[Node], grammar: Grammar) -> Node:
    """Several trees as one configuration, in order."""
    whole = root_of(grammar)
    for tree in trees:
        whole = merge_trees(whole, tree)
    return whole


def canonical(node: Node) -> Node:
    """The canonical form: defaults, volatile leaves and empty containers left out; siblings in the grammar's
    order, those the system orders sorted, those the user orders as they stand.

    Idempotent. Each node remembers its canonical form, and nodes are shared, so a repeated part costs once.
    """
    known = node._canonical
    if known is not None:
        return known if isinstance(known, Node) else node
    kept: list[Node] = []
    for child in node.children.values():
        form = canonical(child) if child.children else child
        statement = form.statement
        if not statement.silent and (form.children or not statement.rule.vanishes):
            kept.append(form)
    if len(kept) > 1:
        kept.sort(key=_place_key)
    if len(kept) == len(node.children) and all(map(is_, kept, node.children.values())):
        form = node
    else:
        form = node.with_children({child.statement.identity: child for child in kept})
        form._canonical = True
    node._canonical = form if form is not node else True
    return form


_place_key = attrgetter("statement.place_key")


def _sets_differently(one: Node, other: Node) -> bool:
    """Whether the later of two statements of one identity gives a leaf another value."""
    if one is other:
        return False
    if other.statement.rule.kind == "leaf" and one.statement != other.statement:
        return True
    return any(
        (present := one.children.get(identity)) is not None and _sets_differently(present, child)
        for identity, child in other.children.items()
    )


class SiblingIndex:
    """Puts statements among their siblings. Known ones of one identity are one; unknown ones are kept as
    often as they stand."""

    def __init__(self, grammar: Grammar) -> None:
        self._grammar = grammar
        # How often a line exists already among its siblings. Counting for each line would cost the square.
        self._counted: dict[tuple[int, str], int] = {}
        # Whether a leaf was added again with another value.
        self.sets_twice = False

    def add(self, siblings: dict[str, Node], node: Node) -> None:
        self.make_room(siblings, node.statement)
        present = siblings.get(node.identity)
        if present is None:
            siblings[node.identity] = node
        elif node.statement.rule.known:
            self.sets_twice = self.sets_twice or _sets_differently(present, node)
            siblings[node.identity] = merge_trees(present, node)
        else:
            another = self.another(siblings, node.statement)
            siblings[another.identity] = Node(another, node.children)

    def another(self, siblings: Mapping[str, Node], unknown: Statement) -> Statement:
        """The same line once more."""
        line = unknown.value
        key = (id(siblings), line)
        number = self._counted.get(key, 1) + 1
        while f"{line} #{number}" in siblings:
            number += 1
        self._counted[key] = number
        return self._grammar.opaque(line, number)

    def make_room(self, siblings: dict[str, Node], statement: Statement) -> None:
        """An unknown statement gives way to a known one that is known by just its words; it keeps
        its place."""
        present = siblings.get(statement.identity)
        if present is None or present.statement.rule.known or not statement.rule.known:
            return
        items = list(siblings.items())
        another = self.another(siblings, present.statement)
        siblings.clear()
        for identity, node in items:
            if node is present:
                siblings[another.identity] = Node(another, node.children)
            else:
                siblings[identity] = node
