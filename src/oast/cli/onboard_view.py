"""The progress of each new device: as a table, once or updated until the user ends it."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Sequence

from rich.console import Console, Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from oast.cli.output import plural, print_table, table
from oast.cli.terminal import print_hanging
from oast.onboard import NewDevice, NewDeviceState, NewDeviceStore, OnboardingRefusal

STYLES = {
    NewDeviceState.STAGED: "dim",
    NewDeviceState.ASKED: "cyan",
    NewDeviceState.CONFIGURED: "cyan",
    NewDeviceState.CALLED: "cyan",
    NewDeviceState.MANAGED: "green",
    NewDeviceState.FAILED: "red",
}
EVERY_S = 0.5
SHOWN = 12
NOT_ASKED = "has not connected yet: it has no power, cannot reach this server, or asks another one"
# The heading, its line, the count of hidden rows, and the count of expected devices.
AROUND = 4


def print_status(out: Console, found: Sequence[NewDevice], refused: Sequence[OnboardingRefusal]) -> None:
    """All of it, once."""
    if found:
        print_table(out, _table(found))
        for line in _told(found):
            print_hanging(out, line)
        out.print(expected(found))
    else:
        out.print("no new device is expected (stage some with: oast onboard stage FILE)")
    for line in _refused(refused):
        print_hanging(out, line)


async def follow(boxes: NewDeviceStore, out: Console) -> None:
    """Update until the user ends it. The database is read here, not by the thread of the view."""
    with Live(console=out, auto_refresh=False) as live:
        while True:
            live.update(_alive(out, boxes.all(), boxes.refusals()), refresh=True)
            await asyncio.sleep(EVERY_S)


def _alive(out: Console, found: Sequence[NewDevice], refused: Sequence[OnboardingRefusal]) -> Group:
    """As much as the terminal has room for: first what went wrong, then what has happened last."""
    told = [line for one in (*_told(found), *_refused(refused)) for line in one.wrap(out, out.width)][
        : max(2, out.height // 3)
    ]
    room = max(1, out.height - len(told) - AROUND)
    rows = found if len(found) <= room else sorted(found, key=lambda box: box.since, reverse=True)[:room]
    more = (
        [Text(f"and {len(found) - len(rows)} more without recent activity", style="dim")]
        if len(rows) < len(found)
        else []
    )
    return Group(_table(rows), *more, *told, expected(found))


def why(box: NewDevice) -> str | None:
    """Why it is not managed, as far as that is known."""
    return box.why or (NOT_ASKED if box.state is NewDeviceState.STAGED else None)


def is_expected(box: NewDevice) -> bool:
    return box.state is not NewDeviceState.MANAGED


def expected(found: Sequence[NewDevice]) -> Text:
    """How many are still expected, and how far those have come."""
    counts = Counter(box.state for box in found if is_expected(box))
    states = ", ".join(f"{counts[state]} {state}" for state in NewDeviceState if counts[state])
    return Text(f"{plural(counts.total(), 'device')} still expected" + (f": {states}" if states else ""))


def _table(found: Sequence[NewDevice]) -> Table:
    made = table("device", "serial", "state", "since", whole=("device", "serial"))
    for box in found:
        made.add_row(
            box.name,
            box.serial,
            Text(str(box.state), style=STYLES[box.state]),
            f"{box.since:%Y-%m-%d %H:%M:%S}",
        )
    return made


def _told(found: Sequence[NewDevice]) -> list[Text]:
    """Why they have failed, or have not come further; what has failed first."""
    ordered = sorted(found, key=lambda box: box.state is not NewDeviceState.FAILED)
    lines = [Text(f"{box.name}: {told}") for box in ordered for told in (box.why, box.noted) if told]
    silent = [box.name for box in found if box.state is NewDeviceState.STAGED]
    if silent:
        more = f" and {len(silent) - SHOWN} more" if len(silent) > SHOWN else ""
        each = "" if len(silent) == 1 else "each "
        lines.append(Text(f"{', '.join(silent[:SHOWN])}{more}: {each}{NOT_ASKED}", style="dim"))
    return lines


def _refused(refused: Sequence[OnboardingRefusal]) -> list[Text]:
    lines = [
        Text(
            (
                f"{one.serial} was refused {plural(one.times, 'time')}, most recently at "
                f"{one.at:%Y-%m-%d %H:%M:%S}: {one.why}"
            ),
            style="yellow",
        )
        for one in refused[:SHOWN]
    ]
    return [*lines, Text(f"and {len(refused) - SHOWN} more were refused")] if len(refused) > SHOWN else lines
