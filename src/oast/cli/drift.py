"""oast drift: changes that did not come from Oast, failing policies, secrets that are too old."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from rich.console import Console
from rich.text import Text

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import Subcommand, option
from oast.cli.diff_view import show_differences, show_unsaved
from oast.cli.error_output import show_device_errors, show_problems
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import console, join_names, plural, print_json
from oast.cli.progress import Progress
from oast.cli.shared_options import (
    ConnectionOptions,
    EstateOptions,
    FormatOptions,
    IntentOptions,
    SelectionOptions,
)
from oast.cli.terminal import print_hanging
from oast.errors import UsageError
from oast.operations import Change, DriftReport, draw_history, drifted_document, find_drift, prepare_intents

NAMED = 4


@dataclass(frozen=True, kw_only=True)
class DriftOptions(SelectionOptions, IntentOptions, ConnectionOptions, FormatOptions, EstateOptions):
    """The options of `oast drift`."""

    plot: Path | None = option(
        "--plot",
        metavar="FILE",
        type=Path,
        help="draw what oast watch found over time into FILE (.png, .svg or .pdf); connects to no device",
    )


def run(options: DriftOptions) -> int:
    if options.plot is not None:
        return _plot(options, options.plot)
    found = run_to_end(_found(options))
    if options.format == "json":
        print_json("drift", 1, drifted_document(found))
    else:
        show_unsaved(found.compared, console(), pushing=False)
        _show(found)
        show_device_errors(found.failed, sys.stderr, found.plan.logs)
        for why in found.unkept:
            sys.stderr.write(f"warning: cannot compare with the last backup: {why}\n")
        if found.left_out:
            names = join_names(found.left_out, NAMED)
            sys.stderr.write(
                f"{names}: skipped, because a running or interrupted delivery includes them (see oast"
                " change list, oast change recover)\n"
            )
    return FAILED if found.failed or found.left_out else NO if found.wrong else DONE


async def _found(options: DriftOptions) -> DriftReport:
    prepared = prepare_intents(estate_of(options), options.on, options.section)
    quiet = options.quiet or options.format == "json"
    with Progress(
        console(error=True), [intent.device.name for intent in prepared.intents], quiet=quiet
    ) as progress:
        return await find_drift(
            prepared,
            limited=bool(options.section),
            parallel=options.parallel,
            timeout_s=options.timeout,
            on_event=progress,
        )


def _plot(options: DriftOptions, file: Path) -> int:
    if options.on or options.section or options.given:
        raise UsageError(
            "--plot draws the history of all devices", hint="leave out --on, --section and --with"
        )
    estate = estate_of(options)
    runs, first, last = draw_history(estate, file)
    if options.format == "json":
        print_json(
            "plot",
            1,
            {"file": str(file), "runs": runs, "from": first.isoformat(), "to": last.isoformat()},
        )
    else:
        console().print(
            f"{file}: {plural(runs, 'run')} from {first:%Y-%m-%d %H:%M} to {last:%Y-%m-%d %H:%M} UTC"
        )
    return DONE


def _show_last(out: Console, last: Mapping[str, Change]) -> None:
    """Who has delivered to the same parts last."""
    groups: dict[str, list[str]] = {}
    for name, change in last.items():
        groups.setdefault(f"{change.name} by {change.author}: {change.reason}", []).append(name)
    for told, names in groups.items():
        print_hanging(
            out,
            Text.assemble((f"last changes of these parts on {join_names(names, NAMED)}: ", "dim"), told),
        )
    if groups:
        out.print()


def _show(found: DriftReport) -> None:
    out = console()
    known = [drift for drift in found.drifts if drift.since is not None]
    new = [drift for drift in found.drifts if drift.since is None]
    show_differences(known, out)
    _show_last(out, found.last)
    if new:
        names = plural(len(new), "device")
        out.print(
            f"{names}: never delivered to, so compared with the intent instead of a baseline:", style="yellow"
        )
        out.print()
        show_differences(new, out)
    for unlike in found.unlike:
        says = f"says {unlike.found}" if unlike.found is not None else "does not report it"
        place = f"{unlike.place}: " if unlike.place else ""
        print_hanging(
            out,
            Text.assemble(
                (place, "cyan"),
                (f"{unlike.device}: expected {unlike.attribute} {unlike.meant}; the device {says}", "bold"),
            ),
        )
    show_problems(found.policies, sys.stdout)
    if found.policies or found.unlike:
        out.print()
    _show_besides(out, found)
    drifted = [drift for drift in found.drifts if drift.edits]
    as_before = "unchanged" if known else "in sync"
    told = []
    if found.drifts:
        told.append(
            f"{plural(len(drifted), 'device')} drifted, {len(found.drifts) - len(drifted)} {as_before}"
            if drifted
            else f"no drift: {plural(len(found.drifts), 'device')} {as_before}"
        )
    if found.unlike:
        told.append(
            f"{plural(len({unlike.device for unlike in found.unlike}), 'device')} different from the"
            " inventory"
        )
    if found.errors:
        told.append(plural(len(found.errors), "policy violation"))
    if told:
        out.print("; ".join(told))


def _show_besides(out: Console, found: DriftReport) -> None:
    """Print what is not drift, but explains some of it."""
    if found.undelivered:
        names = join_names(found.undelivered, NAMED)
        print_hanging(
            out,
            Text.assemble(
                ("not delivered yet: ", "dim"),
                f"{names}",
                (" (see oast diff)", "dim"),
            ),
        )
    if found.since_backup:
        names = join_names([drift.name for drift in found.since_backup], NAMED)
        print_hanging(
            out,
            Text.assemble(
                ("changed since the last backup: ", "dim"),
                f"{names}",
                (" (oast backup saves the current configurations)", "dim"),
            ),
        )
    if found.undelivered or found.since_backup:
        out.print()


COMMAND = Subcommand(
    DriftOptions,
    run,
    examples=(
        ("oast drift", "show what changed on devices without Oast"),
        ("oast drift --on site=gull --format json", "check one site, and print JSON"),
    ),
    exits=(0, 1, 2, 3, 4),
    no="drift was found, or a policy fails",
)
