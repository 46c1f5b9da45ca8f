"""The indented syntax: a statement a line, what belongs to it deeper below it. Text to tree and back."""

from __future__ import annotations

import gc
import re
from collections.abc import Iterator
from dataclasses import dataclass

from oast.config.tree import Node, Path, masked, merged, root_of
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

    def parse(self, text: str) -> Parsed:
        """The tree of `text`, in the text's order. Never raises: see `Parsed.problems`."""
        # Nothing made here refers in a circle, and everything is kept: passes of the garbage collector over a tree that
        # grows cost a tenth of the time at 50,000 lines, and more the larger it gets.
        collecting = gc.isenabled()
        gc.disable()
        try:
            return self._parsed(text)
        finally:
            if collecting:
                gc.enable()

    def _parsed(self, text: str) -> Parsed:
        children: dict[str, Node] = {}
        problems: list[TextProblem] = []
        line_number = 1
        blocks = self._blocks
        for block in _BLOCK.split(text.replace("\r\n", "\n")):
            nodes = blocks.get(block)
            if nodes is None:
                reader = _BlockReader(self.grammar, self.comment, with_places=False)
                nodes = reader.read(block.split("\n"), line_number)
                problems.extend(reader.problems)
                if not reader.problems:
                    if len(blocks) >= REMEMBERED_BLOCKS:
                        blocks.clear()
                    blocks[block] = nodes
            for node in nodes:
                present = children.get(node.statement.identity)
                children[node.statement.identity] = node if present is None else merged(present, node)
            line_number += block.count("\n") + 1
        return Parsed(root_of(self.grammar, children), tuple(problems))

    def lines_of(self, text: str) -> Iterator[tuple[int, Path]]:
        """Each line number (from 1) that holds a statement, with the path of the statement. Slow; for pointing at places."""
        reader = _BlockReader(self.grammar, self.comment, with_places=True)
        reader.read(text.replace("\r\n", "\n").split("\n"), 1)
        yield from reader.places


@dataclass(slots=True)
class _Open:
    """A statement that may still get children; `below` is the indentation of the first of them, -1 before there is one."""

    indent: int
    statement: Statement
    path: Path
    children: dict[str, Node] | None = None
    below: int = -1


class _BlockReader:
    """Reads lines into nodes: a stack of the statements that are open."""

    def __init__(self, grammar: Grammar, comment: str, *, with_places: bool) -> None:
        self.problems: list[TextProblem] = []
        self.places: list[tuple[int, Path]] = []
        self._with_places = with_places
        self._grammar = grammar
        self._comment = comment

    def read(self, lines: list[str], first_line: int) -> tuple[Node, ...]:
        top = _Open(-1, self._grammar.root_statement, ())
        stack = [top]
        for number, line in enumerate(lines, first_line):
            stripped = line.strip()
            if not stripped or stripped.startswith(self._comment):
                continue
            indent = len(line) - len(line.lstrip())
            while stack[-1].indent >= indent:
                self._close(stack)
            outer = stack[-1]
            if outer.below != indent:
                self._check_indent(outer, indent, number, line)
            statement = self._statement(outer.statement.rule, stripped, number)
            path: Path = ()
            if self._with_places:
                path = (*outer.path, statement.identity)
                self.places.append((number, path))
            stack.append(_Open(indent, statement, path))
        while len(stack) > 1:
            self._close(stack)
        return tuple((top.children or {}).values())

    def _check_indent(self, outer: _Open, indent: int, number: int, line: str) -> None:
        word = line.split()[0]
        if "\t" in line[:indent]:
            self.problems.append(TextProblem(number, "the indentation has a tab", word, f"use {INDENT} spaces a level"))
        if outer.below < 0:
            outer.below = indent
        if outer.indent < 0 and indent > 0:
            self.problems.append(
                TextProblem(number, f"'{word}' is indented, but nothing stands above it to belong to", word, "remove the indentation")
            )
        elif outer.below != indent:
            self.problems.append(
                TextProblem(
                    number,
                    f"'{word}' stands {indent} spaces in, where its neighbours stand {outer.below} spaces in",
                    word,
                    "a space is missing or too many",
                )
            )

    def _statement(self, context: Rule, line: str, number: int) -> Statement:
        if not context.known:
            return self._grammar.opaque(line)
        try:
            return self._grammar.statement(context, line)
        except UnknownStatement as unknown:
            self.problems.append(TextProblem(number, unknown.message, unknown.word, unknown.hint))
            return self._grammar.opaque(line)

    @staticmethod
    def _close(stack: list[_Open]) -> None:
        done = stack.pop()
        outer = stack[-1]
        node = Node(done.statement, done.children or {})
        identity = done.statement.identity
        if outer.children is None:
            outer.children = {identity: node}
        elif identity in outer.children:
            outer.children[identity] = merged(outer.children[identity], node)
        else:
            outer.children[identity] = node


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
