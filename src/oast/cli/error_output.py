"""Error messages: what is wrong, where, the line as written, the likely fix; and the exit code of each
kind."""

from __future__ import annotations

import os
import platform
import sys
import tempfile
import traceback
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib import metadata
from pathlib import Path
from typing import TextIO

from rich.text import Text

from oast import __version__
from oast.cli.exit_codes import FAILED, INVALID, NO, USAGE
from oast.cli.output import console_on, join_names, relative_path
from oast.cli.terminal import print_hanging
from oast.errors import ApprovalError, DeviceError, EstateError, OastError, UsageError
from oast.files import write_whole
from oast.records import Problem, deduplicated

NAMED = 3


def exit_code_of(error: OastError) -> int:
    """The exit code that belongs to the kind of error."""
    if isinstance(error, UsageError):
        return USAGE
    if isinstance(error, EstateError):
        return INVALID
    return NO if isinstance(error, ApprovalError) else FAILED


def show_error(error: OastError, stream: TextIO) -> int:
    """Say what is wrong and return the exit code."""
    problems = deduplicated(error.problems())
    show_problems(problems, stream)
    if len(problems) > 1:
        stream.write(f"{len(problems)} mistakes\n")
    return exit_code_of(error)


def show_problems(problems: Iterable[Problem], stream: TextIO) -> None:
    """Each problem as `place: message`, the line as written, the hint, and the values behind it."""
    out = console_on(stream)
    for problem in problems:
        devices = f" (for {join_names(problem.devices, NAMED)})" if problem.devices else ""
        print_hanging(
            out,
            Text.assemble(
                (f"{problem.place}: " if problem.place else "", "cyan"),
                ("warning: " if problem.is_warning else "", "yellow"),
                (problem.message, "bold"),
                devices,
            ),
        )
        for line in (problem.excerpt or "").split("\n") if problem.excerpt else ():
            out.print(Text(f"    | {line}"))
        if problem.hint:
            out.print(Text(f"    hint: {problem.hint}", style="green"))
        for line in problem.behind:
            out.print(Text(f"    from {line}", style="dim"))


@dataclass(frozen=True)
class DeviceFailure:
    """Why some devices failed; `log` is the transcript of one, or the folder of several."""

    devices: tuple[str, ...]
    reason: str
    hint: str | None = None
    log: Path | None = None


def group_failures(troubles: Iterable[DeviceFailure]) -> list[DeviceFailure]:
    """Devices that failed for the same reason together: three hundred wrong passwords are one
    thing to read."""
    found: dict[tuple[str, str | None], list[DeviceFailure]] = {}
    for trouble in troubles:
        found.setdefault((trouble.reason, trouble.hint), []).append(trouble)
    grouped = []
    for (reason, hint), same in found.items():
        log = same[0].log
        names = tuple(name for trouble in same for name in trouble.devices)
        grouped.append(
            DeviceFailure(names, reason, hint, log if log is None or len(names) == 1 else log.parent)
        )
    return grouped


def failure_lines(trouble: DeviceFailure) -> tuple[str, list[str]]:
    """The devices, and the lines about them: the reason, then what to do and where to look."""
    below = [f"    hint: {trouble.hint}"] if trouble.hint else []
    if trouble.log is not None and trouble.log.exists():
        below.append(f"    log: {relative_path(trouble.log)}")
    return join_names(trouble.devices, NAMED), [trouble.reason, *below]


def show_device_errors(
    errors: Iterable[tuple[str, DeviceError]], stream: TextIO, logs: Path | None = None
) -> None:
    """What went wrong with single devices, and where in `logs` their transcripts are."""
    for trouble in group_failures(
        DeviceFailure((n,), e.message, e.hint, logs / f"{n}.log" if logs else None) for n, e in errors
    ):
        devices, lines = failure_lines(trouble)
        reason, *below = lines
        out = console_on(stream)
        print_hanging(out, Text(f"{devices}: {reason}"))
        for line in below:
            out.print(Text(line))


# Packages whose versions an internal error may depend on.
SOURCE = Path(__file__).parents[1]
PACKAGES = ("asyncssh", "jinja2", "jmespath", "jwcrypto", "PyYAML", "rich")


def write_crash_report(error: Exception, stream: TextIO, command: Sequence[str], estate: Path | None) -> None:
    """Handle an exception that is not an OastError: write a crash report, and ask the user for a bug report.

    The file goes to `.oast/faults` of the estate, if there is one. `command` are the words that are safe to
    show.
    """
    text = "\n".join([*_circumstances(command), "", *_traced(error)]) + "\n"
    kept: Path | None = None
    for folder in ([estate / ".oast" / "faults"] if estate is not None else []) + [
        Path(tempfile.gettempdir())
    ]:
        path = folder / f"oast-fault-{datetime.now(UTC):%Y%m%dT%H%M%SZ}-{os.getpid()}.txt"
        with suppress(OSError):
            write_whole(path, text, mode=0o600)
            kept = path
            break
    stream.write(f"internal error in Oast ({type(error).__name__}). The command was aborted.\n")
    stream.write(
        f"    hint: report it with the file {kept}\n"
        if kept is not None
        else f"    hint: report it with this text:\n{text}"
    )


def _circumstances(command: Sequence[str]) -> Iterator[str]:
    yield f"oast {__version__}, Python {sys.version.split()[0]}, {platform.platform()}"
    found = []
    for name in PACKAGES:
        with suppress(metadata.PackageNotFoundError):
            found.append(f"{name} {metadata.version(name)}")
    yield ", ".join(found)
    yield f"command: oast {' '.join(command)}"


def _traced(error: BaseException) -> Iterator[str]:
    """The lines of code and the kinds of the errors, innermost last, never their texts or values: those could
    hold a secret."""
    chain: list[BaseException] = []
    link: BaseException | None = error
    while link is not None and link not in chain:
        chain.append(link)
        link = link.__cause__ or link.__context__
    for number, one in enumerate(chain):
        yield f"{'because of ' if number else ''}{type(one).__name__}, at:"
        for frame in traceback.extract_tb(one.__traceback__):
            # The contents of templates and of the user's files are confidential.
            ours = frame.line if Path(frame.filename).is_relative_to(SOURCE) else None
            yield f"  {frame.filename}:{frame.lineno} in {frame.name}" + (f": {ours}" if ours else "")
