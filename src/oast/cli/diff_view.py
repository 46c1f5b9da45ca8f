"""Differences to read: what is the same on several devices is shown once, with their names."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from rich.console import Console
from rich.text import Text

from oast.change.plan import Comparison
from oast.cli.grouping import DiffGroup, group_diffs, heading_of, show_values
from oast.cli.output import join_names, plural
from oast.config import Counts, Edit, RetainedStatement, ViewLine, counts, view

NAMED = 12  # devices of a group that are named; JSON names them all
STYLES = {"+": "green", "-": "red", ">": "cyan", " ": ""}


class DeviceDiff(Protocol):
    """A device and what is different on it."""

    @property
    def name(self) -> str: ...

    @property
    def edits(self) -> tuple[Edit, ...]: ...


@dataclass(frozen=True)
class SharedDiff:
    """Edits that exactly `devices` have in common."""

    devices: tuple[str, ...]
    lines: tuple[ViewLine, ...]
    counts: Counts


def shared_differences(
    devices: Iterable[DeviceDiff], *, full: bool = True
) -> tuple[list[SharedDiff], list[DiffGroup]]:
    """Every edit once, those with the same devices together; what most devices have in common comes first.
    Unless it is to be `full`, those that differ in values only are folded."""
    holders: dict[tuple[ViewLine, ...], list[tuple[str, list[Edit]]]] = {}
    for device in devices:
        for unit in _units(device.edits):
            holders.setdefault(view(unit), []).append((device.name, unit))
    names_of = {lines: [name for name, _ in having] for lines, having in holders.items()}
    alike = (
        []
        if full
        else group_diffs(names_of, {lines: counts(having[0][1]) for lines, having in holders.items()})
    )
    gone = {lines for group in alike for lines in group.views}
    together: dict[tuple[str, ...], list[Edit]] = {}
    for lines, having in holders.items():
        if lines not in gone:
            together.setdefault(tuple(name for name, _ in having), []).extend(having[0][1])
    groups = [SharedDiff(names, view(edits), counts(edits)) for names, edits in together.items()]
    return sorted(groups, key=lambda group: -len(group.devices)), sorted(
        alike, key=lambda group: -len(group.devices)
    )


def _units(edits: Sequence[Edit]) -> Iterator[list[Edit]]:
    """Edits one by one; those of one list in a user's order only together, since they stand before each
    other."""
    ordered: dict[tuple[str, ...], list[Edit]] = {}
    for edit in edits:
        if edit.rule.user_ordered:
            ordered.setdefault((*edit.path[:-1], edit.rule.path), []).append(edit)
        else:
            yield [edit]
    yield from ordered.values()


def show_differences(devices: Sequence[DeviceDiff], console: Console, *, full: bool = True) -> None:
    """Every group: its devices, how much, and the lines."""
    shared, alike = shared_differences(devices, full=full)
    for group in shared:
        number = len(group.devices)
        heading = Text(join_names(group.devices, NAMED), style="bold")
        note = (
            f"  (all {number})"
            if number == len(devices) > 1
            else f"  (the same on {number})"
            if number > 1
            else ""
        )
        heading.append(f"{note}  +{group.counts.added} -{group.counts.removed}", style="not bold dim")
        console.print(heading)
        for line in group.lines:
            console.print(_line(line))
        console.print()
    for one in alike:
        console.print(heading_of(one, len(devices)))
        for line in one.lines:
            console.print(_line(line))
        show_values(one, console)
        console.print()


def show_unsaved(comparisons: Sequence[Comparison], console: Console, *, pushing: bool) -> None:
    """What devices run and would not start with."""
    for comparison in comparisons:
        if not comparison.unsaved:
            continue
        lines = plural(len(comparison.unsaved), "change")
        tail = "; a push saves them:" if pushing else ":"
        console.print(
            Text(f"{comparison.name}: running differs from startup ({lines}){tail}", style="yellow")
        )
        for edit in comparison.unsaved[:3]:
            place = " / ".join((*(node.text for node in edit.outer), edit.node.text))
            console.print(Text(f"    {'-' if edit.operation == 'remove' else '+'} {place}", style="yellow"))
    if any(comparison.unsaved for comparison in comparisons):
        console.print()


def show_left_alone(comparisons: Sequence[Comparison], console: Console, *, verbose: bool) -> None:
    """What is not intended and stays all the same: how much, and with `verbose` what."""
    plain = [c.name for c in comparisons if c.intent.platform.by_structure]
    if plain:
        message = (
            f"compared by structure only, because the platform has no grammar: {join_names(plain, NAMED)}"
        )
        console.print(Text(message, style="yellow"))
        console.print()
    unknown = {c.name: [s for s in c.spared if s.unknown] for c in comparisons}
    total = sum(c.unknown for c in comparisons)
    if total:
        are = "is" if total == 1 else "are"
        them = "it" if total == 1 else "them"
        message = (
            f"{plural(total, 'statement')} {_on(unknown)} {are} unknown to the platform's grammar and "
            f"{are} retained"
        )
        console.print(Text(message + ("" if verbose else f" (-v lists {them})"), style="yellow"))
        _list(unknown, console, verbose=verbose)
    held = {c.name: [s for s in c.spared if not s.unknown] for c in comparisons}
    total = sum(map(len, held.values()))
    if total:
        stay, them = ("stays", "it") if total == 1 else ("stay", "them")
        message = (
            f"{plural(total, 'statement')} {_on(held)} {stay} retained, because other statements"
            f" below {them} are"
        )
        console.print(Text(message + ("" if verbose else " (-v lists what)"), style="yellow"))
        _list(held, console, verbose=verbose)
    if any(c.spared for c in comparisons):
        console.print()


def _on(spared: Mapping[str, Sequence[RetainedStatement]]) -> str:
    names = [name for name, found in spared.items() if found]
    return f"on {join_names(names, NAMED)}"


def _list(spared: Mapping[str, Sequence[RetainedStatement]], console: Console, *, verbose: bool) -> None:
    holders: dict[tuple[str, ...], list[str]] = {}
    for name, found in spared.items() if verbose else ():
        for one in found:
            holders.setdefault(tuple(node.text for node in (*one.outer, one.node)), []).append(name)
            for _, below in one.node.walk() if one.unknown else ():
                holders.setdefault((*(node.text for node in (*one.outer, one.node)), below.text), []).append(
                    name
                )
    for words, names in holders.items():
        where = f"   ({join_names(names, NAMED)})" if len(spared) > 1 else ""
        console.print(Text(f"    {' / '.join(words)}").append(where, style="dim"))


def _line(line: ViewLine) -> Text:
    text = Text(f"  {line.sign} {'  ' * line.depth}{line.text}", style=STYLES[line.sign])
    if line.note:
        text.append(f"   ({line.note})", style="dim")
    return text


def show_files(comparisons: Sequence[Comparison], out: Console) -> None:
    """Every line of a configuration file that will change, as it is in the file; the same on several devices
    is shown once."""
    groups: dict[tuple[str, str], list[str]] = {}
    for comparison in comparisons:
        if comparison.file is not None:
            before, after = (text.splitlines() for text in (comparison.file.before, comparison.file.after))
            lines = list(difflib.unified_diff(before, after, lineterm="", n=0))[2:]
            groups.setdefault((comparison.file.path, "\n".join(lines)), []).append(comparison.name)
    for (path, text), names in groups.items():
        out.print(Text(f"{path} on {join_names(names, NAMED)}:", style="bold"))
        for line in text.split("\n"):
            style = "green" if line.startswith("+") else "red" if line.startswith("-") else "dim"
            out.print(Text(f"    {line}", style=style))
        out.print()
