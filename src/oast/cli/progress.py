"""Progress of many devices: a live table on a terminal, a plain line for each ending otherwise. Goes to stderr."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from types import TracebackType

from rich.console import Console, Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from oast.fleet.events import DeviceEvent, Event, Stage

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


# Where nobody watches, more devices than these are counted instead of listed, unless something went wrong with one.
MANY = 12
EXPECTED = (Stage.COMPARED, Stage.VERIFIED, Stage.DELIVERED)
COUNT_EVERY_S = 5.0


def style_of(word: str) -> str:
    """How a stage, or a result that is called like one, is shown."""
    return STYLES.get(Stage(word), "") if word in list(Stage) else ""


class Progress:
    """Use as a context; call it with what happens."""

    def __init__(self, console: Console, names: Sequence[str], *, quiet: bool) -> None:
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
            self._live = Live(console=self._console, get_renderable=self._table, refresh_per_second=8, transient=True)
            self._live.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.stop()

    def stop(self) -> None:
        """Make room for something else on the terminal. Safe to call again."""
        if self._live is not None:
            with suppress(OSError):
                self._live.stop()

    def __call__(self, event: Event) -> None:
        if not isinstance(event, DeviceEvent):
            return
        name, stage = event.device, event.stage
        self._stages[name] = event
        if not stage.is_end:
            self._ended.pop(name, None)
            return
        self._ended[name] = time.monotonic() - self._since
        if self._live is None and not self._quiet:
            if len(self._names) <= MANY or stage not in EXPECTED:
                self._console.print(f"{name.ljust(self._width)}  {stage}  {self._ended[name]:.1f} s", style=STYLES.get(stage))
            else:
                self._count()

    def _count(self) -> None:
        """Of many devices, how many have ended: from time to time, and when all have."""
        now, ended = time.monotonic(), len(self._ended)
        if ended == len(self._names) or now - self._counted >= COUNT_EVERY_S:
            self._counted = now
            words = Counter(str(self._stages[name].stage) for name in self._ended)
            said = ", ".join(f"{number} {word}" for word, number in words.items())
            self._console.print(f"{ended} of {len(self._names)}: {said}  {now - self._since:.1f} s", style="dim")

    def _table(self) -> Group:
        room = max(3, self._console.size.height - 4)
        order = sorted(self._names, key=lambda n: (n in self._ended, n not in self._stages))
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
        for name in order[:room]:
            event = self._stages.get(name)
            spent = self._ended.get(name)
            table.add_row(
                name,
                Text("waiting", style="dim") if event is None else Text(_words(event), style=STYLES.get(event.stage, "")),
                Text("" if spent is None else f"{spent:.1f} s", style="dim", justify="right"),
            )
        count = Counter("ended" if n in self._ended else "waiting" if n not in self._stages else "at work" for n in self._names)
        elapsed = time.monotonic() - self._since
        words = [f"{count['ended']} of {len(self._names)} done", f"{count['at work']} at work", f"{elapsed:.0f} s"]
        return Group(table, Text("  ".join(words), style="dim"))


def _words(event: DeviceEvent) -> str:
    return f"{event.stage} {event.done} of {event.total}" if event.total else str(event.stage)
