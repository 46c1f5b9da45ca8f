"""Proposed changes on the terminal: written down, approved, withdrawn, and what has moved since."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from oast.cli.change import ApproveOptions, WithdrawOptions
from oast.cli.change_view import show_plan, show_staging
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import ask_to_confirm, console, plural, print_json
from oast.cli.shared_options import DeliveryCommandOptions, FormatOptions
from oast.errors import StateError
from oast.operations import (
    Changes,
    OutdatedDevice,
    Plan,
    approve,
    device_lines,
    propose,
    recorded_plan,
    withdraw,
)

SHOWN = 12


def write_proposal(options: DeliveryCommandOptions, plan: Plan) -> int:
    """Write down what would be done, and say how it goes on. Returns the exit code."""
    if plan.failed:
        show_device_errors(plan.failed, sys.stderr, plan.logs)
        sys.stderr.write("nothing was proposed, because some devices could not be compared\n")
        return FAILED
    try:
        name = propose(plan, options.reason or "", options.ticket, plan.origin, options.expect, options.sign)
    except OSError as error:
        raise StateError(f"cannot write the proposal: {error.filename}: {error.strerror}") from None
    if options.format == "json":
        print_json("proposal", 1, {"change": name, "devices": len(plan.to_do)})
    else:
        out = console()
        out.print(f"proposed as {name}: {plural(len(plan.to_do), 'device')}; nothing was sent")
        out.print(f"    another person approves it: oast change approve {name}", style="green")
        out.print(f"    then deliver it:            oast push --change {name}", style="green")
    return DONE


def show_outdated(name: str, stale: Sequence[OutdatedDevice], out: Console) -> None:
    """What has moved since it was proposed."""
    out.print(
        (
            f"{name} is outdated: {plural(len(stale), 'device')} would change differently than proposed;"
            " nothing was sent"
        ),
        style="bold red",
    )
    for one in stale[:SHOWN]:
        then, now = device_lines(one.proposed), device_lines(one.now)
        out.print(Text(one.device, style="bold"))
        for word, lines in (
            ("no more", [line for line in then if line not in now]),
            ("new", [line for line in now if line not in then]),
        ):
            for line in lines:
                out.print(f"    {word}:  {line}")
    if len(stale) > SHOWN:
        out.print(f"and {len(stale) - SHOWN} more")
    out.print("    review the differences and propose the change again", style="green")


def run_approve(options: ApproveOptions) -> int:
    """oast change approve"""
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    if not options.yes:
        out = console()
        out.print(f"{change.name}: {change.reason} (by {change.author})", style="bold")
        show_staging(out, changes, change)
        show_plan(out, recorded_plan(changes, change))
        out.file.flush()
        if not ask_to_confirm(f"Approve exactly this on {plural(change.devices, 'device')}?"):
            sys.stderr.write("nothing was approved\n")
            return NO
    who = approve(changes, change, options.sign)
    return _said(options, {"change": change.name, "approved_by": who}, f"{change.name} is approved by {who}")


def run_withdraw(options: WithdrawOptions) -> int:
    """oast change withdraw"""
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    withdraw(changes, change, options.reason)
    return _said(options, {"change": change.name}, f"{change.name} is withdrawn")


def _said(options: FormatOptions, document: dict[str, Any], text: str) -> int:
    if options.format == "json":
        print_json("approval", 1, document)
    else:
        console().print(text)
    return DONE
