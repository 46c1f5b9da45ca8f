"""Running coroutines of the core to their end."""

from __future__ import annotations

import asyncio
import signal
import threading
from collections.abc import Coroutine, Iterator
from contextlib import contextmanager
from typing import TypeVar

from oast.cli.pipes import SIGNALS, raise_pending_interrupt

Result = TypeVar("Result")


def run_with(runner: asyncio.Runner, work: Coroutine[object, object, Result]) -> Result:
    """What `work` returns.

    The task itself returns nothing: when it gives the signal handlers back, `signal` makes a text of the one
    it takes away, and with it of the task and its result. For a thousand compared devices that took seconds,
    and the memory of all that they list.
    """
    found: list[Result] = []

    async def go() -> None:
        with _cancelled_by_signals():
            try:
                raise_pending_interrupt()
            except KeyboardInterrupt:
                work.close()
                raise
            found.append(await work)

    try:
        runner.run(go())
    except asyncio.CancelledError:
        raise KeyboardInterrupt from None
    return found[0]


@contextmanager
def _cancelled_by_signals() -> Iterator[None]:
    """Told to end, the task is cancelled, and cleans up."""
    loop, task = asyncio.get_running_loop(), asyncio.current_task()
    if threading.current_thread() is not threading.main_thread() or task is None:
        yield
        return
    before = {number: signal.getsignal(number) for number in SIGNALS}
    for number in before:
        loop.add_signal_handler(number, task.cancel)
    try:
        yield
    finally:
        for number, handler in before.items():
            # Signals that are ignored by now stay so: the work is done.
            ignored = signal.getsignal(number) is signal.SIG_IGN
            loop.remove_signal_handler(number)
            signal.signal(number, signal.SIG_IGN if ignored else handler)


def run_async(work: Coroutine[object, object, Result]) -> Result:
    """The same, with an event loop of its own."""
    with asyncio.Runner() as runner:
        return run_with(runner, work)
