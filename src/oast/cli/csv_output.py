"""CSV (RFC 4180) for spreadsheets: what devices and inventories say is text there, and no formula."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from oast.cli.terminal import visible

_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def csv_text(heading: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """A heading and rows, with line breaks of one character."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(heading)
    writer.writerows([_cell(cell) for cell in row] for row in rows)
    return out.getvalue()


def _cell(text: str) -> str:
    """A cell that a spreadsheet does not take for a formula, nor a terminal for a command. A number stays
    one."""
    is_formula = text.startswith(_FORMULA) and not text[1:].replace(".", "", 1).isdigit()
    return visible(f"'{text}" if is_formula else text)
