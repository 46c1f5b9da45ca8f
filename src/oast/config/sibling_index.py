"""Statements among their siblings, when text is read: what is known by one identity is one, what is unknown
is kept as it stands."""

from __future__ import annotations

from collections.abc import Mapping

from oast.config.tree import Node, merge_trees
from oast.platforms import Grammar, Statement


class SiblingIndex:
    """Puts statements among their siblings. Known ones of one identity are one; unknown ones are kept as
    often as they stand."""

    def __init__(self, grammar: Grammar) -> None:
        self._grammar = grammar
        # By the siblings and the line: how often it stands there already. Counting anew for each would cost
        # the square.
        self._counted: dict[tuple[int, str], int] = {}

    def add(self, siblings: dict[str, Node], node: Node) -> None:
        self.make_room(siblings, node.statement)
        present = siblings.get(node.identity)
        if present is None:
            siblings[node.identity] = node
        elif node.statement.rule.known:
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
