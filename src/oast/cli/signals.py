"""Signals during a delivery: the first rolls back what is not confirmed, the second leaves the devices to
their revert timers, the third ends the process at once. Every ending names the devices that are not proved
unchanged."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import sys
from collections.abc import Callable
from types import TracebackType

from oast.change import Outcome, State
from oast.cli.exit_codes import INTERRUPTED
from oast.cli.pipes import SIGNALS, ignore_signals
from oast.operations import DeliveryResult


class SignalHandler:
    """Use as a context within a running loop. The first signal cancels the task; a second sets
    `stop_waiting`; a third ends the process at once, after the record was written as far as it is known.

    Afterwards signals are ignored: the outcome of the devices is known, and is the exit code.
    """

    def __init__(self) -> None:
        self._task: asyncio.Task[object] | None = None
        self._told = 0
        self._leave_now: Callable[[], DeliveryResult] | None = None
        self.stop_waiting = asyncio.Event()

    def begun(self, leave: Callable[[], DeliveryResult]) -> None:
        """From now on devices may be touched; `leave` writes the record and returns what is known of them."""
        self._leave_now = leave

    def __enter__(self) -> SignalHandler:
        self._task = asyncio.current_task()
        for number in SIGNALS:
            asyncio.get_running_loop().add_signal_handler(number, self._signalled)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        signal.pthread_sigmask(signal.SIG_BLOCK, SIGNALS)
        for number in SIGNALS:
            asyncio.get_running_loop().remove_signal_handler(number)
        ignore_signals()
        signal.pthread_sigmask(signal.SIG_UNBLOCK, SIGNALS)

    def _signalled(self) -> None:
        self._told += 1
        if self._told == 1:
            self._say(
                "interrupted: rolling back unconfirmed devices. Ctrl-C again: stop waiting and leave it to"
                " the devices' revert timers"
            )
            if self._task is not None:
                self._task.cancel()
        elif self._told == 2:
            self._say("the devices' revert timers will roll back. Ctrl-C again: exit now")
            self.stop_waiting.set()
        else:
            self._leave()

    @staticmethod
    def _say(text: str) -> None:
        # The user who closed the terminal does not read this.
        with contextlib.suppress(OSError, ValueError):
            sys.stderr.write(f"\n{text}\n")
            sys.stderr.flush()

    def _leave(self) -> None:
        result = self._leave_now() if self._leave_now is not None else None
        self._say(
            "exited at once; no device was changed" if result is None else open_devices_text(result.outcomes)
        )
        if result is not None and result.unrecorded is not None:
            self._say(f"warning: the record of this run could not be written: {result.unrecorded}")
        os._exit(INTERRUPTED)


def open_devices_text(outcomes: tuple[Outcome, ...]) -> str:
    """What is said of a run that ends at once: every device that is not proved unchanged, by name."""
    lines = []
    for state, what in (
        (State.UNKNOWN, "state unknown, left to their own rollback"),
        (State.DELIVERED, "run the change"),
        (State.REVERTED, "rolled back"),
    ):
        names = [outcome.device for outcome in outcomes if outcome.state is state]
        if names:
            lines.append(f"    {what}: {', '.join(names)}")
    unchanged = sum(1 for outcome in outcomes if outcome.state is State.UNCHANGED)
    if not lines:
        return "exited at once; no device was changed"
    rest = f"    unchanged: the other {unchanged}\n" if unchanged else ""
    return (
        "exited at once\n"
        + "\n".join(lines)
        + f"\n{rest}hint: find out and recover with: oast change recover"
    )
