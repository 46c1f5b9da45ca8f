"""Checks and their results as text: failed checks in detail, the others counted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.text import Text

from oast.cli.output import console, join_names, plural, print_table, table
from oast.cli.pager import paged
from oast.cli.terminal import print_hanging
from oast.operations import Behind, IntentContext, Verification, behind
from oast.verify import GONE, Check, CheckResult, ExpectedLoss, RootCause, Snapshot, StateChange, root_causes

NAMED = 4
LOST, EXPECTED, OTHER, NEW = "lost", "expected", "different", "new"
STYLES = {LOST: "red", EXPECTED: "yellow", OTHER: "", NEW: "green"}
# How many rows are shown of each; what was lost, all.
MOST = {LOST: 10_000, EXPECTED: 10_000, OTHER: 4, NEW: 4}


def show_results(prepared: IntentContext, found: Verification, *, verbose: bool) -> None:
    """The failed checks, with what was expected and found, and the configuration that they depend on; then
    the counts.

    The same result on several devices is shown once. With `verbose`, every check is listed.
    """
    out = console()
    if verbose:
        _show_every(out, found.every)
    else:
        _show_wrong(out, prepared, found)
    if found.results:
        verdict = "all passed" if not found.wrong else f"{len(found.wrong)} failed"
        verdict += f", {plural(len(found.warned), 'warning')}" if found.warned else ""
        out.print(f"{plural(len(found.every), 'check')} on {plural(len(found.results), 'device')}: {verdict}")


def _show_every(out: Console, results: Sequence[CheckResult]) -> None:
    listing = table("device", "check", "expected", "found", whole=("device",))
    for result in results:
        found = Text(result.actual or "nothing", style="green" if result.passed else "red")
        listing.add_row(result.check.device, result.check.title, result.check.expected, found)
    print_table(out, listing)
    out.print()


def _show_wrong(out: Console, prepared: IntentContext, found: Verification) -> None:
    groups: dict[tuple[str, str], list[RootCause]] = {}
    for finding in root_causes(found.wrong):
        result = finding.result
        groups.setdefault((result.check.title, result.difference), []).append(finding)
    for (title, difference), same in groups.items():
        results = [finding.result for finding in same]
        names = [result.check.device for result in results]
        print_hanging(
            out,
            Text.assemble(
                (join_names(names, NAMED), "bold"),
                f": {title}: ",
                (difference, "red"),
            ),
        )
        for words in dict.fromkeys(str(behind(prepared, result.check)) for result in results[:NAMED]):
            if words:
                out.print(Text(f"    {words}", style="dim"))
        follows = [result for finding in same for result in finding.follows]
        if follows:
            where = join_names(list(dict.fromkeys(result.check.device for result in follows)), NAMED)
            how_many = (
                "1 more check failed as a consequence"
                if len(follows) == 1
                else (f"{len(follows)} more checks failed as a consequence")
            )
            out.print(Text(f"    {how_many}, on {where}", style="dim"))
    for result in found.warned:
        from_ = behind(prepared, result.check)
        print_hanging(
            out, Text.assemble((f"warning: {result.check.device}", "yellow"), f": {result.finding} ({from_})")
        )
    if groups or found.warned:
        out.print()


def show_state_changes(before: Snapshot, found: Sequence[StateChange], meant: Sequence[ExpectedLoss]) -> None:
    """The state compared with the one before: first what was lost, then expected losses, then what is
    different or new. The same change on several devices is one row."""
    out = console()
    kinds: dict[str, dict[tuple[str, str, str, str], list[str]]] = {
        LOST: {},
        EXPECTED: {},
        OTHER: {},
        NEW: {},
    }
    for one in found:
        kind = (
            (EXPECTED if any(may(one) for may in meant) else LOST) if one.lost else OTHER if one.was else NEW
        )
        # What is gone is gone, however each device had it.
        was = "" if one.now == GONE else one.was
        kinds[kind].setdefault((one.reading, one.what, was, one.now), []).append(one.device)
    listing = table("", "devices", "reading", "record", "before", "now")
    left = 0
    for kind, rows in kinds.items():
        for number, ((reading, what, was, now), names) in enumerate(rows.items()):
            if number >= MOST[kind]:
                left += 1
                continue
            listing.add_row(
                Text(kind, style=STYLES[kind]),
                join_names(names, 1),
                reading,
                what,
                was or ("" if kind == NEW else "there"),
                now,
            )
    if found:
        print_table(out, listing)
    if left:
        out.print(f"and {left} more changed or new (--format json lists all)", style="dim")
    counted = ", ".join(f"{sum(map(len, rows.values()))} {kind}" for kind, rows in kinds.items() if rows)
    out.print(f"since {before.at[:16].replace('T', ' ')} UTC: {counted or 'nothing has changed'}")


def show_listed(prepared: IntentContext, checks: Mapping[str, Sequence[Check]]) -> None:
    """The checks, and the source of each."""

    def show(out: Console) -> None:
        for name, found in checks.items():
            out.print(Text.assemble((name, "bold"), (f"  {plural(len(found), 'check')}", "dim")))
            listing = table("", "check", "expected", "from")
            listing.show_header = False
            for check in found:
                listing.add_row(
                    " ", check.title, check.expected, Text(_from(behind(prepared, check)), style="dim")
                )
            print_table(out, listing)
        out.print(f"{plural(sum(map(len, checks.values())), 'check')} on {plural(len(checks), 'device')}")

    paged(console(), show)


def _from(behind: Behind) -> str:
    return str(behind.place) if behind.place is not None else " / ".join(behind.statement)
