"""A device's listing as records: text tables whose columns stand under their headings."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from operator import itemgetter

from oast.errors import ProtocolError
from oast.platforms import ReadingDefinition
from oast.readings.values import Value

Texts = dict[str, str | None]
"""A record before its fields have their types."""
Numbered = tuple[int, Texts]
"""One with the line on which it begins (or, of JSON and XML, which one it is), from 1."""
Record = Mapping[str, Value]
Readings = Mapping[str, list[Record]]
"""A reading's name to its records."""

# A line that only underlines the headings.
_UNDERLINING = " \t+|=_-"
# Text that begins a line which is not a row, such as a line of blanks.
_NO_ROW = _UNDERLINING + "\r\v\f\x1c\x1d\x1e\x1f"
_NO_ROWS = frozenset(_NO_ROW)
_UNDERLINE = re.compile(r"[\s+|=_-]*[+|=_-]{2}[\s+|=_-]*")


@dataclass(frozen=True, slots=True)
class _Column:
    """Where a heading stands; `field` is None for one that the reading does not use."""

    start: int
    end: int
    field: str | None
    right: bool


def rows(text: str, reading: ReadingDefinition) -> list[Numbered]:
    """Return one record for each row; "-" is None. Raises ProtocolError when the headings are missing, or a
    row does not fit under them."""
    columns: Sequence[_Column] | None = None
    plain: list[tuple[str, int, int | None]] | None = None
    found: list[Numbered] = []
    skip = [re.compile(pattern) for pattern in reading.skip]
    for number, line in enumerate(text.split("\n"), 1):
        if not line or line.isspace():
            continue
        if columns is None:
            columns = _columns(line, reading)
            plain = None if columns is None or reading.right else _plain(columns)
        elif _underlines(line) or (skip and any(pattern.search(line) for pattern in skip)):
            continue
        else:
            record = _record(line, columns) if plain is None else _cells(line, plain)
            if record is None:
                message = (
                    f"line {number} of the answer to '{reading.command}' does not match the columns: "
                    f"{line.strip()[:80]!r}"
                )
                raise ProtocolError(message, hint="check this reading in the platform file")
            if reading.continues and found and _first(record) is None:
                _complete(found[-1][1], record)
            else:
                found.append((number, record))
    if columns is None:
        raise ProtocolError(
            f"the answer to '{reading.command}' has no line with the headings {', '.join(reading.columns)}",
            hint="check this reading in the platform file",
        )
    return found


# What ends each cell of a column; no line has one in it.
END = b"\n"


@dataclass(frozen=True, slots=True)
class Columns:
    """A whole table by its columns: the line of each row, and for each field its cells from the first row to
    the last as one piece: ASCII, all equally long by the spaces behind them, and each with `END`. Most of
    them need never be taken apart.
    """

    lines: Sequence[int]
    cells: Mapping[str, bytes]


# Rows are padded to the longest; a row that is longer than all others together is not part of such a table.
MOST_PADDING = 4


def columns_of(text: str, reading: ReadingDefinition) -> Columns | None:
    """The same as `rows`, of a table whose rows are lines and whose columns all stand at the left: a tenth of
    the time. None when it is not so plain, or when something is wrong in it: then `rows` says what."""
    if reading.right or reading.skip or reading.continues or not text.isascii() or "\t" in text:
        return None
    lines = text.rstrip("\n").split("\n")
    headed = ((n, _columns(line, reading)) for n, line in enumerate(lines) if line and not line.isspace())
    head, found = next((one for one in headed if one[1] is not None), (0, None))
    if found is None:
        return None
    below: Sequence[str] = lines[head + 1 :]
    numbers: Sequence[int] = range(head + 2, head + 2 + len(below))
    # Most tables have nothing but rows, and are not looked at line by line.
    if not all(below) or not _NO_ROWS.isdisjoint(map(itemgetter(0), below)):
        rows = [
            n
            for n, line in zip(numbers, below, strict=True)
            if line and not (line[0] in _NO_ROW and _says_nothing(line))
        ]
        below, numbers = [lines[n - 1] for n in rows], rows
    width = max(found[-1].start + 1, max(map(len, below), default=0))
    if width * len(below) > MOST_PADDING * (len(text) + width):
        return None
    # All rows as one piece, of which each place of a column is copied at once: a loop over lines would take
    # longer than everything else.
    piece = "".join([line.ljust(width) for line in below]).encode("ascii")
    starts = [column.start for column in found]
    between = [*range(starts[0]), *(start - 1 for start in starts[1:])]
    if any(piece[place::width].strip(b" ") for place in between):
        return None
    ends = [*(start - 1 for start in starts[1:]), width]
    cells = {
        column.field: _block(piece, width, column.start, end, len(below))
        for column, end in zip(found, ends, strict=True)
        if column.field is not None
    }
    return Columns(numbers, cells)


def _block(piece: bytes, width: int, start: int, end: int, rows: int) -> bytes:
    """The column from `start` to `end` of rows that are `width` long."""
    own = end - start + 1
    block = bytearray(END * (own * rows))
    for place in range(start, end):
        block[place - start :: own] = piece[place::width]
    return bytes(block)


def _says_nothing(line: str) -> bool:
    return line.isspace() or _underlines(line)


def _underlines(line: str) -> bool:
    return line[0] in _UNDERLINING and _UNDERLINE.fullmatch(line) is not None


def _plain(columns: Sequence[_Column]) -> list[tuple[str, int, int | None]]:
    """Of columns that all stand at the left: field, where it begins, and where the next does."""
    ends = [*(column.start for column in columns[1:]), None]
    return [
        (column.field, column.start, end)
        for column, end in zip(columns, ends, strict=True)
        if column.field is not None
    ]


def _cells(line: str, plain: Sequence[tuple[str, int, int | None]]) -> Texts | None:
    """The cells of a row; None for one that runs on from one column into the next."""
    record: Texts = {}
    long = len(line)
    for field, start, end in plain:
        if start >= long:
            record[field] = None
            continue
        if start and line[start - 1] not in " \t|" and line[start] != " ":
            return None
        cell = line[start:end].strip()
        record[field] = None if cell == "" or cell == "-" else cell
    return record


def _columns(line: str, reading: ReadingDefinition) -> Sequence[_Column] | None:
    """Where the columns stand, if this is the line of the headings."""
    found = _known_headings if len(line) <= LONGEST_KNOWN else _headed
    return found(line, tuple(reading.columns.items()), reading.right)


def _headed(
    line: str, fields: tuple[tuple[str, str], ...], right: frozenset[str]
) -> Sequence[_Column] | None:
    spans: list[_Column] = []
    rest = line
    # Longer ones first: "state" also stands in "admin state".
    for heading, field in sorted(fields, key=lambda one: len(one[0]), reverse=True):
        match = re.search(rf"(?<!\S){re.escape(heading)}(?!\S)", rest)
        if match is None:
            return None
        spans.append(_Column(match.start(), match.end(), field, heading in right))
        rest = rest[: match.start()] + " " * len(heading) + rest[match.end() :]
    spans += [_Column(match.start(), match.end(), None, False) for match in re.finditer(r"\S+", rest)]
    return tuple(sorted(spans, key=lambda column: column.start))


# A thousand devices have the same headings. Headings without a limit are not remembered.
LONGEST_KNOWN = 500
_known_headings = lru_cache(512)(_headed)


def _record(line: str, columns: Sequence[_Column]) -> Texts:
    """The cells of a row, from the last to the first: each takes what is its own of what is left."""
    record: Texts = {column.field: None for column in columns if column.field is not None}
    left = line
    for number in range(len(columns) - 1, -1, -1):
        column = columns[number]
        if column.right:
            # The number ends below its heading, and may begin before it.
            part = left if number == len(columns) - 1 else left[: column.end]
            match = re.search(r"\S+\s*\Z", part)
            before = columns[number - 1].end if number else 0
            own = match is not None and _ends_below(match, column, before)
            cell, left = (
                (match[0].strip(), part[: match.start()]) if own and match is not None else ("", part)
            )
        else:
            cell, left = left[column.start :].strip(), left[: column.start]
        if column.field is not None:
            record[column.field] = None if cell in ("", "-") else cell
    return record


def _ends_below(match: re.Match[str], column: _Column, before: int) -> bool:
    """Whether a word ends below the heading, and not below the one before it."""
    end = match.start() + len(match[0].rstrip())
    return end > max(before, column.start)


def _first(record: Texts) -> str | None:
    return next(iter(record.values()), None)


def _complete(record: Texts, more: Texts) -> None:
    """A row that goes on with the one above it."""
    for name, value in more.items():
        if value is not None:
            before = record[name]
            record[name] = value if before is None else f"{before} {value}"
