"""Braces and semicolons: `name key { leaf value; }`. Read as the same statements indented, and
written back."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

from oast.config.indented_syntax import IndentedSyntax, Parsed, TextProblem, own_line
from oast.config.line import Line
from oast.config.tree import Node, Path
from oast.platforms import NO_SECRETS, Platform, Statement
from oast.records import Secret

# `name [ a b ]` stands for several statements; one that would repeat thousands of words is refused.
MOST_WORDS = 100_000


@dataclass(frozen=True, slots=True)
class BraceParser:
    """Statements as indented lines: `numbers` says of each on which line of the original it begins."""

    text: str
    numbers: tuple[int, ...]
    problems: tuple[TextProblem, ...] = ()

    def original(self, line: int) -> int:
        """The line of the original for a line of `text` (both from 1)."""
        return self.numbers[line - 1] if 0 < line <= len(self.numbers) else 1


class BraceSyntaxBase(IndentedSyntax):
    """What a platform's text has in common with indented lines, once it is unfolded."""

    def unfold(self, text: str) -> BraceParser:
        """`text` as indented lines. Never raises: see `BraceParser.problems`."""
        raise NotImplementedError

    def parse(self, text: str, marks: Mapping[str, Secret] = NO_SECRETS) -> Parsed:
        unfolded = self.unfold(self.plain(text))
        parsed = super().parse(unfolded.text, marks)
        told = (replace(problem, line=unfolded.original(problem.line)) for problem in parsed.problems)
        # A mistake in a line with several statements is reported once.
        problems = {(p.line, p.message): p for p in (*unfolded.problems, *told)}
        return replace(parsed, problems=tuple(sorted(problems.values(), key=lambda problem: problem.line)))

    def lines_of(self, text: str, marks: Mapping[str, Secret] = NO_SECRETS) -> Iterator[tuple[int, Path]]:
        unfolded = self.unfold(self.plain(text))
        for number, path in super().lines_of(unfolded.text, marks):
            yield unfolded.original(number), path


class BraceSyntax(BraceSyntaxBase):
    """Parses and prints the text of one platform with braces."""

    def __init__(self, platform: Platform) -> None:
        super().__init__(platform)
        sign = re.escape(self.comment)
        self.tokens = re.compile(
            rf'(?P<comment>{sign}[^\n]*|/\*.*?\*/)|(?P<quoted>"(?:[^"\\]|\\.)*")|(?P<mark>[{{}};\[\]])|(?P<space>\s+)'
            r'|(?P<word>[^\s{};\[\]"]+|")',
            re.DOTALL,
        )

    def unfold(self, text: str) -> BraceParser:
        reader = _Unfolding(self.indent)
        number = 1
        for match in self.tokens.finditer(text):
            kind, token = match.lastgroup, match[0]
            if kind == "mark":
                reader.mark(token, number)
            elif kind in ("word", "quoted"):
                reader.word(token, number)
            number += token.count("\n")
        return reader.ended(number)

    def _printed(
        self, node: Node, path: Path, outer: tuple[Statement, ...], depth: int
    ) -> Iterator[tuple[Line, Path]]:
        margin = " " * (self.indent * depth)
        for identity, child in node.children.items():
            here, rule = (*path, identity), child.statement.rule
            if rule.inline:
                if not child.children or rule.presence:
                    yield Line((margin, *own_line(self.grammar, child.statement, outer).parts, ";")), here
                yield from self._printed(child, here, (*outer, child.statement), depth)
                continue
            opening = own_line(self.grammar, child.statement, outer).parts
            if not child.children:
                yield Line((margin, *opening, ";")), here
                continue
            yield Line((margin, *opening, " {")), here
            yield from self._printed(child, here, (), depth + 1)
            yield Line((f"{margin}}}",)), here


class _Unfolding:
    """Puts words together to statements, and statements below each other."""

    def __init__(self, indent: int) -> None:
        self._margin = " " * indent
        self._lines: list[str] = []
        self._numbers: list[int] = []
        self._problems: list[TextProblem] = []
        self._words: list[str] = []
        self._begun = 1
        self._open: list[tuple[int, str]] = []
        self._items: list[str] | None = None

    def word(self, word: str, number: int) -> None:
        if "\n" in word:
            self._wrong(
                number,
                "a quoted text must end on its line",
                word.split("\n")[0],
                "close it before, or write \\n",
            )
            word = word.replace("\n", " ")
        if not self._words:
            self._begun = number
        (self._words if self._items is None else self._items).append(word)

    def mark(self, mark: str, number: int) -> None:
        if mark == "[":
            if self._items is not None:
                self._wrong(number, "'[' inside of '['", mark, "close the first one")
            self._items = []
        elif mark == "]":
            if self._items is None:
                self._wrong(number, "']' without an opening '['", mark, "remove it")
            self._spread()
        elif mark == ";":
            self._end(number)
        elif mark == "{":
            opened = (number, " ".join(self._words))
            if not self._words:
                self._wrong(number, "'{' without a statement before it", mark, "add the statement")
            self._end(number, opens=True)
            self._open.append(opened)
        else:
            if self._words or self._items is not None:
                self._wrong(
                    self._begun,
                    f"';' is missing after '{' '.join(self._words)}'",
                    (self._words or ["["])[0],
                    "end the statement with ';'",
                )
                self._end(number)
            if self._open:
                self._open.pop()
            else:
                self._wrong(
                    number,
                    "'}' without an opening '{'",
                    mark,
                    "remove it, or add the missing '{' above",
                )

    def _spread(self) -> None:
        """`name [ a b ]` is `name a` and `name b`."""
        items, self._items = self._items or [], None
        words = list(self._words)
        if len(words) * len(items) > MOST_WORDS:
            self._wrong(
                self._begun,
                f"{len(items)} items after {len(words)} words",
                "[",
                "add the missing ';' before it",
            )
            self._words = [*words, *items]
            return
        for item in items[:-1]:
            self._line([*words, item])
        self._words = [*words, *items[-1:]]

    def _end(self, number: int, *, opens: bool = False) -> None:
        if self._items is not None:
            self._wrong(number, "'[' is not closed", "[", "close it with ']'")
            self._spread()
        if self._words:
            self._line(self._words)
        self._words = []

    def _line(self, words: list[str]) -> None:
        self._lines.append(self._margin * len(self._open) + " ".join(words))
        self._numbers.append(self._begun)

    def ended(self, number: int) -> BraceParser:
        if self._words or self._items is not None:
            self._wrong(
                self._begun,
                f"';' is missing after '{' '.join(self._words)}'",
                (self._words or ["["])[0],
                "end the statement with ';'",
            )
            self._end(number)
        for line, statement in self._open[:1]:
            self._wrong(line, f"the '{{' after '{statement}' is not closed", "{", "close it with '}'")
        return BraceParser(
            "".join(f"{line}\n" for line in self._lines), tuple(self._numbers), tuple(self._problems)
        )

    def _wrong(self, number: int, message: str, word: str, hint: str) -> None:
        self._problems.append(TextProblem(number, message, word, hint))
