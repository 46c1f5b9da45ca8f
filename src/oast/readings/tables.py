"""A device's listing as records: text tables whose columns stand under their headings."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oast.errors import ProtocolError
from oast.platforms.definition import ReadingDefinition

Record = Mapping[str, str | None]
Readings = Mapping[str, list[Record]]
"""A reading's name to its records."""

# A line that only underlines the headings.
_UNDERLINE = re.compile(r"[\s+|=_-]*[+|=_-]{2}[\s+|=_-]*")


@dataclass(frozen=True, slots=True)
class _Column:
    """Where a heading stands; `field` is None for one that the reading does not use."""

    start: int
    end: int
    field: str | None
    right: bool


def rows(text: str, reading: ReadingDefinition) -> list[Record]:
    """One record for each row; "-" is None. Raises ProtocolError when a heading is missing."""
    lines = [line for line in text.split("\n") if line.strip()]
    columns: Sequence[_Column] | None = None
    found: list[dict[str, str | None]] = []
    for line in lines:
        if columns is None:
            columns = _columns(line, reading)
        elif _UNDERLINE.fullmatch(line) or any(re.search(pattern, line) for pattern in reading.skip):
            continue
        else:
            record = _record(line, columns)
            if reading.continues and found and _first(record) is None:
                _complete(found[-1], record)
            else:
                found.append(record)
    if columns is None:
        raise ProtocolError(
            f"the answer to '{reading.command}' has no line with the headings {', '.join(reading.columns)}",
            hint="look at the platform's readings",
        )
    return list(found)


def _columns(line: str, reading: ReadingDefinition) -> Sequence[_Column] | None:
    """Where the columns stand, if this is the line of the headings."""
    spans: list[_Column] = []
    rest = line
    # Longer ones first: "state" also stands in "admin state".
    for heading in sorted(reading.columns, key=len, reverse=True):
        match = re.search(rf"(?<!\S){re.escape(heading)}(?!\S)", rest)
        if match is None:
            return None
        spans.append(_Column(match.start(), match.end(), reading.columns[heading], heading in reading.right))
        rest = rest[: match.start()] + " " * len(heading) + rest[match.end() :]
    spans += [_Column(match.start(), match.end(), None, False) for match in re.finditer(r"\S+", rest)]
    return sorted(spans, key=lambda column: column.start)


def _record(line: str, columns: Sequence[_Column]) -> dict[str, str | None]:
    """The cells of a row, from the last to the first: each takes what is its own of what is left."""
    record: dict[str, str | None] = {column.field: None for column in columns if column.field is not None}
    left = line
    for number in range(len(columns) - 1, -1, -1):
        column = columns[number]
        if column.right:
            # The number ends below its heading, and may begin before it.
            part = left if number == len(columns) - 1 else left[: column.end]
            match = re.search(r"\S+\s*\Z", part)
            before = columns[number - 1].end if number else 0
            own = match is not None and _ends_below(match, column, before)
            cell, left = (match[0].strip(), part[: match.start()]) if own and match is not None else ("", part)
        else:
            cell, left = left[column.start :].strip(), left[: column.start]
        if column.field is not None:
            record[column.field] = None if cell in ("", "-") else cell
    return record


def _ends_below(match: re.Match[str], column: _Column, before: int) -> bool:
    """Whether a word ends below the heading, and not below the one before it."""
    end = match.start() + len(match[0].rstrip())
    return end > max(before, column.start)


def _first(record: Record) -> str | None:
    return next(iter(record.values()), None)


def _complete(record: dict[str, str | None], more: Record) -> None:
    """A row that goes on with the one above it."""
    for name, value in more.items():
        if value is not None:
            before = record[name]
            record[name] = value if before is None else f"{before} {value}"
