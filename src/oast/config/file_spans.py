"""Where the statements of a configuration file stand: the spans that an edit in place replaces, so that all
other bytes stay."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from oast.config.brace_syntax import BraceSyntax
from oast.config.indented_syntax import IndentedSyntax
from oast.config.tree import Path


@dataclass
class Span:
    """One statement of a file, as offsets into its text."""

    path: Path
    """The path of the statement in the tree; of a list in brackets, that of its last item."""
    start: int
    """Where its first word begins."""
    head_end: int
    """Where its own words end: before the semicolon, the opening brace or the end of the line."""
    end: int
    """Where it ends, with its semicolon, closing brace or last line."""
    body: tuple[int, int] | None = None
    """What is between its braces; of an indented statement, the lines below it."""
    children: list[Span] = field(default_factory=list)
    items: list[tuple[Path, int, int]] = field(default_factory=list)
    """Of a list in brackets: the path of each item, and where it stands."""

    def walk(self) -> Iterator[Span]:
        """This span and everything in it, outer before inner."""
        yield self
        for child in self.children:
            yield from child.walk()


def spans_of(syntax: IndentedSyntax, text: str) -> Span:
    """The whole file as a span without a path, with the spans of its statements. Raises ValueError for braces
    that do not match."""
    whole = Span((), 0, 0, len(text), (0, len(text)))
    if isinstance(syntax, BraceSyntax):
        whole.children = _in_braces(syntax, text)
    else:
        whole.children = _in_lines(syntax, text)
    return whole


def _in_braces(syntax: BraceSyntax, text: str) -> list[Span]:
    paths = [path for _, path in syntax.lines_of(text)]
    stack: list[Span] = [Span((), 0, 0, 0)]
    words: list[tuple[int, int]] = []
    items: list[tuple[int, int]] = []
    is_list = False
    taken = 0

    def made(end: int) -> Span:
        nonlocal taken, words, items
        number = max(1, len(items))
        own = paths[taken : taken + number]
        if len(own) < number:
            raise ValueError("it cannot be told which statement is where")
        taken += number
        last = max(words[-1][1], items[-1][1] if items else 0)
        listed = [(path, *place) for path, place in zip(own, items, strict=False)] if len(items) > 1 else []
        span = Span(own[-1], words[0][0], last, end, items=listed)
        words, items = [], []
        stack[-1].children.append(span)
        return span

    for match in syntax.tokens.finditer(text):
        kind, mark = match.lastgroup, match[0]
        if kind in ("word", "quoted"):
            (items if is_list else words).append(match.span())
        elif mark == "[" and kind == "mark":
            is_list = True
        elif mark == "]" and kind == "mark":
            is_list = False
        elif mark == ";" and kind == "mark":
            if words:
                closed = made(match.end())
                if closed.items:
                    closed.head_end = match.start()
        elif mark == "{" and kind == "mark":
            if not words:
                raise ValueError("a '{' has no statement before it")
            stack.append(made(match.end()))
            stack[-1].body = (match.end(), match.end())
        elif mark == "}" and kind == "mark":
            if len(stack) == 1 or words:
                raise ValueError("a '}' closes nothing, or a ';' is missing before it")
            span = stack.pop()
            span.body, span.end = ((span.body or (0, 0))[0], match.start()), match.end()
    if len(stack) > 1 or words:
        raise ValueError("a '{' is not closed")
    return stack[0].children


def _in_lines(syntax: IndentedSyntax, text: str) -> list[Span]:
    """Each statement is a line; what is deeper below it is its body."""
    starts = [0]
    for line in text.split("\n"):
        starts.append(starts[-1] + len(line) + 1)
    lines = text.split("\n")
    by_number: dict[int, Path] = {}
    for number, path in syntax.lines_of(text):
        by_number[number] = path  # of a path with several levels on one line, the innermost
    found: list[Span] = []
    open_: list[tuple[int, Span]] = []
    for number, path in sorted(by_number.items()):
        line = lines[number - 1].rstrip("\r")
        margin = len(line) - len(line.lstrip(" \t"))
        start, end = starts[number - 1] + margin, starts[number - 1] + len(line.rstrip())
        span = Span(path, start, end, end)
        while open_ and open_[-1][0] >= margin:
            open_.pop()
        for _, outer in open_:
            outer.body = (outer.body[0] if outer.body else outer.head_end, end)
            outer.end = end
        (open_[-1][1].children if open_ else found).append(span)
        open_.append((margin, span))
    return found
