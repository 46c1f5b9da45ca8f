"""The size of a change as a table: a row for each section, for users who have seen the lines or do not want
all of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.console import Console

from oast.change.plan import Comparison
from oast.change.rollout import owning_sections
from oast.cli.output import join_names, plural, print_table, table


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
            for name in owning_sections(edit, owners):
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
        print_table(console, listing)
        console.print()


# Of fewer devices, the lines themselves are read as quickly.
HEAD_FROM = 4
KINDS = 6


def show_head(comparisons: Sequence[Comparison], console: Console) -> None:
    """What a long difference opens with: how many devices, how much, what goes away, and what touches the way
    in."""
    different = [comparison for comparison in comparisons if comparison.edits]
    if len(different) < HEAD_FROM:
        return
    added, removed = sum(c.counts.added for c in different), sum(c.counts.removed for c in different)
    console.print(
        f"{len(different)} of {len(comparisons)} devices would change: +{added} -{removed}", style="bold"
    )
    gone = removed_names(different)
    if gone:
        kinds = [f"{kind} on {plural(number, 'device')}" for kind, number in gone.items()]
        console.print(f"removed: {join_names(kinds, KINDS)}", style="red")
    risky = [comparison.name for comparison in different if comparison.access_risks]
    if risky:
        console.print(f"affects management access: {join_names(risky, KINDS)}", style="yellow")
    console.print()


def removed_names(different: Sequence[Comparison]) -> dict[str, int]:
    """What is removed and does not come again with another value: kinds of statements, and on how many
    devices."""
    found: Counter[str] = Counter()
    for comparison in different:
        made = {edit.rule for edit in comparison.edits if edit.operation == "create"}
        found.update(
            {
                edit.rule.path or edit.node.text
                for edit in comparison.edits
                if edit.operation == "remove" and edit.rule not in made
            }
        )
    return dict(found.most_common())


def short_summary(different: Sequence[Comparison]) -> str:
    """The same in a few words, for the question."""
    added, removed = sum(c.counts.added for c in different), sum(c.counts.removed for c in different)
    parts = [f"+{added} -{removed}"]
    gone = removed_names(different)
    if gone:
        parts.append(f"{join_names(list(gone), 3)} removed")
    risky = sum(1 for comparison in different if comparison.access_risks)
    if risky:
        parts.append(f"affects management access of {risky}")
    return "; ".join(parts)
