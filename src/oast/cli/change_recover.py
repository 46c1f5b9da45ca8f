"""oast change recover: what runs that died have left is found out, and left in order."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import Any

from rich.text import Text

from oast.change import State
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.change import RecoverOptions
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED
from oast.cli.output import console, print_json, print_table, table
from oast.cli.progress import Progress, style_of
from oast.cli.terminal import print_hanging
from oast.operations import RecoveredRun, RunRecovery


def run_recover(options: RecoverOptions) -> int:
    """Take up everything that was left open."""
    recovery = RunRecovery(
        estate_of(options, telling=False),
        parallel=options.parallel,
        timeout_s=options.timeout,
        abandon=options.abandon,
    )
    names = [device.name for left in recovery.runs for device in left.devices]
    with Progress(
        console(error=True), names, quiet=bool(options.quiet or options.format == "json")
    ) as progress:
        recovery.on_event = progress
        runs: list[RecoveredRun] = run_to_end(recovery.run())
    if options.format == "json":
        print_json("recover", 1, {"runs": [_document(run) for run in runs]})
    else:
        _show_recovered(runs, nothing=not recovery.runs)
    for run in runs:
        if run.unrecorded is not None:
            sys.stderr.write(f"warning: the record of run {run.run} could not be written: {run.unrecorded}\n")
    for name in recovery.elsewhere:
        sys.stderr.write(f"another process of Oast is recovering run {name}; it was skipped\n")
    return FAILED if recovery.elsewhere or any(run.failed for run in runs) else DONE


def _document(run: RecoveredRun) -> Mapping[str, Any]:
    devices = [
        {"device": o.device, "state": str(o.state), "reason": o.reason, "hint": o.hint} for o in run.outcomes
    ]
    return {"run": run.run, "change": run.change, "began": run.began, "devices": devices}


def _show_recovered(runs: list[RecoveredRun], *, nothing: bool) -> None:
    out = console()
    if nothing:
        out.print("nothing to recover: there is no interrupted run")
        return
    for run in runs:
        out.print(f"run {run.run}, started {run.began[:19]} UTC", style="bold")
        listing = table("device", "result")
        for outcome in run.outcomes:
            listing.add_row(outcome.device, Text(outcome.state.shown, style=style_of(outcome.state.shown)))
        print_table(out, listing)
        for outcome in run.outcomes:
            if outcome.state is State.UNKNOWN or outcome.hint:
                print_hanging(out, Text.assemble((outcome.device, "bold"), f": {outcome.reason}"))
                if outcome.hint:
                    out.print(f"    hint: {outcome.hint}", style="green")
        out.print()
