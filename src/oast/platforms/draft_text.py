"""How a saved listing is written: its syntax, indentation, comment sign and framing lines, guessed from the
text alone."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from math import gcd

TAB_WIDTH = 8
COMMENT_SIGNS = ("#", "!", ";", "//", "%", "--")
# This share of its lines must look like a syntax.
PATHS_SHARE, BRACES_SHARE = 0.6, 0.2
# Only so far from the ends of a listing are lines that frame it.
FRAME_LINES = 5
FRAME_WORDS = re.compile(
    r"(?i)\b(?:building|current|running|startup|configuration|bytes|last change|generated|version)\b"
)
FRAME_ENDS = re.compile(r":$|\bbytes\b|\b\d{1,2}:\d{2}(?::\d{2})?\b")
_WORD = re.compile(r'"(?:[^"\\]|\\.)*"|\S+')
_BRACE_PART = re.compile(r'(?P<quoted>"(?:[^"\\]|\\.)*")|(?P<mark>[{};\[\]])|(?P<word>[^\s{};\[\]"]+|")')
_PATH = re.compile(r"/[^\s/=\[\]]+(?:\[|/|\s*=|\s*$)")
_STEP = re.compile(r"/([^/\[\]=\s]+)((?:\[[^\]]*\])*)")
_KEY = re.compile(r"\[([^=\[\]\s]+)\s*=\s*['\"]?([^'\"\]]*)['\"]?\]")


@dataclass
class DraftLine:
    """A line of a configuration (from 1): its words, quoted texts as one, and the lines that belong to it."""

    number: int
    words: tuple[str, ...]
    children: list[DraftLine] = field(default_factory=list)
    keys: tuple[str, ...] = ()
    """With paths, the names of the keys that the words after the first one are."""


@dataclass(frozen=True)
class Writing:
    """How a listing is written; `ignore` are patterns of lines that only frame it."""

    syntax: str
    indent: int
    comment: str
    quotes: bool
    ignore: tuple[str, ...]
    comments: int
    """Return how many lines begin with the comment sign; 0 when the sign is only the default."""


def writing_of(text: str, syntax: str | None = None) -> Writing:
    """Guess how `text` is written; `syntax` is known already where it is given."""
    lines = [line.expandtabs(TAB_WIDTH).rstrip() for line in text.replace("\r\n", "\n").split("\n")]
    comment, comments = _comment(lines)
    plain = [line for line in lines if line.isprintable() and line and not line.lstrip().startswith(comment)]
    syntax = syntax or _syntax(plain)
    ignore = _frame(plain) if syntax == "indented" else ()
    quotes = not any(line.count('"') % 2 for line in plain)
    return Writing(syntax, _indent(plain), comment, quotes, ignore, comments)


def draft_lines(text: str, writing: Writing) -> list[DraftLine]:
    """The lines of a listing as a tree, by indentation, braces or paths."""
    number_of = list(enumerate(text.replace("\r\n", "\n").split("\n"), 1))
    ignored = [re.compile(pattern) for pattern in writing.ignore]
    plain = [
        (number, line.expandtabs(TAB_WIDTH).rstrip())
        for number, line in number_of
        if line.strip()
        and line.expandtabs().isprintable()
        and not line.strip().startswith(writing.comment)
        and not any(one.fullmatch(line.strip()) for one in ignored)
    ]
    if writing.syntax == "braces":
        return _by_braces(plain)
    if writing.syntax == "paths":
        return _by_paths(plain)
    return _by_indentation(plain)


def _comment(lines: Sequence[str]) -> tuple[str, int]:
    counts = Counter(sign for line in lines for sign in COMMENT_SIGNS if line.strip().startswith(sign))
    sign, count = max(counts.items(), key=lambda item: item[1], default=("#", 0))
    return (sign, count) if count else ("#", 0)


def _syntax(lines: Sequence[str]) -> str:
    if not lines:
        return "indented"
    if sum(1 for line in lines if _PATH.match(line.strip())) >= PATHS_SHARE * len(lines):
        return "paths"
    braces = sum(1 for line in lines if line.endswith(("{", "}", "};", ";")))
    return (
        "braces" if braces >= BRACES_SHARE * len(lines) and any("{" in line for line in lines) else "indented"
    )


def _indent(lines: Sequence[str]) -> int:
    """Spaces a level: what all differences between one line and the next deeper one have in common."""
    margins = [len(line) - len(line.lstrip()) for line in lines]
    steps = [after - before for before, after in pairwise(margins) if after > before]
    return gcd(*steps) if steps else 2


def _frame(lines: Sequence[str]) -> tuple[str, ...]:
    """Lines at the ends of a listing that are no configuration: a heading, a time, a word that says that it
    is over."""
    head = [
        line.strip()
        for line in lines[:FRAME_LINES]
        if not line.startswith(" ")
        and (line.endswith("...") or (FRAME_WORDS.search(line) and FRAME_ENDS.search(line)))
    ]
    # A single word at the left edge that nothing else begins with, such as a last 'end'.
    first_words = Counter(line.split()[0] for line in lines)
    tail = [line for line in lines[-1:] if len(lines) > 1 and first_words[line] == 1]
    return tuple(
        re.sub(r"[0-9]+", "[0-9]+", re.sub(r"([^\w\s:/,'\"-])", r"\\\1", line)) for line in (*head, *tail)
    )


def _words(line: str) -> tuple[str, ...]:
    return tuple(_WORD.findall(line.strip()))


def _by_indentation(lines: Sequence[tuple[int, str]]) -> list[DraftLine]:
    top: list[DraftLine] = []
    open_lines: list[tuple[int, DraftLine]] = []
    for number, text in lines:
        margin = len(text) - len(text.lstrip())
        line = DraftLine(number, _words(text))
        while open_lines and open_lines[-1][0] >= margin:
            open_lines.pop()
        (open_lines[-1][1].children if open_lines else top).append(line)
        open_lines.append((margin, line))
    return top


def _by_braces(lines: Sequence[tuple[int, str]]) -> list[DraftLine]:
    top = DraftLine(0, ())
    open_lines, words, begun = [top], list[str](), 0
    listed: list[str] | None = None
    for number, text in lines:
        for match in _BRACE_PART.finditer(text):
            part = match[0]
            if match.lastgroup != "mark":
                (words if listed is None else listed).append(part)
                begun = begun or number
                continue
            if part == "[":
                listed = []
            elif part == "{":
                open_lines[-1].children.append(DraftLine(begun or number, tuple(words)))
                open_lines.append(open_lines[-1].children[-1])
            elif part in ";}" and words:
                ends = [(*words, one) for one in listed] if listed is not None else [tuple(words)]
                open_lines[-1].children += [DraftLine(begun, end) for end in ends]
            if part == "}" and len(open_lines) > 1:
                open_lines.pop()
            if part != "]" and part != "[":
                words, begun, listed = [], 0, None
    return top.children


def _by_paths(lines: Sequence[tuple[int, str]]) -> list[DraftLine]:
    top = DraftLine(0, ())
    for number, text in lines:
        here, path, value = top, text.strip(), ""
        match = re.match(r"((?:/[^/\[\]=\s]+(?:\[[^\]]*\])*)+)\s*(?:=\s?(.*))?\Z", path)
        if match is None:
            continue
        path, value = match[1], (match[2] or "").strip()
        steps = list(_steps(path))
        for index, (name, keys) in enumerate(steps):
            is_last = index == len(steps) - 1
            words = (name, *keys.values(), *(_words(value) if is_last and value else ()))
            found = next((one for one in here.children if one.words == words), None)
            if found is None or (is_last and value):
                found = DraftLine(number, words, keys=tuple(keys))
                here.children.append(found)
            here = found
    return top.children


def _steps(path: str) -> Iterator[tuple[str, dict[str, str]]]:
    for match in _STEP.finditer(path):
        yield match[1], dict(_KEY.findall(match[2]))
