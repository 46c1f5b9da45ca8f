"""oast drift: differences that nobody delivered, policies that fail, secrets that are too old."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from pathlib import Path

from rich.console import Console
from rich.text import Text

from oast.cli import arguments
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.diff_view import show_differences, show_unsaved
from oast.cli.error_output import show_device_errors, show_problems
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import console, join_names, plural, print_json
from oast.cli.progress import Progress
from oast.cli.terminal import print_hanging
from oast.errors import UsageError
from oast.operations import Change, DriftReport, draw_history, drifted_document, find_drift, prepare_intents

NAMED = 4


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--plot",
        metavar="FILE",
        type=Path,
        help="draw what oast watch has found over time (.png, .svg or .pdf); asks no device",
    )
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    if options.plot is not None:
        return _plot(options)
    found = run_to_end(_found(options))
    if options.format == "json":
        print_json("drift", 1, drifted_document(found))
    else:
        show_unsaved(found.compared, console(), pushing=False)
        _show(found)
        show_device_errors(found.failed, sys.stderr, found.plan.logs)
        for why in found.unkept:
            sys.stderr.write(f"the last backup cannot be compared with: {why}\n")
        if found.left_out:
            names = join_names(found.left_out, NAMED)
            sys.stderr.write(
                f"{names}: left out, as a run delivers to them or has left them open (oast change list, oast"
                " change resume)\n"
            )
    return FAILED if found.failed or found.left_out else NO if found.wrong else DONE


async def _found(options: argparse.Namespace) -> DriftReport:
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


def _plot(options: argparse.Namespace) -> int:
    if options.on or options.section or options.given:
        raise UsageError(
            "--plot draws what was kept of all that is watched", hint="leave out --on, --section and --with"
        )
    estate = estate_of(options)
    runs, first, last = draw_history(estate, options.plot)
    if options.format == "json":
        print_json(
            "plot",
            1,
            {"file": str(options.plot), "runs": runs, "from": first.isoformat(), "to": last.isoformat()},
        )
    else:
        console().print(
            f"{options.plot}: {plural(runs, 'run')} from {first:%Y-%m-%d %H:%M} to {last:%Y-%m-%d %H:%M} UTC"
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
            Text.assemble((f"delivered last to these parts of {join_names(names, NAMED)}: ", "dim"), told),
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
        out.print(f"nothing was ever delivered to {names}; against the intent instead:", style="yellow")
        out.print()
        show_differences(new, out)
    for unlike in found.unlike:
        says = f"says {unlike.found}" if unlike.found is not None else "says nothing of it"
        place = f"{unlike.place}: " if unlike.place else ""
        print_hanging(
            out,
            Text.assemble(
                (place, "cyan"),
                (f"{unlike.device} is meant to have {unlike.attribute} {unlike.meant}: it {says}", "bold"),
            ),
        )
    show_problems(found.policies, sys.stdout)
    if found.policies or found.unlike:
        out.print()
    _show_besides(out, found)
    drifted = [drift for drift in found.drifts if drift.edits]
    as_before = "as delivered" if known else "as intended"
    told = []
    if found.drifts:
        told.append(
            f"{plural(len(drifted), 'device')} drifted, {len(found.drifts) - len(drifted)} {as_before}"
            if drifted
            else f"no drift: {plural(len(found.drifts), 'device')} {as_before}"
        )
    if found.unlike:
        told.append(
            f"{plural(len({unlike.device for unlike in found.unlike}), 'device')} not as in the inventory"
        )
    if found.errors:
        told.append(plural(len(found.errors), "policy violation"))
    if told:
        out.print("; ".join(told))


def _show_besides(out: Console, found: DriftReport) -> None:
    """What is no drift by itself, and explains some."""
    if found.undelivered:
        names = join_names(found.undelivered, NAMED)
        print_hanging(
            out,
            Text.assemble(
                ("not delivered yet to ", "dim"),
                f"{names}",
                (": what the intent has besides (oast diff)", "dim"),
            ),
        )
    if found.since_backup:
        names = join_names([drift.name for drift in found.since_backup], NAMED)
        print_hanging(
            out,
            Text.assemble(
                ("not as in the last backup: ", "dim"),
                f"{names}",
                (" (oast backup keeps them as they are)", "dim"),
            ),
        )
    if found.undelivered or found.since_backup:
        out.print()
