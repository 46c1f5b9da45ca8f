"""The view of one change: author, reason, diffs, and the outcome of every device."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.text import Text

from oast.change.device import state_diff
from oast.change.plan import StoredPlan
from oast.cli.change import ChangeShowOptions
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.output import console, join_names, plural, print_json, print_table, table
from oast.cli.progress import style_of
from oast.cli.terminal import print_hanging
from oast.errors import UsageError
from oast.intent import IntentBuilder
from oast.operations import (
    APPROVED,
    BEGAN,
    Change,
    Changes,
    change_document,
    device_lines,
    recorded_plan,
    staged_devices,
)
from oast.spelling import spelling_hint

NAMED = 6
ROWS = 12
COLOURS = {"+": "green", "-": "red"}


def run_show(options: ChangeShowOptions) -> int:
    """oast change show. Raises UsageError, StateError."""
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    if options.device is not None:
        return _show_intended(options, changes, change, options.device)
    outcomes = changes.outcomes(change)
    if options.format == "json":
        plan = recorded_plan(changes, change)
        print_json(
            "change",
            1,
            {
                **change_document(change),
                "entries": [dict(entry.said) for entry in change.entries],
                "plan": {name: {"edits": device["edits"]} for name, device in plan.devices.items()},
                "outcomes": outcomes,
                "readings": changes.readings(change),
            },
        )
        return DONE
    out = console()
    _show_head(out, changes, change)
    for outcome in outcomes:
        _show_outcome(out, outcome, steps=options.steps)
    for readings in changes.readings(change):
        _show_readings(out, readings)
    return DONE


def _show_head(out: Console, changes: Changes, change: Change) -> None:
    rows = table("what", "said")
    rows.show_header = False
    rows.add_row("change", change.name)
    rows.add_row("reason", change.reason)
    if change.ticket:
        rows.add_row("ticket", change.ticket)
    rows.add_row("author", change.author)
    if change.origin:
        rows.add_row("origin", change.origin)
    rows.add_row("state", change.state)
    for entry in change.entries:
        who = entry.said.get("author") if entry.kind in (APPROVED, BEGAN) or "author" in entry.said else None
        rows.add_row(f"{entry.kind}", f"{entry.at[:19]} UTC{f' by {who}' if who else ''}")
    estate = next((e.said["estate"] for e in change.entries if e.said.get("estate")), None)
    if estate is not None:
        rows.add_row(
            "estate",
            f"commit {estate['commit'][:12]}{'' if estate['clean'] else ', with uncommitted changes'}",
        )
    print_table(out, rows)
    out.print()
    show_staging(out, changes, change)
    show_plan(out, recorded_plan(changes, change))


def show_staging(out: Console, changes: Changes, change: Change) -> None:
    """The new devices of a change that stages some, and what each is given first."""
    for name, staged in staged_devices(changes, change).items():
        attributes = ", ".join(
            f"{key} {_shown(value)}"
            for key, value in staged["attributes"].items()
            if key not in ("name", "serial")
        )
        out.print(
            Text.assemble(
                (f"new device {name}", "bold"), f" with the serial number {staged['serial']}: {attributes}"
            )
        )
        out.print("  first configuration:")
        for line in staged["first"]:
            out.print(Text(f"    {line}"))
        out.print()


def _shown(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def show_plan(out: Console, plan: StoredPlan) -> None:
    """The recorded difference; what is the same on several devices is shown once."""
    groups: dict[str, list[str]] = {}
    for name, device in plan.devices.items():
        groups.setdefault("\n".join(device_lines(device)), []).append(name)
    for words, names in groups.items():
        if words:
            out.print(join_names(names, NAMED), style="bold")
            for line in words.split("\n"):
                out.print(Text(f"    {line}", style=COLOURS.get(line[:1], "")))
            out.print()


def _show_outcome(out: Console, outcome: Any, *, steps: bool) -> None:
    listing = table(
        "device", "result", "added", "removed", "seconds", numbers=("added", "removed", "seconds")
    )
    for device in outcome["devices"]:
        state = device["state"]
        listing.add_row(
            device["device"],
            Text(state, style=style_of(state)),
            str(device["added"]),
            str(device["removed"]),
            f"{device['seconds']:.1f}",
        )
    print_table(out, listing)
    for device in outcome["devices"]:
        if device["reason"]:
            print_hanging(out, Text.assemble((device["device"], "bold"), f": {device['reason']}"))
    if steps:
        out.print()
        for at, name, what in outcome["timeline"]:
            out.print(f"{at[11:23]}  {name}  {what}", style="dim")


def _show_readings(out: Console, readings: Any) -> None:
    """What was read after the change and not before it, or the other way; equal things are shown once."""
    groups: dict[tuple[str, str, str], list[str]] = {}
    checked = sum(device["checked"] for device in readings["devices"].values())
    for name, device in readings["devices"].items():
        for reading, sign, row in state_diff(device):
            cells = "  ".join(str(cell) for cell in row if cell is not None)
            groups.setdefault((reading, sign, cells), []).append(name)
    out.print(
        (
            f"{plural(checked, 'check')} on {plural(len(readings['devices']), 'device')}; state before and"
            " after:"
        ),
        style="bold",
    )
    if not groups:
        out.print("    the same")
    for number, ((reading, sign, cells), names) in enumerate(groups.items()):
        if number == ROWS:
            out.print(f"    and {len(groups) - ROWS} more (--format json lists all)", style="dim")
            break
        out.print(Text(f"    {sign} {join_names(names, NAMED)}: {reading}: {cells}", style=COLOURS[sign]))


def _show_intended(options: ChangeShowOptions, changes: Changes, change: Change, name: str) -> int:
    """What was intended on one device, in its own words."""
    plan = recorded_plan(changes, change)
    if name not in plan:
        raise UsageError(
            f"{change.name} does not include the device '{name}'", hint=spelling_hint(name, plan.devices)
        )
    estate = changes.estate
    builder = IntentBuilder(estate)
    syntax = builder.syntax(estate.device(name))
    planned = plan.of(name, syntax.grammar)
    text = syntax.masked(planned.intended)
    if options.format == "json":
        print_json(
            "intended",
            1,
            {"change": change.name, "device": name, "sections": list(planned.owners), "text": text},
        )
    else:
        console().out(text, end="", highlight=False)
    return DONE
