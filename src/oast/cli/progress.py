"""Progress of many devices: a live view on a terminal, a plain line for each ending otherwise. Goes to
stderr.

The view fits the window: each device by itself while there is room for all; of more a bar, how many are
where, and by name those that failed and the slowest.
"""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from types import TracebackType

from rich.console import Console, Group
from rich.live import Live
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from oast.fleet import DeviceEvent, Event, Stage, TimerEvent, WaitEvent, WaveEvent

STYLES = {
    Stage.FAILED: "red",
    Stage.REVERTED: "yellow",
    Stage.UNKNOWN: "bold red",
    Stage.DELIVERED: "green",
    Stage.VERIFIED: "green",
    Stage.COMPARED: "green",
    Stage.REVERTING: "yellow",
    Stage.HELD_BACK: "yellow",
}


# Without a terminal, more devices than this are counted instead of listed, except for those with a problem.
MANY = 12
EXPECTED = (Stage.COMPARED, Stage.VERIFIED, Stage.DELIVERED)
COUNT_EVERY_S = 5.0
# Where devices wait for the others of their wave, and how many of the steps of a delivery are behind them
# there.
RESTING = (Stage.PREPARED, Stage.APPLIED)
STEPS = {
    **dict.fromkeys((Stage.PREPARED, Stage.STAGING, Stage.APPLYING, Stage.READING_AGAIN), 1),
    **dict.fromkeys((Stage.APPLIED, Stage.CHECKING, Stage.HOLDING), 2),
    **dict.fromkeys((Stage.LOGGING_IN_AGAIN, Stage.CONFIRMING, Stage.SAVING), 3),
}
ALL_STEPS = 4


def style_of(word: str) -> str:
    """How a stage, or a result that is called like one, is shown."""
    return STYLES.get(Stage(word), "") if word in list(Stage) else ""


class Progress:
    """Use as a context; call it with what happens."""

    def __init__(self, console: Console, names: Sequence[str], *, quiet: bool, each: bool = False) -> None:
        """Without a terminal, with `each`, every device gets a line when it ends."""
        self._each = each
        self._wave: WaveEvent | None = None
        self._timers: dict[str, float] = {}
        # What the run waits for, and until when at most.
        self._wait: tuple[str, float] | None = None
        self._begun: dict[str, float] = {}
        # Since when each device is where it is.
        self._there: dict[str, float] = {}
        self._console = console
        self._quiet = quiet
        self._names = names
        self._width = max((len(name) for name in names), default=0)
        self._stages: dict[str, DeviceEvent] = {}
        self._since = time.monotonic()
        self._ended: dict[str, float] = {}
        self._live: Live | None = None
        self._counted = self._since

    def __enter__(self) -> Progress:
        self._since = self._counted = time.monotonic()
        if self._console.is_terminal and not self._quiet:
            self._live = Live(
                console=self._console, get_renderable=self._table, refresh_per_second=8, transient=True
            )
            self._live.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    def stop(self) -> None:
        """Make room for something else on the terminal. Safe to call again."""
        if self._live is not None:
            with suppress(OSError):
                self._live.stop()

    def __call__(self, event: Event) -> None:
        if isinstance(event, TimerEvent):
            self._timers[event.device] = time.monotonic() + event.seconds
            return
        if isinstance(event, WaitEvent):
            self._wait = event.what, time.monotonic() + event.seconds
            return
        if isinstance(event, WaveEvent):
            self._wave = event
            if self._live is None and not self._quiet and event.total > 1:
                self._console.print(
                    f"wave {event.number} of {event.total}: {_devices(len(event.devices))}", style="dim"
                )
            return
        name, stage = event.device, event.stage
        if name not in self._stages or self._stages[name].stage is not stage:
            self._there[name] = time.monotonic()
        self._stages[name] = event
        self._begun.setdefault(name, time.monotonic())
        if not stage.is_end:
            self._ended.pop(name, None)
            return
        self._timers.pop(name, None)
        again = name in self._ended
        self._ended[name] = time.monotonic() - self._since
        if self._live is None and not self._quiet and not again:
            if self._each or len(self._names) <= MANY or stage not in EXPECTED:
                self._console.print(
                    f"{name.ljust(self._width)}  {stage}  {self._ended[name]:.1f} s", style=STYLES.get(stage)
                )
            else:
                self._count()

    def _count(self) -> None:
        """Of many devices, how many have ended: from time to time, and when all have."""
        now, ended = time.monotonic(), len(self._ended)
        if ended == len(self._names) or now - self._counted >= COUNT_EVERY_S:
            self._counted = now
            words = Counter(str(self._stages[name].stage) for name in self._ended)
            said = ", ".join(f"{number} {word}" for word, number in words.items())
            self._console.print(
                f"{ended} of {len(self._names)}: {said}  {now - self._since:.1f} s", style="dim"
            )

    def _table(self) -> Group:
        room = max(3, self._console.size.height - 4)
        return self._each_by_itself() if len(self._names) <= room else self._in_short(room)

    def _each_by_itself(self) -> Group:
        order = sorted(self._names, key=lambda n: (n in self._ended, n not in self._stages))
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
        for name in order:
            event = self._stages.get(name)
            spent = self._ended.get(name)
            table.add_row(
                name,
                (
                    Text("waiting", style="dim")
                    if event is None
                    else Text(_words(event), style=STYLES.get(event.stage, ""))
                ),
                Text("" if spent is None else f"{spent:.1f} s", style="dim", justify="right"),
            )
        return Group(table, self._last_line())

    def _last_line(self) -> Text:
        count = Counter(
            "ended" if n in self._ended else "waiting" if n not in self._stages else "at work"
            for n in self._names
        )
        words = [
            f"{count['ended']} of {len(self._names)} done",
            f"{count['at work']} at work",
            f"{time.monotonic() - self._since:.0f} s",
        ]
        if self._wave is not None and self._wave.total > 1:
            words.insert(0, f"wave {self._wave.number} of {self._wave.total}")
        if self._timers:
            words.append(f"shortest timer {max(0.0, min(self._timers.values()) - time.monotonic()):.0f} s")
        left = self._wait[1] - time.monotonic() if self._wait is not None else 0.0
        if self._wait is not None and left > 0 and len(self._ended) < len(self._names):
            words.append(f"{self._wait[0]}: {left:.0f} s left")
        return Text("  ".join(words), style="dim")

    def _in_short(self, room: int) -> Group:
        """A bar, how many devices are where, and by name those that failed and the slowest that
        are at work."""
        now = time.monotonic()
        bar = Table.grid()
        bar.add_row(
            ProgressBar(
                total=ALL_STEPS * len(self._names),
                completed=sum(
                    ALL_STEPS if name in self._ended else STEPS.get(event.stage, 0)
                    for name, event in self._stages.items()
                ),
                width=min(60, self._console.size.width),
                complete_style="cyan",
                finished_style="green",
            )
        )
        counted = Counter(self._stages[name].stage for name in self._names if name in self._stages)
        waiting = len(self._names) - sum(counted.values())
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
        for stage in Stage:
            if counted[stage]:
                table.add_row(
                    Text(str(counted[stage]), justify="right"), Text(str(stage), style=STYLES.get(stage, ""))
                )
        if waiting:
            table.add_row(Text(str(waiting), justify="right"), Text("waiting", style="dim"))
        left = max(2, room - 3 - table.row_count)
        failed = [n for n in self._names if n in self._ended and self._stages[n].stage not in EXPECTED]
        slow = self._slowest()
        rows = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
        some = failed[: max(1, left // 2)] if failed else []
        for name in some:
            rows.add_row(
                name, Text(str(self._stages[name].stage), style=STYLES.get(self._stages[name].stage, "")), ""
            )
        if len(failed) > len(some):
            rows.add_row(f"and {len(failed) - len(some)} more", "", "")
        for name in slow[: max(1, min(5, left - len(some)))]:
            rows.add_row(
                name, _words(self._stages[name]), Text(f"{now - self._there[name]:.0f} s", style="dim")
            )
        return Group(bar, table, *((rows,) if rows.row_count else ()), self._last_line())

    def _slowest(self) -> list[str]:
        """Return the devices in work, longest at the same stage first. Devices that wait for others are only
        listed when all do."""
        working = [name for name in self._begun if name not in self._ended]
        behind = [name for name in working if self._stages[name].stage not in RESTING]
        return sorted(behind or working, key=lambda name: self._there[name])


def _devices(number: int) -> str:
    return "1 device" if number == 1 else f"{number} devices"


def _words(event: DeviceEvent) -> str:
    return f"{event.stage} {event.done} of {event.total}" if event.total else str(event.stage)
