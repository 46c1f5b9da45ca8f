"""oast restore: back to a point in time, whole or one section, by the same way as every delivery."""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace

from oast.change.plan import Datastore
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import Subcommand, argument, flag, option
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED
from oast.cli.output import console, join_names, plural
from oast.cli.progress import Progress
from oast.cli.push import DeliveryHooks, deliver, delivery_options
from oast.cli.shared_options import (
    PROPOSE_HELP,
    DeliveryCommandOptions,
    IntentOptions,
    ModeOptions,
    SelectionOptions,
)
from oast.operations import NOW, Plan, Restore, copied, restored

NAMED = 6


@dataclass(frozen=True, kw_only=True)
class RestoreOptions(SelectionOptions, IntentOptions, ModeOptions, DeliveryCommandOptions):
    """The options of `oast restore`."""

    label: str = argument(
        "LABEL",
        help="label or commit of a backup (see oast backup list); or running, startup: what the device has",
    )
    into: Datastore | None = option(
        "--to", choices=NOW, help="configuration to write: running (default) or startup"
    )
    propose: bool = flag("--propose", help=PROPOSE_HELP)


def run(options: RestoreOptions) -> int:
    restore = _restore(options)
    if restore.missing:
        what = (
            f"no separate {options.label} configuration"
            if options.label in NOW
            else f"not in the backup '{options.label}'"
        )
        sys.stderr.write(f"{join_names(restore.missing, NAMED)}: {what}; skipped\n")
    if restore.as_running:
        sys.stderr.write(
            f"{join_names(restore.as_running, NAMED)}: no startup configuration in the backup"
            f" '{options.label}'; using the running one\n"
        )
    reason = options.reason or f"{restore.origin[0].upper()}{restore.origin[1:]}"
    options = replace(options, reason=reason, into=restore.into)
    code = deliver(options, restore.preparation, delivery_options(options), Restoring(restore.origin))
    if restore.failed:
        show_device_errors(restore.failed.items(), sys.stderr)
        sys.stderr.write(
            f"{plural(len(restore.failed), 'device')} could not be read; nothing was sent to them\n"
        )
        return FAILED if code == DONE else code
    return code


def _restore(options: RestoreOptions) -> Restore:
    estate = estate_of(options)
    into: Datastore = options.into or "running"
    if options.label not in NOW:
        return restored(estate, options.label, options.on, options.section, into)
    names = [device.name for device in estate.pick(options.on)]
    with Progress(console(error=True), names, quiet=options.quiet) as progress:
        return run_to_end(
            copied(
                estate,
                "startup" if options.label == "startup" else "running",
                options.on,
                options.section,
                into,
                parallel=options.parallel,
                timeout_s=options.timeout,
                on_event=progress,
            )
        )


class Restoring(DeliveryHooks):
    """Record what the devices return to."""

    def __init__(self, origin: str) -> None:
        self._origin = origin

    def look(self, plan: Plan) -> int | None:
        plan.origin = self._origin
        return None


COMMAND = Subcommand(
    RestoreOptions,
    run,
    examples=(
        ("oast restore 'before DNS update' --dry-run", "show what a restore would change"),
        ("oast restore 'before DNS update' --section dns", "restore one section"),
        ("oast restore startup --on name=tern-edge-1", "return to the device's startup configuration"),
    ),
    exits=(0, 1, 2, 3, 4, 5, 130),
    no="not restored: declined, limit exceeded, proposed only, or differences found by --dry-run",
)
