"""Errors in words: what is wrong, where, the line as written, the likely fix; and the exit code of each kind."""

from __future__ import annotations

import os
import tempfile
import traceback
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TextIO

from oast import __version__
from oast.cli.exits import FAILED, INVALID, USAGE
from oast.cli.workplace import near
from oast.errors import DeviceError, EstateError, OastError, UsageError
from oast.records import Problem, gathered

NAMED = 3


def exit_code_of(error: OastError) -> int:
    """The exit code that belongs to the kind of error."""
    if isinstance(error, UsageError):
        return USAGE
    if isinstance(error, EstateError):
        return INVALID
    return FAILED


def show_error(error: OastError, stream: TextIO) -> int:
    """Say what is wrong and return the exit code."""
    problems = gathered(error.problems())
    show_problems(problems, stream)
    if len(problems) > 1:
        stream.write(f"{len(problems)} mistakes\n")
    return exit_code_of(error)


def show_problems(problems: Iterable[Problem], stream: TextIO) -> None:
    """Each problem as `place: message`, the line as written, and the hint."""
    for problem in problems:
        where = f"{problem.place}: " if problem.place else ""
        stream.write(f"{where}{problem.message}{_for(problem.devices)}\n")
        if problem.excerpt:
            stream.write("".join(f"    | {line}\n" for line in problem.excerpt.split("\n")))
        if problem.hint:
            stream.write(f"    {problem.hint}\n")


def _for(devices: Sequence[str]) -> str:
    if not devices:
        return ""
    more = f" and {len(devices) - NAMED} more" if len(devices) > NAMED else ""
    return f" (for {', '.join(devices[:NAMED])}{more})"


def show_device_errors(errors: Iterable[tuple[str, DeviceError]], stream: TextIO, logs: Path | None = None) -> None:
    """What went wrong with single devices, one after the other, and where in `logs` their transcripts are."""
    for name, error in errors:
        stream.write(f"{name}: {error.message}\n")
        if error.hint:
            stream.write(f"    {error.hint}\n")
        if logs is not None and (logs / f"{name}.log").exists():
            stream.write(f"    log: {near(logs / f'{name}.log')}\n")


def explain_bug(error: Exception, stream: TextIO) -> None:
    """Anything that is not an OastError is a fault of Oast: keep the traceback in a file and ask for a report."""
    handle, name = tempfile.mkstemp(prefix="oast-fault-", suffix=".txt")
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        # The lines of code and the kind of error, never its text or values: those could hold a secret.
        file.write(f"oast {__version__}\n" + "".join(traceback.format_tb(error.__traceback__)) + f"{type(error).__name__}\n")
    stream.write(f"This is a fault of Oast ({type(error).__name__}), not yours. No more is done.\n")
    stream.write(f"    please report it with the file {Path(name)}\n")
