"""oast restore: back to a point in time, whole or one section, by the same way as every delivery."""

from __future__ import annotations

import argparse
import sys

from oast.change.plan import Datastore
from oast.cli import arguments
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED
from oast.cli.output import console, join_names, plural
from oast.cli.progress import Progress
from oast.cli.push import DeliveryHooks, deliver, delivery_options
from oast.operations import NOW, Plan, Restore, copied, restored

NAMED = 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "label",
        metavar="LABEL",
        help="a label, or a commit (see oast backup list); or what devices have now: running, startup",
    )
    parser.add_argument(
        "--to",
        dest="into",
        choices=NOW,
        help="what is changed: what devices run (default), or what they start with",
    )
    parser.add_argument(
        "--propose", action="store_true", help="write it down for somebody else to approve, and stop"
    )
    arguments.add_delivery(parser)
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_mode(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    restore = _restore(options)
    if restore.missing:
        what = (
            f"these have no {options.label} of their own"
            if options.label in NOW
            else f"nothing was kept of them under '{options.label}'"
        )
        sys.stderr.write(f"{join_names(restore.missing, NAMED)}: {what}: left alone\n")
    if restore.as_running:
        sys.stderr.write(
            f"{join_names(restore.as_running, NAMED)}: no startup was kept under '{options.label}': what they"
            " ran then is taken\n"
        )
    options.reason = options.reason or f"{restore.origin[0].upper()}{restore.origin[1:]}"
    options.into = restore.into
    code = deliver(options, restore.preparation, delivery_options(options), Restoring(restore.origin))
    if restore.failed:
        show_device_errors(restore.failed.items(), sys.stderr)
        sys.stderr.write(
            f"{plural(len(restore.failed), 'device')} could not be read, and nothing was done there\n"
        )
        return FAILED if code == DONE else code
    return code


def _restore(options: argparse.Namespace) -> Restore:
    estate = estate_of(options)
    into: Datastore = options.into or "running"
    if options.label not in NOW:
        return restored(estate, options.label, options.on, options.section, into)
    names = [device.name for device in estate.pick(options.on)]
    with Progress(console(error=True), names, quiet=options.quiet) as progress:
        return run_to_end(
            copied(
                estate,
                options.label,
                options.on,
                options.section,
                into,
                parallel=options.parallel,
                timeout_s=options.timeout,
                on_event=progress,
            )
        )


class Restoring(DeliveryHooks):
    """Says in the record what it goes back to."""

    def __init__(self, origin: str) -> None:
        self._origin = origin

    def look(self, plan: Plan) -> int | None:
        plan.origin = self._origin
        return None
