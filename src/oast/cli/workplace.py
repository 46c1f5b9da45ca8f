"""What the commands have in common: the estate that is meant, the terminal, values from the command line."""

from __future__ import annotations

import argparse
import getpass
import json
import os
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, TextIO

from rich.console import Console, JustifyMethod
from rich.table import Table

from oast.change.record import interrupted_runs
from oast.cli.terminal import UNSEEN, SafeConsole
from oast.errors import EstateError, StateError, UsageError
from oast.estate import Ask, Estate, check_owned, find, load_estate, parse_yaml
from oast.files import make_tree_private
from oast.readings import OtherValues
from oast.spelling import spelling_hint
from oast.verify import GOOD, ExpectedLoss, parse_expected_loss

PLAIN_WIDTH = 100
WIDEST = 10_000
NAMED = 6
# What does something with devices; the others look at the estate alone.
TOUCHING = ("diff", "push", "verify", "drift", "backup", "restore", "ask")
NOTHING: Mapping[str, str] = {}


def estate_of(
    options: argparse.Namespace, secrets: Mapping[str, str] = NOTHING, *, telling: bool = True
) -> Estate:
    """The estate the options mean, read whole; with `secrets` in place of those that are kept. Raises
    UsageError, EstateError.

    If it is to be told, whoever runs this learns of what a run that died has left.
    """
    estate = load_estate(folder_of(options), os.environ, given_values(options), asker(), secrets)
    if telling:
        _tell_left(estate)
        if getattr(options, "command", "") in TOUCHING:
            _tell_not_in_service(estate, getattr(options, "on", None))
    # The same fingerprints in the next run; where nothing can be written, only this one has them.
    with suppress(OSError):
        estate.secrets.keep_key()
    return estate


def _tell_not_in_service(estate: Estate, on: str | None) -> None:
    """Who picks devices and gets fewer is told why."""
    try:
        left = estate.not_in_service(on)
    except EstateError:
        return  # whoever picks them says what is wrong
    if left:
        names = join_names([device.name for device in left], NAMED)
        sys.stderr.write(f"left out, as not in service: {names}\n")


def _tell_left(estate: Estate) -> None:
    try:
        runs = interrupted_runs(estate.working)
    except StateError as error:
        sys.stderr.write(f"careful: {error.message}\n")
        return
    for left in runs:
        flying = [device.name for device in left.devices_in_unknown_state]
        what = (
            f"and it is not known what became of {join_names(flying, NAMED)}"
            if flying
            else "before anything was sent to a device"
        )
        sys.stderr.write(
            f"careful: the run {left.run} ended in the middle, {what}\n    leave it in order with: oast"
            " change resume\n"
        )


def given_values(options: argparse.Namespace) -> list[tuple[str, Any]]:
    """The values of --with. Raises UsageError."""
    return [_given(text) for text in getattr(options, "given", ())]


def asker() -> Ask | None:
    """Who can be asked for a secret: whoever sits at the terminal."""
    return ask_secret if sys.stdin.isatty() else None


def folder_of(options: argparse.Namespace) -> Path:
    """The folder of the estate the options mean. Raises UsageError.

    One that others can write to has to be named; what others could see of its working data is closed to them.
    """
    if getattr(options, "folder", None) is not None:
        return Path(options.folder)
    folder: Path | None = options.estate
    if folder is None:
        folder = find(Path.cwd())
        told = check_owned(folder)
    else:
        require_estate(folder)
        try:
            told = check_owned(folder)
        except UsageError as error:
            told = [error.message]
    for what in told:
        sys.stderr.write(f"careful: {what}\n")
    _close_to_others(folder / ".oast")
    options.folder = folder
    return folder


def require_estate(folder: Path) -> Path:
    """`folder`, which is named. Raises UsageError when it is no estate."""
    if not (folder / "oast.toml").is_file():
        raise UsageError(f"{folder} is no estate: it has no oast.toml")
    return folder


def _close_to_others(working: Path) -> None:
    try:
        if make_tree_private(working):
            sys.stderr.write(f"{relative_path(working)} could be read by others; from now on only by you\n")
    except OSError as error:
        sys.stderr.write(
            f"careful: {relative_path(working)} can be read by others, and that cannot be changed:"
            f" {error.strerror}\n"
        )


def ask_secret(name: str) -> str:
    """Ask for a secret on the terminal, without showing it."""
    return getpass.getpass(f"{name}: ", sys.stderr)


def _given(text: str) -> tuple[str, Any]:
    key, sign, value = text.partition("=")
    if not sign or not key.strip():
        raise UsageError(f"--with {text}: write KEY=VALUE, for example --with ntp.prefer=true")
    try:
        return key.strip(), parse_yaml(value, "--with")
    except EstateError as error:
        raise UsageError(f"--with {text if len(text) < 80 else text[:77] + '...'}: {error.message}") from None


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


def what_may_be_lost(texts: Sequence[str]) -> tuple[ExpectedLoss, ...]:
    """What --expect says. Raises UsageError, EstateError."""
    found = []
    for text in texts:
        try:
            found.append(parse_expected_loss(text))
        except ValueError as wrong:
            raise UsageError(
                f"nothing can be lost of a reading '{wrong}'", hint=spelling_hint(str(wrong), GOOD)
            ) from None
    return tuple(found)


def ask_to_confirm(question: str) -> bool:
    """Ask for a yes on the terminal. Raises UsageError without one: a pipeline has to say --yes."""
    if not sys.stdin.isatty():
        raise UsageError("there is no terminal to ask on", hint="add --yes to go on without asking")
    sys.stderr.write(f"{question} Type yes to go on: ")
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
