"""Being told to end while devices are delivered to: first they are left in a known state, then at once."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import sys
from collections.abc import Sequence
from types import TracebackType

from oast.cli.exits import INTERRUPTED
from oast.cli.workplace import named
from oast.fleet.events import DeviceEvent, Event, Stage

# Ctrl-C, a pipeline that is stopped, a terminal that is closed.
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
NAMED = 20
# Until then nothing was sent to a device that it would have to take back.
HARMLESS = (Stage.CONNECTING, Stage.READING, Stage.BACKING_UP, Stage.PREPARED)


class Ending:
    """Use as a context within a running loop. The first signal cancels the task; a second one ends the process at once and
    says which devices are left to their own way back. `hear` is told what happens to devices."""

    def __init__(self, names: Sequence[str]) -> None:
        self._names = names
        self._stages: dict[str, Stage] = {}
        self._task: asyncio.Task[object] | None = None
        self._told = False

    def hear(self, event: Event) -> None:
        if isinstance(event, DeviceEvent):
            self._stages[event.device] = event.stage

    def __enter__(self) -> Ending:
        self._task = asyncio.current_task()
        for number in SIGNALS:
            asyncio.get_running_loop().add_signal_handler(number, self._signalled)
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        for number in SIGNALS:
            asyncio.get_running_loop().remove_signal_handler(number)

    def _signalled(self) -> None:
        if self._told:
            self._leave()
        self._told = True
        # Whoever closed the terminal does not read this.
        with contextlib.suppress(OSError, ValueError):
            sys.stderr.write("\ninterrupted: leaving every device in a known state; once more leaves at once\n")
        if self._task is not None:
            self._task.cancel()

    def _leave(self) -> None:
        stages = {name: self._stages.get(name) for name in self._names}
        left = [name for name, stage in stages.items() if stage is not None and not stage.is_end and stage not in HARMLESS]
        with contextlib.suppress(OSError, ValueError):
            sys.stderr.write("\nleft at once")
            if left:
                sys.stderr.write(f"; left to their own timers, and not known to be in order: {named(left, NAMED)}\n")
                sys.stderr.write("    when the timers have gone off, look with: oast diff\n")
            else:
                sys.stderr.write("; no device was being changed\n")
            sys.stderr.flush()
        os._exit(INTERRUPTED)
