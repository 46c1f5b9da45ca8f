"""oast change: the record of what was delivered, and what a run that died has left open."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Mapping
from typing import Any

from rich.text import Text

from oast.change.outcome import State
from oast.cli import arguments
from oast.cli.change_view import show_change
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.loop import run as run_to_end
from oast.cli.progress import Progress, style_of
from oast.cli.proposal import add_sign, run_approve, run_withdraw
from oast.cli.push import chosen, deliver
from oast.cli.restore import Restoring
from oast.cli.terminal import put_hanging
from oast.cli.workplace import console, estate_of, named, plural, put_json, put_table, table
from oast.operations.changes import Changes, change_document, last
from oast.operations.deliver import LONGEST_REASON
from oast.operations.proposals import prepared_revert
from oast.operations.resume import Resume, ResumedRun

NAMED = 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    listing = _action(actions, "list", "the changes, the newest last", _list)
    listing.add_argument("--last", metavar="N", type=arguments.positive, help="only the last N")
    show = _action(actions, "show", "one change: who, why, what, and what became of every device", _show)
    show.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    show.add_argument("--device", metavar="NAME", help="what was intended on one device")
    show.add_argument("--steps", action="store_true", help="every step that was taken, with its time")
    approve = _action(actions, "approve", "agree to exactly what somebody else has proposed", run_approve)
    approve.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    approve.add_argument("--yes", action="store_true", help="without showing it and asking")
    add_sign(approve)
    withdraw = _action(actions, "withdraw", "what was proposed is not to be delivered any more", run_withdraw)
    withdraw.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    withdraw.add_argument("-m", "--reason", metavar="REASON", help="why")
    resume = _action(actions, "resume", "find out what runs that died have left, and leave it in order", _resume)
    resume.add_argument("--give-up", action="store_true", help="what cannot be found out is left as it is, and no longer told")
    arguments.add_connection(resume)
    revert = actions.add_parser("revert", help="bring the devices of a change back to what they were before it", allow_abbrev=False)
    revert.set_defaults(run=_revert)
    revert.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    revert.add_argument("--propose", action="store_true", help="write it down for somebody else to approve, and stop")
    revert.add_argument("-v", "--verbose", action="store_true", help="every device by itself")
    arguments.add_delivery(revert)
    arguments.add_selection(revert)
    arguments.add_format(revert)
    arguments.add_estate(revert)
    _action(actions, "audit", "whether anything in the ledger was altered, removed or moved", _audit)


def _action(actions: Any, name: str, summary: str, run: Callable[[argparse.Namespace], int]) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = actions.add_parser(
        name, help=summary, description=f"{summary[0].upper()}{summary[1:]}.", allow_abbrev=False
    )
    parser.set_defaults(run=run)
    arguments.add_format(parser)
    arguments.add_estate(parser)
    return parser


def _list(options: argparse.Namespace) -> int:
    changes = list(last(Changes(estate_of(options)).all(), options.last))
    if options.format == "json":
        put_json("changes", 1, {"changes": [change_document(change) for change in changes]})
        return DONE
    out = console()
    if not changes:
        out.print("nothing was delivered or proposed yet")
        return DONE
    listing = table("change", "devices", "state", "author", "ticket", "reason", numbers=("devices",), whole=("change",))
    for change in changes:
        listing.add_row(change.name, str(change.devices), change.state, change.author, change.ticket or "", change.reason)
    put_table(out, listing)
    return DONE


def _show(options: argparse.Namespace) -> int:
    return show_change(options, Changes(estate_of(options)))


def _audit(options: argparse.Namespace) -> int:
    found = Changes(estate_of(options)).ledger.audit()
    if options.format == "json":
        put_json("audit", 1, {"findings": [{"file": f.file, "line": f.line or None, "message": f.message} for f in found]})
        return NO if found else DONE
    out = console()
    for finding in found:
        place = f"{finding.file}:{finding.line}" if finding.line else finding.file
        put_hanging(out, Text.assemble((f"{place}: ", "cyan"), (finding.message, "bold")))
    out.print(plural(len(found), "finding") if found else "the ledger is as it was written")
    return NO if found else DONE


def _revert(options: argparse.Namespace) -> int:
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    prepared, recorded, later = prepared_revert(changes, change, options.on)
    for one in later:
        sys.stderr.write(
            f"careful: {one.change.name} ({one.change.reason}) has touched the same parts of {named(one.devices, NAMED)} since then;"
            " it is taken back with it\n"
        )
    options.reason = options.reason or f"Back to before {change.name}: {change.reason}"[:LONGEST_REASON]
    options.mode, options.remove_unknown = "replace", recorded.manner.remove_unknown
    return deliver(options, prepared, chosen(options), Restoring(f"back to before {change.name}"))


def _resume(options: argparse.Namespace) -> int:
    resume = Resume(estate_of(options, telling=False), at_once=options.at_once, timeout_s=options.timeout, give_up=options.give_up)
    names = [device.name for left in resume.runs for device in left.devices]
    with Progress(console(error=True), names, quiet=bool(options.quiet or options.format == "json")) as progress:
        resume.on_event = progress
        runs: list[ResumedRun] = run_to_end(resume.run())
    if options.format == "json":
        put_json("resume", 1, {"runs": [_document(run) for run in runs]})
    else:
        _show_resumed(runs)
    for run in runs:
        if run.unrecorded is not None:
            sys.stderr.write(f"the record of {run.run} could not be written: {run.unrecorded}\n")
    return FAILED if any(run.failed for run in runs) else DONE


def _document(run: ResumedRun) -> Mapping[str, Any]:
    devices = [{"device": o.device, "state": str(o.state), "reason": o.reason, "hint": o.hint} for o in run.outcomes]
    return {"run": run.run, "change": run.change, "began": run.began, "devices": devices}


def _show_resumed(runs: list[ResumedRun]) -> None:
    out = console()
    if not runs:
        out.print("nothing to resume: no run has left anything open")
        return
    for run in runs:
        out.print(f"the run {run.run}, begun {run.began[:19]} UTC", style="bold")
        listing = table("device", "result")
        for outcome in run.outcomes:
            listing.add_row(outcome.device, Text(str(outcome.state), style=style_of(str(outcome.state))))
        put_table(out, listing)
        for outcome in run.outcomes:
            if outcome.state is State.UNKNOWN or outcome.hint:
                put_hanging(out, Text.assemble((outcome.device, "bold"), f": {outcome.reason}"))
                if outcome.hint:
                    out.print(f"    {outcome.hint}", style="green")
        out.print()
