"""The indented syntax: a statement a line, what belongs to it deeper below it. Text to tree and back."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from oast.config.tree import Node, Path, masked, merged, root_of
from oast.memory import uncollected
from oast.platforms.grammar import Grammar, Rule, Statement, UnknownStatement
from oast.records import Fingerprints

INDENT = 2
# A block that begins at the left edge is remembered with its tree: the second configuration of a fleet is mostly the first.
REMEMBERED_BLOCKS = 100_000
_BLOCK = re.compile(r"\n(?=[^\s#])")


@dataclass(frozen=True, slots=True)
class TextProblem:
    """A line that the grammar or the syntax does not allow. `line` counts from 1, `word` is the wrong word in it."""

    line: int
    message: str
    word: str
    hint: str | None


@dataclass(frozen=True, slots=True)
class Parsed:
    """A tree, and what was wrong on the way; statements that are not known stand in the tree by their words."""

    tree: Node
    problems: tuple[TextProblem, ...]


class IndentedSyntax:
    """Parses and prints the text of one grammar."""

    def __init__(self, grammar: Grammar, comment: str) -> None:
        self.grammar = grammar
        self.comment = comment
        self._blocks: dict[str, tuple[Node, ...]] = {}
        self._leaves: dict[Statement, Node] = {}

    def parse(self, text: str) -> Parsed:
        """The tree of `text`, in the text's order. Never raises: see `Parsed.problems`."""
        with uncollected():
            return self._parsed(text)

    def _parsed(self, text: str) -> Parsed:
        children: dict[str, Node] = {}
        problems: list[TextProblem] = []
        line_number = 1
        blocks = self._blocks
        for block in _BLOCK.split(text.replace("\r\n", "\n")):
            nodes = blocks.get(block)
            if nodes is None:
                reader = _BlockReader(self.grammar, self.comment, self._leaves)
                nodes = reader.read(block.split("\n"), line_number)
                problems.extend(reader.problems)
                if not reader.problems:
                    if len(blocks) >= REMEMBERED_BLOCKS:
                        blocks.clear()
                        self._leaves.clear()
                    blocks[block] = nodes
            for node in nodes:
                present = children.get(node.statement.identity)
                children[node.statement.identity] = node if present is None else merged(present, node)
            line_number += block.count("\n") + 1
        return Parsed(root_of(self.grammar, children), tuple(problems))

    def lines_of(self, text: str) -> Iterator[tuple[int, Path]]:
        """Each line number (from 1) that holds a statement, with the path of the statement. Slow; for pointing at places."""
        reader = _BlockReader(self.grammar, self.comment, {}, with_places=True)
        reader.read(text.replace("\r\n", "\n").split("\n"), 1)
        yield from reader.places


class _BlockReader:
    """Reads lines into nodes. The stack holds the nodes that are open, how far in each stands, and its first child."""

    def __init__(self, grammar: Grammar, comment: str, leaves: dict[Statement, Node], *, with_places: bool = False) -> None:
        """`leaves` are the nodes of leaves read before: equal leaves are one node."""
        self.problems: list[TextProblem] = []
        self.places: list[tuple[int, Path]] = []
        self._with_places = with_places
        self._grammar = grammar
        self._comment = comment
        self._leaves = leaves
        self._nodes = [root_of(grammar)]
        self._indents, self._belows = [-1], [-1]

    def read(self, lines: list[str], first_line: int) -> tuple[Node, ...]:
        nodes, indents, belows, leaves, comment = self._nodes, self._indents, self._belows, self._leaves, self._comment
        leaf: Statement | None = None
        leaf_indent = 0
        for number, line in enumerate(lines, first_line):
            left = line.lstrip()
            stripped = left.rstrip()
            if not stripped or stripped.startswith(comment):
                continue
            indent = len(line) - len(left)
            if leaf is not None and indent > leaf_indent:
                self._open(leaf, leaf_indent)
            while indents[-1] >= indent:
                nodes.pop()
                indents.pop()
                belows.pop()
            if belows[-1] != indent:
                belows[-1] = self._first_child(indents[-1], belows[-1], indent, number, line)
            siblings = nodes[-1].children
            context = nodes[-1].statement.rule
            statement = context.statements.get(stripped) or self._statement(context, stripped, number)
            if statement.rule.holds_others:
                leaf = None
                self._open(statement, indent)
            else:
                # Nothing stands below a leaf, so it is opened only when something does nevertheless.
                leaf, leaf_indent = statement, indent
                siblings[statement.identity] = leaves.get(statement) or leaves.setdefault(statement, Node(statement, {}))
            if self._with_places:
                path = tuple(n.statement.identity for n in nodes[1:])
                self.places.append((number, path if leaf is None else (*path, leaf.identity)))
        return tuple(nodes[0].children.values())

    def _open(self, statement: Statement, indent: int) -> None:
        """What comes next stands below `statement`. Stated again it is restated, with what stood below it before."""
        siblings = self._nodes[-1].children
        node = siblings.get(statement.identity)
        if node is None or node.statement is not statement or not statement.rule.holds_others:
            node = siblings[statement.identity] = Node(statement, {} if node is None else dict(node.children))
        self._nodes.append(node)
        self._indents.append(indent)
        self._belows.append(-1)

    def _first_child(self, outer_indent: int, below: int, indent: int, number: int, line: str) -> int:
        """How far in the children of the open statement stand; tells where this line does not fit that."""
        word = line.split()[0]
        if "\t" in line[:indent]:
            self.problems.append(TextProblem(number, "the indentation has a tab", word, f"use {INDENT} spaces a level"))
        if outer_indent < 0 and indent > 0:
            message = f"'{word}' is indented, but nothing stands above it to belong to"
            self.problems.append(TextProblem(number, message, word, "remove the indentation"))
        elif below >= 0:
            message = f"'{word}' stands {indent} spaces in, where its neighbours stand {below} spaces in"
            self.problems.append(TextProblem(number, message, word, "a space is missing or too many"))
        return 0 if outer_indent < 0 else indent if below < 0 else below

    def _statement(self, context: Rule, line: str, number: int) -> Statement:
        if not context.known:
            return self._grammar.opaque(line)
        try:
            return self._grammar.statement(context, line)
        except UnknownStatement as unknown:
            self.problems.append(TextProblem(number, unknown.message, unknown.word, unknown.hint))
            return self._grammar.opaque(line)


def printed(tree: Node, fingerprints: Fingerprints | None = None) -> str:
    """The text of `tree`; with `fingerprints`, secrets are masked and the text is for looking at only."""
    return "".join(f"{line}\n" for line in printed_lines(tree, fingerprints))


def printed_lines(tree: Node, fingerprints: Fingerprints | None = None, depth: int = 0) -> Iterator[str]:
    """The lines of everything below `tree`, indented from `depth` levels."""
    for child in tree.children.values():
        text = masked(child.statement, fingerprints) if fingerprints else child.text
        yield " " * (INDENT * depth) + text
        if child.children:
            yield from printed_lines(child, fingerprints, depth + 1)
