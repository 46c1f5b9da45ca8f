"""What differs between devices in values only, such as a location on each of a thousand, is shown once, with
a few of the values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rich.console import Console
from rich.text import Text

from oast.cli.output import join_names, plural
from oast.config import Counts, ViewLine

# Of fewer, each is worth a look.
FOLD_FROM = 4
SHOWN = 3
NAMED = 2
WIDEST_NAMES = 40


@dataclass(frozen=True)
class DiffGroup:
    """Edits that look alike on many devices: their lines, with what varies left out, and what that is, by
    devices. `views` are the lines of each as they are."""

    lines: tuple[ViewLine, ...]
    rows: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...]
    counts: Counts
    views: tuple[tuple[ViewLine, ...], ...] = ()

    @property
    def devices(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(name for names, _ in self.rows for name in names))


def group_diffs(
    views: Mapping[tuple[ViewLine, ...], Sequence[str]], counts_of: Mapping[tuple[ViewLine, ...], Counts]
) -> list[DiffGroup]:
    """Those of `views`, each with the devices that have it, that differ in values only."""
    alike: dict[tuple[tuple[str, int, str], ...], list[tuple[ViewLine, ...]]] = {}
    for view in views:
        alike.setdefault(tuple((line.sign, line.depth, _word(line)) for line in view), []).append(view)
    found = []
    for same in alike.values():
        devices = {name for view in same for name in views[view]}
        if len(same) < FOLD_FROM or len(devices) < FOLD_FROM:
            continue
        varying = [n for n in range(len(same[0])) if len({view[n].text for view in same}) > 1]
        lines = tuple(
            ViewLine(line.sign, line.depth, f"{_word(line)} …", line.note) if n in varying else line
            for n, line in enumerate(same[0])
        )
        rows = tuple((tuple(views[view]), tuple(_rest(view[n]) for n in varying)) for view in same)
        found.append(DiffGroup(lines, rows, counts_of[same[0]], tuple(same)))
    return found


def _word(line: ViewLine) -> str:
    return line.text.split(" ", 1)[0]


def _rest(line: ViewLine) -> str:
    return line.text.partition(" ")[2]


def show_values(group: DiffGroup, console: Console) -> None:
    """A small table: the first few devices and their values, and how many more there are."""
    shown = group.rows[:SHOWN]
    width = min(WIDEST_NAMES, max(len(join_names(names, NAMED)) for names, _ in shown))
    for names, values in shown:
        console.print(
            Text(f"      {join_names(names, NAMED).ljust(width)}  ", style="dim").append(
                "  |  ".join(values), style="not dim"
            )
        )
    more = len(group.rows) - len(shown)
    if more:
        console.print(
            Text(f"      and {more} more values; --full shows {'it' if more == 1 else 'them'}", style="dim")
        )


def heading_of(group: DiffGroup, total: int) -> Text:
    """Whose it is, and how much on each."""
    devices = group.devices
    which = f"all {total}" if len(devices) == total else plural(len(devices), "device")
    text = Text(f"{which}, each with its own value", style="bold")
    return text.append(f"  +{group.counts.added} -{group.counts.removed} each", style="not bold dim")
