"""What commands print: consoles, tables, JSON documents, names and questions."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, TextIO

from rich.console import Console, JustifyMethod
from rich.table import Table

from oast.cli.terminal import UNSEEN, SafeConsole
from oast.errors import UsageError
from oast.readings import OtherValues

PLAIN_WIDTH = 100
WIDEST = 10_000
NAMED = 6


def console(*, error: bool = False) -> Console:
    """A console on stdout, or on stderr."""
    return console_on(sys.stderr if error else sys.stdout)


def console_on(stream: TextIO) -> Console:
    """A console on `stream`; without a terminal it is piped and 100 columns wide."""
    piped = not stream.isatty()
    return SafeConsole(
        file=stream,
        width=PLAIN_WIDTH if piped else None,
        highlight=False,
        markup=False,
        emoji=False,
        soft_wrap=piped,
    )


def table(*headings: str, numbers: tuple[str, ...] = (), whole: tuple[str, ...] = ()) -> Table:
    """A calm table: no lines, two spaces between columns, `numbers` to the right. Cells of `whole` are not
    broken into lines."""
    made = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for heading in headings:
        justify: JustifyMethod = "right" if heading in numbers else "left"
        made.add_column(heading, justify=justify, overflow="fold", no_wrap=heading in whole)
    return made


def print_table(out: Console, listing: Table) -> None:
    """Print a table; in a file or a pipe a row is a line, however long, and does not end in spaces."""
    if out.is_terminal:
        out.print(listing)
        return
    out.width = WIDEST
    with out.capture() as captured:
        out.print(listing)
    out.width = PLAIN_WIDTH
    out.file.write("".join(f"{line.rstrip()}\n" for line in captured.get().splitlines()))


def print_json(kind: str, version: int, content: dict[str, Any]) -> None:
    """One JSON document on stdout: `format` names it, docs/formats.md describes it."""
    print_document({"format": f"oast.{kind}/{version}", **content})


ESCAPED = {code: f"\\u{code:04x}" for code in UNSEEN}


def print_document(document: dict[str, Any]) -> None:
    """A JSON document on stdout; what acts on a terminal is escaped, also what JSON would allow as it is."""
    text = json.dumps(document, indent=2, ensure_ascii=False)
    sys.stdout.write(text.translate(ESCAPED) + "\n")


def ask_to_confirm(question: str) -> bool:
    """Ask for a yes on the terminal. Raises UsageError without one: a pipeline has to say --yes."""
    if not sys.stdin.isatty():
        raise UsageError(
            "cannot ask for confirmation without a terminal", hint="add --yes to continue without asking"
        )
    sys.stderr.write(f"{question} Type yes to continue: ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() == "yes"


def join_names(names: Sequence[str], most: int) -> str:
    """`a, b, c and 4 more`: at most `most` names."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def relative_path(path: Path) -> Path:
    """`path` as seen from the folder one is in, where it is below it."""
    here = Path.cwd()
    return path.relative_to(here) if path.is_relative_to(here) else path


def plural(number: int, noun: str) -> str:
    """`1 device`, `2 devices`."""
    return f"{number} {noun}" if number == 1 else f"{number} {noun}s"


def show_other_values(found: OtherValues) -> None:
    """Values that a reading does not know, each once for all devices."""
    for (field, word), devices in found.items():
        records = plural(devices.total(), "record")
        with suppress(OSError):
            sys.stderr.write(
                f"warning: {field} '{word}' is not a known value and counts as 'other' ({records} on"
                f" {join_names(list(devices), NAMED)})\n"
            )
