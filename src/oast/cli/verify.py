"""oast verify: what follows from the intent, checked on live readings."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import Subcommand, flag, option, seconds
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of, what_may_be_lost
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import console, plural, print_json, show_other_values
from oast.cli.progress import Progress
from oast.cli.shared_options import (
    ConnectionOptions,
    EstateOptions,
    ExpectOptions,
    FormatOptions,
    IntentOptions,
    SelectionOptions,
    format_option,
)
from oast.cli.verify_view import show_listed, show_results, show_state_changes
from oast.errors import UsageError
from oast.operations import (
    IntentContext,
    Verification,
    became_document,
    checks_for,
    junit_of,
    listed_document,
    load_snapshot,
    prepare_intents,
    save_snapshot,
    verify_document,
    verify_network,
)
from oast.verify import Check, ExpectedLoss, Snapshot, state_changes


@dataclass(frozen=True, kw_only=True)
class VerifyOptions(
    ExpectOptions, SelectionOptions, IntentOptions, ConnectionOptions, FormatOptions, EstateOptions
):
    """The options of `oast verify`."""

    verbose: bool = flag("-v", "--verbose", help="list every check, not only those that failed")
    wait: float = option(
        "--wait",
        metavar="S",
        type=seconds,
        default=0.0,
        help="repeat until all checks pass, for at most S seconds",
    )
    listing: bool = flag("--list", help="list the checks and their origin; connects to no device")
    save: str | None = option("--save", metavar="LABEL", help="save the network's state as a snapshot")
    against: str | None = option(
        "--against", metavar="LABEL", help="compare with this snapshot; anything lost since is a failure"
    )
    format: str = format_option("junit")


def run(options: VerifyOptions) -> int:
    prepared = prepare_intents(estate_of(options), options.on, options.section)
    checks = checks_for(prepared, options.section)
    if options.listing:
        return _list(options, prepared, checks)
    if (
        options.format == "text"
        and not any(checks.values())
        and options.save is None
        and options.against is None
    ):
        sections = " or ".join(f"'{name}'" for name in options.section)
        console().print(
            f"nothing to check: no check depends on what {sections} owns" if sections else "nothing to check"
        )
        return DONE
    before, meant = _before(options, prepared)
    found = run_to_end(_verify(options, prepared, checks))
    if options.format == "json":
        print_json(
            "verify", 2, {**verify_document(prepared, found), **_became_document(before, found, meant)}
        )
    elif options.format == "junit":
        sys.stdout.write(junit_of(prepared, found))
    else:
        show_results(prepared, found, verbose=options.verbose)
        show_device_errors(found.failed, sys.stderr, found.logs)
    show_other_values(found.other_values)
    lost = False
    if before is not None and found.point is not None:
        all_of_it = state_changes(before, found.point)
        if options.format == "text":
            show_state_changes(before, all_of_it, meant)
        lost = any(one.lost and not any(may(one) for may in meant) for one in all_of_it)
    if options.save is not None and found.point is not None:
        save_snapshot(prepared.estate, options.save, found.point)
        sys.stderr.write(
            f"saved the state of {plural(len(found.point.devices), 'device')} as '{options.save}'\n"
        )
    return FAILED if found.failed else NO if found.wrong or lost else DONE


def _before(
    options: VerifyOptions, prepared: IntentContext
) -> tuple[Snapshot | None, Sequence[ExpectedLoss]]:
    """The state to compare with, of the devices picked, and what may be lost. Raises UsageError, EstateError,
    StateError."""
    if options.expect and options.against is None:
        raise UsageError("--expect needs --against")
    meant = what_may_be_lost(options.expect)
    if options.against is None:
        return None, meant
    point = load_snapshot(prepared.estate, options.against)
    picked = {intent.device.name for intent in prepared.intents}
    devices = {name: readings for name, readings in point.devices.items() if name in picked}
    return (
        Snapshot(point.at, devices, {name: why for name, why in point.missing.items() if name in picked}),
        meant,
    )


def _became_document(
    before: Snapshot | None, found: Verification, meant: Sequence[ExpectedLoss]
) -> dict[str, Any]:
    if before is None or found.point is None:
        return {}
    return {
        "since": before.at,
        "became": [became_document(one, meant) for one in state_changes(before, found.point)],
    }


def _list(options: VerifyOptions, prepared: IntentContext, checks: Mapping[str, Sequence[Check]]) -> int:
    if options.format == "junit":
        raise UsageError("--format junit is for results; leave out --list")
    if options.format == "json":
        print_json("checks", 2, listed_document(prepared, checks))
    else:
        show_listed(prepared, checks)
    return DONE


async def _verify(
    options: VerifyOptions, prepared: IntentContext, checks: Mapping[str, Sequence[Check]]
) -> Verification:
    quiet = options.quiet or options.format != "text"
    with Progress(console(error=True), [i.device.name for i in prepared.intents], quiet=quiet) as progress:
        whole = options.save is not None or options.against is not None
        return await verify_network(
            prepared,
            checks,
            wait_s=options.wait,
            parallel=options.parallel,
            timeout_s=options.timeout,
            on_event=progress,
            whole=whole,
        )


COMMAND = Subcommand(
    VerifyOptions,
    run,
    examples=(
        ("oast verify", "run all checks"),
        ("oast verify --wait 60 --on site=gull", "wait up to a minute until they pass"),
        ("oast verify --save before", "save a snapshot, to compare with --against before"),
    ),
    exits=(0, 1, 2, 3, 4),
    no="a check failed, or something was lost since the snapshot",
)
