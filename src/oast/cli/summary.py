"""How much would change, in a table: a row for each section, for whoever has seen the lines, or does not want all of them."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from oast.change.compare import Comparison
from oast.change.hold import owners_within
from oast.cli.workplace import put_table, table


def show_summary(comparisons: Sequence[Comparison], console: Console) -> None:
    """For each section, on how many devices how much is added and removed."""
    added: dict[str, int] = {}
    removed: dict[str, int] = {}
    devices: dict[str, set[str]] = {}
    for comparison in comparisons:
        owners = comparison.intent.owners
        for name in owners:
            devices.setdefault(name, set())
        for edit in comparison.edits:
            for name in owners_within(edit, owners):
                devices[name].add(comparison.name)
                if edit.operation != "remove":
                    added[name] = added.get(name, 0) + 1
                if edit.operation != "create":
                    removed[name] = removed.get(name, 0) + 1
    listing = table("section", "devices", "added", "removed", numbers=("devices", "added", "removed"))
    for name, having in devices.items():
        if having:
            listing.add_row(name, str(len(having)), str(added.get(name, 0)), str(removed.get(name, 0)))
    if listing.row_count:
        put_table(console, listing)
        console.print()
