"""oast push: compare, ask, back up, deliver under the revert timer, verify, confirm, save."""

from __future__ import annotations

import argparse
import asyncio
import json
import signal
import sys
import time
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path

from rich.console import Console
from rich.text import Text

from oast.change.compare import Comparison
from oast.change.outcome import Cause, Outcome, State
from oast.change.push import Push, PushOptions
from oast.cli import arguments
from oast.cli.compared import Work, checks_of, compare_all, policies_of, prepare, split
from oast.cli.differences import show_differences
from oast.cli.exits import DONE, FAILED, GONE_BACK, INTERRUPTED, NO
from oast.cli.failures import Trouble, gathered_troubles, show_device_errors, show_problems, trouble_lines
from oast.cli.progress import STYLES, Progress
from oast.cli.terminal import put_hanging
from oast.cli.workplace import confirmed, console, estate_of, plural, put_json, put_table, table
from oast.config.view import Counts
from oast.errors import DeviceError, EstateError, UsageError
from oast.files import write_whole
from oast.verify.checks import Check

# A timer shorter than the checks and this would run out in the middle of every delivery.
LEAST_SPARE_S = 3.0


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("-m", "--reason", metavar="REASON", help="why the change is made; needed unless --dry-run")
    parser.add_argument("--ticket", metavar="T", help="the ticket it belongs to")
    parser.add_argument("--dry-run", action="store_true", help="compare and show, touch nothing")
    parser.add_argument("--yes", action="store_true", help="deliver without asking")
    parser.add_argument("--revert-timer", metavar="S", type=arguments.seconds, help="seconds until a device goes back by itself")
    parser.add_argument("--verify-timeout", metavar="S", type=arguments.seconds, help="seconds the checks may take to come true")
    parser.add_argument(
        "--most-failures", metavar="N", type=arguments.count, help="devices that may fail or go back before no further is begun"
    )
    parser.add_argument("--one-wave", action="store_true", help="all devices in one wave, for changes that need both ends of a link")
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_mode(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    if not options.reason and not options.dry_run:
        raise UsageError("a change needs a reason", hint='say why: oast push -m "Rotate the SNMP communities"')
    estate = estate_of(options)
    timer_s = options.revert_timer or estate.settings.delivery.revert_timer_s
    verify_s = options.verify_timeout or estate.settings.delivery.verify_timeout_s
    if timer_s < verify_s + LEAST_SPARE_S:
        message = f"a revert timer of {timer_s:g} s leaves no time to load and confirm beside {verify_s:g} s of checks"
        raise UsageError(message, hint=f"make it at least {verify_s + LEAST_SPARE_S:g} s")
    work = prepare(estate, options)
    _keep_policies(work)
    checks = checks_of(work)
    quiet = options.quiet or options.format == "json"
    compared, failed = split(asyncio.run(compare_all(work, options.mode, quiet=quiet)))
    different = [c for c in compared if c.edits]
    out = console()
    if options.format == "text":
        show_differences(compared, out)
    if not different or options.dry_run:
        return _nothing_delivered(options, work, compared, failed)
    if not options.yes:
        out.file.flush()
        if not confirmed(f"Deliver to {plural(len(different), 'device')}?"):
            sys.stderr.write("nothing was delivered\n")
            return NO
    started = time.monotonic()
    push_options = _push_options(options, work, timer_s, verify_s)
    outcomes, stopped = asyncio.run(_deliver(work, different, checks, push_options, quiet=quiet))
    every = [*outcomes, *(_unreached(name, error, work) for name, error in failed)]
    _record(work, options, every)
    if options.format == "json":
        put_json("push", 1, {"run": work.run, "reason": options.reason, "ticket": options.ticket, "devices": _documents(every)})
    else:
        _show(every, out, time.monotonic() - started)
    return INTERRUPTED if stopped else _exit_code(every)


def _push_options(options: argparse.Namespace, work: Work, timer_s: float, verify_s: float) -> PushOptions:
    delivery = work.estate.settings.delivery
    return PushOptions(
        working=work.estate.working,
        run=work.run,
        at_once=work.at_once,
        revert_timer_s=timer_s,
        verify_timeout_s=verify_s,
        mask_backups=delivery.mask_backups,
        waves=() if options.one_wave else delivery.waves,
        most_failures=delivery.most_failures if options.most_failures is None else options.most_failures,
    )


def _keep_policies(work: Work) -> None:
    """What violates a policy is never sent. Raises EstateError; warnings are shown. Policies look at whole configurations."""
    problems = policies_of(work, date.today())
    show_problems((p for p in problems if p.kind == "policy-warning"), sys.stderr)
    errors = [p for p in problems if p.kind == "policy"]
    if errors:
        raise EstateError.of(errors)


def _nothing_delivered(
    options: argparse.Namespace, work: Work, compared: Sequence[Comparison], failed: Sequence[tuple[str, DeviceError]]
) -> int:
    out = console()
    different = [c for c in compared if c.edits]
    if options.format == "json":
        unchanged = [Outcome(c.name, State.UNCHANGED, Cause.NONE, c.counts, 0.0) for c in compared]
        every = [*unchanged, *(_unreached(name, error, work) for name, error in failed)]
        put_json("push", 1, {"run": None, "reason": options.reason, "ticket": options.ticket, "devices": _documents(every)})
    elif different:
        out.print(f"dry run: {plural(len(different), 'device')} would change; nothing was touched")
    elif compared:
        out.print(f"nothing to do: {plural(len(compared), 'device')} as intended")
    if options.format == "text":
        show_device_errors(failed, sys.stderr, work.logs)
    return FAILED if failed else DONE


async def _deliver(
    work: Work, comparisons: Sequence[Comparison], checks: Mapping[str, Sequence[Check]], push_options: PushOptions, *, quiet: bool
) -> tuple[list[Outcome], bool]:
    with Progress(console(error=True), [c.name for c in comparisons], quiet=quiet) as progress:
        push = Push(
            comparisons,
            checks,
            work.connector,
            lambda intent: work.builder.syntax(intent.device),
            push_options,
            progress,
            time.monotonic,
        )
        task = asyncio.current_task()
        if task is not None:
            # Being told to end is like Ctrl-C: a pipeline that is stopped leaves no device waiting.
            asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, task.cancel)
        try:
            await push.run()
        except asyncio.CancelledError:
            # The first Ctrl-C: by now every device is in a known state, and the table below says in which.
            return push.outcomes, True
        return push.outcomes, False


def _unreached(name: str, error: DeviceError, work: Work) -> Outcome:
    log = str(work.logs / f"{name}.log")
    return Outcome(name, State.UNCHANGED, Cause.FAILED, Counts(0, 0), 0.0, error.message, error.hint, log=log)


def _exit_code(outcomes: Sequence[Outcome]) -> int:
    if any(o.cause is Cause.FAILED or o.state is State.UNKNOWN for o in outcomes):
        return FAILED
    return GONE_BACK if any(o.cause is Cause.CHECKS for o in outcomes) else DONE


def _documents(outcomes: Sequence[Outcome]) -> list[dict[str, object]]:
    return [
        {
            "device": o.device,
            "state": str(o.state),
            "cause": str(o.cause),
            "added": o.counts.added,
            "removed": o.counts.removed,
            "seconds": round(o.seconds, 3),
            "reason": o.reason,
            "failed_checks": [r.finding for r in o.failed_checks],
            "already_failing": [r.finding for r in o.excused_checks],
            "log": o.log,
        }
        for o in outcomes
    ]


def _record(work: Work, options: argparse.Namespace, outcomes: Sequence[Outcome]) -> None:
    content = {
        "format": "oast.push/1",
        "run": work.run,
        "reason": options.reason,
        "ticket": options.ticket,
        "devices": _documents(outcomes),
    }
    write_whole(work.logs / "outcome.json", json.dumps(content, indent=2) + "\n", mode=0o600)


def _show(outcomes: Sequence[Outcome], out: Console, seconds: float) -> None:
    listing = table("device", "result", "added", "removed", "seconds", numbers=("added", "removed", "seconds"))
    for o in outcomes:
        delivered = o.state is State.DELIVERED
        lines = (str(o.counts.added), str(o.counts.removed)) if delivered else ("-", "-")
        listing.add_row(o.device, Text(_result(o), style=_style(o)), *lines, f"{o.seconds:.1f}")
    put_table(out, listing)
    troubles = [Trouble((o.device,), o.reason, o.hint, Path(o.log) if o.log else None) for o in outcomes if o.reason]
    if troubles:
        out.print()
    for trouble in gathered_troubles(troubles):
        devices, (reason, *below) = trouble_lines(trouble)
        put_hanging(out, Text.assemble((devices, "bold"), f": {reason}"))
        for line in below:
            out.print(line, style="dim" if line.startswith("    log: ") else None)
    for o in outcomes:
        for result in o.excused_checks:
            out.print(f"{o.device}: {result.finding} (as before the change, and not touched by it)", style="yellow")
    out.print()
    out.print(f"{_summary(outcomes)} in {seconds:.1f} s")


def _result(outcome: Outcome) -> str:
    if outcome.cause is Cause.FAILED:
        return f"failed, {outcome.state}"
    if outcome.cause is Cause.HELD:
        return "held back"
    if outcome.cause is Cause.INTERRUPTED:
        return f"interrupted, {outcome.state}"
    if outcome.cause is Cause.CHECKS:
        return "went back" if outcome.state is State.REVERTED else f"checks failed, {outcome.state}"
    return str(outcome.state)


def _style(outcome: Outcome) -> str:
    return "red" if outcome.cause is Cause.FAILED else STYLES.get(_result(outcome), STYLES.get(str(outcome.state), ""))


def _summary(outcomes: Sequence[Outcome]) -> str:
    counts: dict[str, int] = {}
    for outcome in outcomes:
        counts[_result(outcome)] = counts.get(_result(outcome), 0) + 1
    return "; ".join(f"{plural(number, 'device')} {result}" for result, number in counts.items())
