"""Proposed changes on the terminal: written down, approved, withdrawn, and what has moved since."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from oast.cli.change_view import show_plan, show_staging
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import ask_to_confirm, console, plural, print_json
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


def write_proposal(options: argparse.Namespace, plan: Plan) -> int:
    """Write down what would be done, and say how it goes on. Returns the exit code."""
    if plan.failed:
        show_device_errors(plan.failed, sys.stderr, plan.logs)
        sys.stderr.write("nothing was proposed, as it is not known what would change on all of the devices\n")
        return FAILED
    try:
        name = propose(
            plan, options.reason, options.ticket, plan.origin, options.expect, getattr(options, "sign", None)
        )
    except OSError as error:
        raise StateError(f"the proposal cannot be written: {error.filename}: {error.strerror}") from None
    if options.format == "json":
        print_json("proposal", 1, {"change": name, "devices": len(plan.to_do)})
    else:
        out = console()
        out.print(f"proposed as {name}: {plural(len(plan.to_do), 'device')}; nothing was touched")
        out.print(f"    somebody else: oast change approve {name}", style="green")
        out.print(f"    and then:      oast push --change {name}", style="green")
    return DONE


def show_outdated(name: str, stale: Sequence[OutdatedDevice], out: Console) -> None:
    """What has moved since it was proposed."""
    out.print(
        f"{name} is stale: {plural(len(stale), 'device')} would not change as proposed; nothing was touched",
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
    out.print("    look at it, and propose it anew", style="green")


def run_approve(options: argparse.Namespace) -> int:
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


def run_withdraw(options: argparse.Namespace) -> int:
    """oast change withdraw"""
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    withdraw(changes, change, options.reason)
    return _said(options, {"change": change.name}, f"{change.name} is withdrawn")


def _said(options: argparse.Namespace, document: dict[str, Any], text: str) -> int:
    if options.format == "json":
        print_json("approval", 1, document)
    else:
        console().print(text)
    return DONE
