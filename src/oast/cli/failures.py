"""Errors in words: what is wrong, where, the line as written, the likely fix; and the exit code of each kind."""

from __future__ import annotations

import os
import tempfile
import traceback
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TextIO

from rich.text import Text

from oast import __version__
from oast.cli.exits import FAILED, INVALID, USAGE
from oast.cli.terminal import put_hanging
from oast.cli.workplace import console_on, named, near
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
    """Each problem as `place: message`, the line as written, the hint, and the values behind it."""
    out = console_on(stream)
    for problem in problems:
        devices = f" (for {named(problem.devices, NAMED)})" if problem.devices else ""
        put_hanging(out, Text.assemble((f"{problem.place}: " if problem.place else "", "cyan"), (problem.message, "bold"), devices))
        for line in (problem.excerpt or "").split("\n") if problem.excerpt else ():
            out.print(Text(f"    | {line}"))
        if problem.hint:
            out.print(Text(f"    {problem.hint}", style="green"))
        for line in problem.behind:
            out.print(Text(f"    from {line}", style="dim"))


@dataclass(frozen=True)
class Trouble:
    """Why some devices failed; `log` is the transcript of one, or the folder of several."""

    devices: tuple[str, ...]
    reason: str
    hint: str | None = None
    log: Path | None = None


def gathered_troubles(troubles: Iterable[Trouble]) -> list[Trouble]:
    """Devices that failed for the same reason together: three hundred wrong passwords are one thing to read."""
    found: dict[tuple[str, str | None], list[Trouble]] = {}
    for trouble in troubles:
        found.setdefault((trouble.reason, trouble.hint), []).append(trouble)
    gathered = []
    for (reason, hint), same in found.items():
        log = same[0].log
        names = tuple(name for trouble in same for name in trouble.devices)
        gathered.append(Trouble(names, reason, hint, log if log is None or len(names) == 1 else log.parent))
    return gathered


def trouble_lines(trouble: Trouble) -> tuple[str, list[str]]:
    """The devices, and the lines about them: the reason, then what to do and where to look."""
    below = [f"    {trouble.hint}"] if trouble.hint else []
    if trouble.log is not None and trouble.log.exists():
        below.append(f"    log: {near(trouble.log)}")
    return named(trouble.devices, NAMED), [trouble.reason, *below]


def show_device_errors(errors: Iterable[tuple[str, DeviceError]], stream: TextIO, logs: Path | None = None) -> None:
    """What went wrong with single devices, and where in `logs` their transcripts are."""
    for trouble in gathered_troubles(Trouble((n,), e.message, e.hint, logs / f"{n}.log" if logs else None) for n, e in errors):
        devices, lines = trouble_lines(trouble)
        reason, *below = lines
        out = console_on(stream)
        put_hanging(out, Text(f"{devices}: {reason}"))
        for line in below:
            out.print(Text(line))


def explain_bug(error: Exception, stream: TextIO) -> None:
    """Anything that is not an OastError is a fault of Oast: keep the traceback in a file and ask for a report."""
    handle, name = tempfile.mkstemp(prefix="oast-fault-", suffix=".txt")
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        # The lines of code and the kind of error, never its text or values: those could hold a secret.
        file.write(f"oast {__version__}\n" + "".join(traceback.format_tb(error.__traceback__)) + f"{type(error).__name__}\n")
    stream.write(f"This is a fault of Oast ({type(error).__name__}), not yours. No more is done.\n")
    stream.write(f"    please report it with the file {Path(name)}\n")
