"""A device's listing as records: text tables whose columns begin where their headings do."""

from __future__ import annotations

import re
from collections.abc import Mapping

from oast.errors import ProtocolError
from oast.platforms.definition import ReadingDefinition

Record = Mapping[str, str | None]
Readings = Mapping[str, list[Record]]
"""A reading's name to its records."""


def records(text: str, reading: ReadingDefinition) -> list[Record]:
    """One record for each row; "-" is None. Raises ProtocolError when a heading is missing."""
    lines = [line for line in text.split("\n") if line.strip()]
    heading = next((n for n, line in enumerate(lines) if set(reading.columns) <= set(line.split())), None)
    if heading is None:
        raise ProtocolError(
            f"the answer to '{reading.command}' has no line with the headings {', '.join(reading.columns)}",
            hint="look at the platform's readings",
        )
    starts = [(match[0], match.start()) for match in re.finditer(r"\S+", lines[heading])]
    found: list[Record] = []
    for line in lines[heading + 1 :]:
        record: dict[str, str | None] = {}
        for number, (name, start) in enumerate(starts):
            if name in reading.columns:
                end = starts[number + 1][1] if number + 1 < len(starts) else len(line)
                cell = line[start:end].strip()
                record[reading.columns[name]] = None if cell in ("", "-") else cell
        found.append(record)
    return found
