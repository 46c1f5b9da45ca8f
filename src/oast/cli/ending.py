"""Being told to end while devices are delivered to: they are left in a known state; told again, they are left to their timers, and which
is said; told a third time, the process ends at once."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import sys
from collections.abc import Sequence
from types import TracebackType

from oast.cli.exits import INTERRUPTED
from oast.cli.streams import SIGNALS, from_now_on_ignored
from oast.cli.workplace import named
from oast.fleet.events import DeviceEvent, Event, Stage

NAMED = 20
# Until then nothing was sent to a device that it would have to take back.
HARMLESS = (Stage.CONNECTING, Stage.READING, Stage.BACKING_UP, Stage.PREPARED)


class Ending:
    """Use as a context within a running loop. The first signal cancels the task; a second sets `hand_over`; a third ends the process at
    once and says which devices are left. `hear` is told what happens to devices.

    Behind it signals are ignored: what became of the devices is known, and is what the exit code says.
    """

    def __init__(self, names: Sequence[str]) -> None:
        self._names = names
        self._stages: dict[str, Stage] = {}
        self._task: asyncio.Task[object] | None = None
        self._told = 0
        self.hand_over = asyncio.Event()

    def hear(self, event: Event) -> None:
        if isinstance(event, DeviceEvent):
            self._stages[event.device] = event.stage

    def __enter__(self) -> Ending:
        self._task = asyncio.current_task()
        for number in SIGNALS:
            asyncio.get_running_loop().add_signal_handler(number, self._signalled)
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        signal.pthread_sigmask(signal.SIG_BLOCK, SIGNALS)
        for number in SIGNALS:
            asyncio.get_running_loop().remove_signal_handler(number)
        from_now_on_ignored()
        signal.pthread_sigmask(signal.SIG_UNBLOCK, SIGNALS)

    def _signalled(self) -> None:
        self._told += 1
        if self._told == 1:
            self._say("interrupted: leaving every device in a known state; once more leaves them to their timers")
            if self._task is not None:
                self._task.cancel()
        elif self._told == 2:
            self._say("handing over to the devices' own timers; once more ends at once")
            self.hand_over.set()
        else:
            self._leave()

    @staticmethod
    def _say(text: str) -> None:
        # Whoever closed the terminal does not read this.
        with contextlib.suppress(OSError, ValueError):
            sys.stderr.write(f"\n{text}\n")
            sys.stderr.flush()

    def _leave(self) -> None:
        stages = {name: self._stages.get(name) for name in self._names}
        left = [name for name, stage in stages.items() if stage is not None and not stage.is_end and stage not in HARMLESS]
        if left:
            self._say(
                f"left at once; left to their own timers, and not known to be in order: {named(left, NAMED)}\n"
                "    when the timers have gone off, look with: oast diff"
            )
        else:
            self._say("left at once; no device was being changed")
        os._exit(INTERRUPTED)
