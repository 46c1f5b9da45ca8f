"""oast push: compare, ask, back up, deliver with a rollback, verify, confirm, save."""

from __future__ import annotations

import asyncio
import sys
import time
from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from rich.console import Console
from rich.text import Text

from oast.change import Cause, Outcome, State
from oast.change.plan import ApplyMode, Comparison
from oast.cli.async_runner import run_async as run_to_end, run_with
from oast.cli.command import Subcommand, flag, option
from oast.cli.diff import show_what_changes
from oast.cli.diff_view import show_left_alone, show_unsaved
from oast.cli.error_output import (
    DeviceFailure,
    failure_lines,
    group_failures,
    show_device_errors,
    show_problems,
)
from oast.cli.estate_option import estate_of, what_may_be_lost
from oast.cli.exit_codes import DONE, FAILED, INTERRUPTED, NO, REVERTED
from oast.cli.output import (
    ask_to_confirm,
    console,
    join_names,
    plural,
    print_document,
    print_table,
    show_other_values,
    table,
)
from oast.cli.pipes import discard_output
from oast.cli.preview import show_forecast, show_limit_violations, show_not_compared, show_warnings
from oast.cli.progress import MANY, Progress, style_of
from oast.cli.proposal import show_outdated, write_proposal
from oast.cli.shared_options import (
    PROPOSE_HELP,
    DeliveryCommandOptions,
    IntentOptions,
    ModeOptions,
    SelectionOptions,
)
from oast.cli.signals import SignalHandler
from oast.cli.summary import short_summary
from oast.cli.terminal import print_hanging
from oast.config import Counts
from oast.errors import DeviceError, UsageError
from oast.intent import IntentBuilder
from oast.operations import (
    Approved,
    Changes,
    DeliveryOptions,
    DeliveryResult,
    IntentContext,
    Plan,
    Verdict,
    asked,
    check_policies,
    check_times,
    compare,
    ledger_of,
    prepare_intents,
    prepare_raw_commands,
    push_document,
    require_read_only,
    require_reason,
    waiting,
)

EXITS = {
    Verdict.DONE: DONE,
    Verdict.REVERTED: REVERTED,
    Verdict.FAILED: FAILED,
    Verdict.INTERRUPTED: INTERRUPTED,
}
NAMED = 6
NAMED_IN_ROW = 3
EXCUSED_AT_MOST = 8


@dataclass(frozen=True, kw_only=True)
class PushOptions(SelectionOptions, IntentOptions, ModeOptions, DeliveryCommandOptions):
    """The options of `oast push`."""

    file: Path | None = option(
        "--file",
        metavar="FILE",
        type=Path,
        help="deliver these statements instead of templates; '- ' before one removes it; - is stdin",
    )
    with_values: bool = flag(
        "--with-values", help="with --file: render the file with the values of each device first"
    )
    ask: str | None = option(
        "--ask", metavar="COMMAND", help="with --file: run this read-only command on every device afterwards"
    )
    propose: bool = flag("--propose", help=PROPOSE_HELP)
    sign: Path | None = option(
        "--sign",
        metavar="FILE",
        type=Path,
        help="with --propose: sign the change with this SSH key (ssh-keygen)",
    )
    change: str | None = option("--change", metavar="CHANGE", help="deliver exactly this approved change")
    repeat: bool = flag("--repeat", help="with --change: deliver a change again that was delivered before")


class DeliveryHooks:
    """Hooks around a delivery: `begin` runs before the first device is touched, `end` when the delivery is
    over or not needed."""

    def look(self, plan: Plan) -> int | None:
        """Inspect the plan before the question; returns the exit code when it must not be delivered."""
        return None

    def begin(self) -> None:
        """Raises OastError when the delivery must not begin."""

    def end(self, as_intended: Sequence[Comparison], outcomes: Sequence[Outcome]) -> None:
        """`as_intended` are those on which nothing was to be done."""


def run(options: PushOptions) -> int:
    if options.change is not None:
        return _run_recorded(options, options.change)
    if options.repeat:
        raise UsageError("--repeat needs --change")
    if options.file is not None:
        return _run_native(options, options.file)
    for name in ("ask", "with_values"):
        if getattr(options, name):
            raise UsageError(f"--{name.replace('_', '-')} needs --file")
    how = delivery_options(options)
    return deliver(
        options, prepare_intents(estate_of(options), options.on, options.section), how, DeliveryHooks()
    )


def _run_native(options: PushOptions, file: Path) -> int:
    """An engineer's own statements: they add and change; what has a minus sign before it is removed, and
    nothing else."""
    for name in ("section", "given", "mode", "remove_unknown"):
        if getattr(options, name):
            option = {"given": "with"}.get(name, name).replace("_", "-")
            raise UsageError(f"--file and --{option} exclude each other")
    options = replace(options, mode="merge")
    how = delivery_options(options)
    estate = estate_of(options)
    if options.ask is not None:
        require_read_only(IntentBuilder(estate), estate.pick(options.on), options.ask)
    name, text = _own_text(file)
    prepared = prepare_raw_commands(estate, name, text, options.on, is_template=options.with_values)
    return deliver(options, prepared, how, _Native(options, name))


def _own_text(file: Path) -> tuple[str, str]:
    """Name and text of the file, or of standard input for `-`. Raises UsageError."""
    is_stdin = str(file) == "-"
    try:
        return ("stdin", sys.stdin.read()) if is_stdin else (file.name, file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        name = "standard input" if is_stdin else file
        raise UsageError(
            f"cannot read {name}: {getattr(error, 'strerror', None) or 'it is not UTF-8 text'}"
        ) from None


class _Native(DeliveryHooks):
    """Lines of one's own: the record says where they come from, and afterwards the devices are asked what was
    expected."""

    def __init__(self, options: PushOptions, name: str) -> None:
        self._options = options
        self._name = name
        self._plan: Plan | None = None

    def look(self, plan: Plan) -> int | None:
        self._plan = plan
        plan.origin = f"raw commands from {self._name}"
        return None

    def end(self, as_intended: Sequence[Comparison], outcomes: Sequence[Outcome]) -> None:
        # Every device that was picked, in the inventory's order: also one that is in sync, or was rolled
        # back.
        names = (
            [intent.device.name for intent in self._plan.preparation.intents]
            if self._plan is not None
            else []
        )
        if self._options.ask is not None and names and self._plan is not None:
            answers = run_to_end(
                asked(self._plan.preparation.estate, names, self._options.ask, self._options.timeout)
            )
            show_answers(self._options.ask, answers, console(error=self._options.format == "json"))


def show_answers(command: str, answers: Mapping[str, str | DeviceError], out: Console) -> None:
    """What devices answered; the same answer is shown once."""
    groups: dict[str, list[str]] = {}
    for name, answer in answers.items():
        groups.setdefault(f"{answer.message}\n" if isinstance(answer, DeviceError) else answer, []).append(
            name
        )
    for answer, names in groups.items():
        out.print()
        out.print(Text(f"{join_names(names, NAMED)}: {command}", style="bold"))
        out.out(answer.rstrip("\n"), highlight=False)


def _run_recorded(options: PushOptions, change: str) -> int:
    """Deliver what was recorded, and nothing else."""
    own = (
        "on",
        "section",
        "given",
        "reason",
        "ticket",
        "mode",
        "remove_unknown",
        *(() if options.repeat else ("propose",)),
    )
    for name in own:
        if getattr(options, name):
            option = {"given": "with"}.get(name, name).replace("_", "-")
            raise UsageError(f"--change delivers a recorded change; leave out --{option}")
    approved = waiting(Changes(estate_of(options)), change, again=options.repeat)
    manner = approved.recorded.manner
    options = replace(
        options,
        reason=approved.change.reason,
        ticket=approved.change.ticket,
        mode=manner.mode,
        remove_unknown=manner.remove_unknown,
        into=manner.into,
        expect=(*options.expect, *approved.change.expect),
    )
    how = delivery_options(options)
    if not options.repeat:
        how = replace(how, allow_removals=how.allow_removals or bool(approved.by))
    return deliver(options, approved.preparation, how, _Recorded(approved, again=options.repeat))


class _Recorded(DeliveryHooks):
    """Deliver a recorded change as it was recorded, or not at all."""

    def __init__(self, approved: Approved, *, again: bool) -> None:
        self._approved = approved
        self._again = again

    def look(self, plan: Plan) -> int | None:
        change = self._approved.change
        if self._again:
            plan.origin = f"repetition of {change.name}"
            return None
        stale = self._approved.stale(plan)
        if stale:
            show_outdated(change.name, stale, console())
            return NO
        plan.change, plan.origin = change.name, change.origin
        return None


def delivery_options(options: DeliveryCommandOptions) -> DeliveryOptions:
    """How to deliver, as the options say. Raises UsageError for a change without a reason."""
    if not options.dry_run:
        require_reason(options.reason)
    return DeliveryOptions(
        options.revert_timer,
        options.verify_timeout,
        options.max_failures,
        options.one_wave or None,
        options.parallel,
        options.allow_removals,
        what_may_be_lost(options.expect),
        options.neighbor_hops,
        options.split_waves or None,
    )


def deliver(
    options: DeliveryCommandOptions, prepared: IntentContext, how: DeliveryOptions, around: DeliveryHooks
) -> int:
    """Compare, ask and deliver; returns the exit code."""
    check_times(prepared, how)
    if not options.dry_run:
        # Before any device is read: without a record nothing would be delivered.
        ledger_of(prepared.estate).require_whole()
    show_problems((p for p in check_policies(prepared) if p.is_warning), sys.stderr)
    # One event loop for both: sessions that were opened to compare go on delivering.
    with asyncio.Runner() as runner:
        plan = run_with(runner, _compare(options, prepared))
        try:
            return _go_on(options, plan, how, runner, around)
        finally:
            runner.run(plan.close())


async def _compare(options: DeliveryCommandOptions, prepared: IntentContext) -> Plan:
    with Progress(
        console(error=True), [i.device.name for i in prepared.intents], quiet=_quiet(options)
    ) as progress:
        return await compare(
            prepared,
            ApplyMode(options.mode or "replace", options.remove_unknown, options.into or "running"),
            parallel=options.parallel,
            timeout_s=options.timeout,
            for_delivery=True,
            on_event=progress,
        )


def _show_plan(options: DeliveryCommandOptions, plan: Plan, how: DeliveryOptions, out: Console) -> None:
    """Show what would change, and what else there is to know before the question."""
    if options.format != "text":
        return
    try:
        show_what_changes(options, plan.comparisons, out)
        show_left_alone(plan.comparisons, out, verbose=options.verbose)
        show_warnings(plan.different, out)
        show_forecast(plan, how, out)
        show_not_compared(plan, out)
        show_limit_violations(plan.limit_violations, out)
        show_unsaved(plan.comparisons, out, pushing=True)
        sys.stdout.flush()
    except OSError as error:
        if not options.yes:
            raise UsageError(
                f"cannot show what would change: {error.strerror}", hint="nothing was sent"
            ) from None
        discard_output()


def _question(plan: Plan) -> str:
    saved = len(plan.to_do) - len(plan.different)
    also = f", and save the running configuration of {plural(saved, 'more device')}" if saved else ""
    deliver_to = "Write the startup configuration of" if plan.manner.into_startup else "Deliver to"
    what = (
        f"{deliver_to} {plural(len(plan.different), 'device')}{also}"
        if plan.different
        else f"Save the running configuration of {plural(saved, 'device')}"
    )
    short = f" ({short_summary(plan.different)})" if plan.different else ""
    without = f" {len(plan.failed)} could not be compared." if plan.failed else ""
    return f"{what}{short}?{without}"


def _go_on(
    options: DeliveryCommandOptions,
    plan: Plan,
    how: DeliveryOptions,
    runner: asyncio.Runner,
    around: DeliveryHooks,
) -> int:
    out = console()
    _show_plan(options, plan, how, out)
    answer = around.look(plan)
    if answer is not None:
        return answer
    as_intended = [comparison for comparison in plan.comparisons if not comparison.edits]
    if (not plan.to_do and not plan.failed) or options.dry_run:
        code = _nothing_delivered(options, plan)
        if not options.dry_run:
            around.end(as_intended, ())
        return code
    if options.propose or (plan.change is None and plan.preparation.estate.settings.delivery.approval):
        return write_proposal(options, plan)
    if plan.limit_violations and not how.allow_removals:
        return _beyond_limits(options, plan)
    # If no device could be read there is nothing to ask: that is reported and recorded.
    if not options.yes and plan.to_do:
        out.file.flush()
        if not ask_to_confirm(_question(plan)):
            sys.stderr.write("nothing was delivered\n")
            return NO
    around.begin()
    result = run_with(runner, _deliver(options, plan, how))
    if result.unrecorded is not None:
        with suppress(OSError):
            sys.stderr.write(f"warning: the record of this run could not be written: {result.unrecorded}\n")
    if result.unwatched:
        with suppress(OSError):
            sys.stderr.write(
                f"warning: {join_names(result.unwatched, NAMED)} could not be read before the change; its"
                " impact there is unknown\n"
            )
    show_other_values(result.other_values)
    around.end(as_intended, result.outcomes)
    return EXITS[result.verdict]


def _beyond_limits(options: DeliveryCommandOptions, plan: Plan) -> int:
    """What takes away too much is not delivered to any device."""
    if options.format == "json":
        reason = "the change removes more than the limits allow"
        held = [Outcome(c.name, State.UNCHANGED, Cause.HELD, c.counts, 0.0, reason) for c in plan.comparisons]
        print_document(push_document(None, options.reason, options.ticket, [*held, *_unreached(plan)]))
    sys.stderr.write(
        "error: the change removes more than the limits allow; nothing was sent\nhint: allow it for this"
        " change with --allow-removals\n"
    )
    return NO


def _unreached(plan: Plan) -> list[Outcome]:
    return [
        Outcome(n, State.UNCHANGED, Cause.FAILED, Counts(0, 0), 0.0, e.message, e.hint)
        for n, e in plan.failed
    ]


def _nothing_delivered(options: DeliveryCommandOptions, plan: Plan) -> int:
    out = console()
    if options.format == "json":
        unchanged = [Outcome(c.name, State.UNCHANGED, Cause.NONE, c.counts, 0.0) for c in plan.comparisons]
        print_document(push_document(None, options.reason, options.ticket, [*unchanged, *_unreached(plan)]))
    elif plan.to_do:
        saved = len(plan.to_do) - len(plan.different)
        also = f", {plural(saved, 'device')} would be saved" if saved else ""
        out.print(f"dry run: {plural(len(plan.different), 'device')} would change{also}; nothing was sent")
    elif plan.comparisons:
        out.print(f"{plural(len(plan.comparisons), 'device')} in sync")
    if options.format == "text":
        show_device_errors(plan.failed, sys.stderr, plan.logs)
    return FAILED if plan.failed else NO if plan.different else DONE


async def _deliver(options: DeliveryCommandOptions, plan: Plan, how: DeliveryOptions) -> DeliveryResult:
    names = [c.name for c in plan.to_do]
    started = time.monotonic()
    with (
        Progress(console(error=True), names, quiet=_quiet(options), each=True) as progress,
        SignalHandler() as ending,
    ):

        def told(result: DeliveryResult) -> None:
            progress.stop()
            _report(options, plan, result, time.monotonic() - started)

        return await plan.deliver(
            options.reason or "", options.ticket, how, progress, ending.stop_waiting, told, ending.begun
        )


def _report(options: DeliveryCommandOptions, plan: Plan, result: DeliveryResult, seconds: float) -> None:
    """Print the outcome of every device, before anything else is done."""
    try:
        if options.format == "json":
            print_document(result.document())
        else:
            _show(
                result.outcomes,
                console(),
                seconds,
                each=options.verbose,
                advice=_moved(plan, result.outcomes),
            )
        sys.stdout.flush()
    except OSError:
        # The reader has closed the output; the exit code and the record hold the outcome.
        discard_output()


def _quiet(options: DeliveryCommandOptions) -> bool:
    return bool(options.quiet or options.format == "json")


def _moved(plan: Plan, outcomes: Sequence[Outcome]) -> list[str]:
    """What remains to be written for devices that have a new management address."""
    delivered = {outcome.device for outcome in outcomes if outcome.state is State.DELIVERED}
    found = []
    for comparison in plan.different:
        device, move = comparison.intent.device, comparison.move
        if (
            move is not None
            and device.name in delivered
            and device.management.previous is not None
            and move.to == device.address
        ):
            place = device.places["previous_address"]
            found.append(f"{device.name} now answers at {move.to}: remove previous_address from {place}")
    return found


def _show(
    outcomes: Sequence[Outcome], out: Console, seconds: float, *, each: bool, advice: Sequence[str] = ()
) -> None:
    listing = table(
        "device", "result", "added", "removed", "seconds", numbers=("added", "removed", "seconds")
    )
    for group in _alike(outcomes, each=each):
        o = group[0]
        delivered = o.state is State.DELIVERED
        lines = (str(o.counts.added), str(o.counts.removed)) if delivered else ("-", "-")
        who = join_names([one.device for one in group], NAMED_IN_ROW)
        listing.add_row(
            who, Text(_result(o), style=_style(o)), *lines, f"{max(one.seconds for one in group):.1f}"
        )
    print_table(out, listing)
    troubles = [
        DeviceFailure((o.device,), o.reason, o.hint, Path(o.log) if o.log else None)
        for o in outcomes
        if o.reason
    ]
    if troubles:
        out.print()
    for trouble in group_failures(troubles):
        devices, (reason, *below) = failure_lines(trouble)
        print_hanging(out, Text.assemble((devices, "bold"), f": {reason}"))
        for line in below:
            out.print(line, style="dim" if line.startswith("    log: ") else None)
    _show_excused(outcomes, out, each=each)
    out.print()
    if advice:
        for line in advice:
            out.print(line)
        out.print()
    out.print(f"{_summary(outcomes)} in {seconds:.1f} s")


def _show_excused(outcomes: Sequence[Outcome], out: Console, *, each: bool) -> None:
    """Show what failed before and is unrelated to this change; if it is much, how much."""
    found = [f"{o.device}: {result.finding}" for o in outcomes for result in o.excused_checks]
    shown = found if each or len(found) <= EXCUSED_AT_MOST else found[:NAMED_IN_ROW]
    for finding in shown:
        out.print(f"{finding} (failed before the change, and not affected by it)", style="yellow")
    if len(found) > len(shown):
        devices = sum(1 for o in outcomes if o.excused_checks)
        out.print(
            f"and {len(found) - len(shown)} more, on {plural(devices, 'device')} in total (-v lists them)",
            style="yellow",
        )


def _alike(outcomes: Sequence[Outcome], *, each: bool) -> list[list[Outcome]]:
    """Of many devices, those to which the same was delivered stand together; every other by itself."""
    groups: dict[object, list[Outcome]] = {}
    for number, o in enumerate(outcomes):
        together = not each and len(outcomes) > MANY and o.state is State.DELIVERED and o.cause is Cause.NONE
        groups.setdefault((_result(o), o.counts) if together else number, []).append(o)
    return list(groups.values())


def _result(outcome: Outcome) -> str:
    if outcome.cause is Cause.FAILED:
        return f"failed, {outcome.state.shown}"
    if outcome.cause is Cause.HELD:
        return "rolled back" if outcome.state is State.REVERTED else "not started"
    if outcome.cause is Cause.INTERRUPTED:
        return f"interrupted, {outcome.state.shown}"
    if (
        outcome.state is State.DELIVERED
        and outcome.also_saved
        and not (outcome.counts.added or outcome.counts.removed)
    ):
        return "saved"
    if outcome.cause is Cause.CHECKS:
        return f"{outcome.state.shown} (checks failed)"
    return outcome.state.shown


def _style(outcome: Outcome) -> str:
    return (
        "red"
        if outcome.cause is Cause.FAILED
        else style_of(_result(outcome)) or style_of(outcome.state.shown)
    )


def _summary(outcomes: Sequence[Outcome]) -> str:
    return "; ".join(
        f"{plural(number, 'device')} {result}" for result, number in Counter(map(_result, outcomes)).items()
    )


COMMAND = Subcommand(
    PushOptions,
    run,
    examples=(
        ("oast push -m 'second clock' --dry-run", "show what would be delivered"),
        ("oast push -m 'second clock' --on role=edge", "deliver to the edge routers"),
        ("oast push -m 'second clock' --propose", "record the change for approval"),
    ),
    exits=(0, 1, 2, 3, 4, 5, 130),
    no="not delivered: declined, limit exceeded, proposed only, or differences found by --dry-run",
)
