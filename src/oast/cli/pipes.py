"""What a process shares with its parent: its output, whose reader may close it, and the signals that end
it."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator
from types import FrameType
from typing import Any, TextIO

# Ctrl-C, a pipeline that is stopped, a terminal that is closed.
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


def discard_output() -> None:
    """What is still buffered has nowhere to go: from here on it goes there, and ends nothing."""
    with contextlib.suppress(OSError, ValueError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        for stream in (sys.__stdout__, sys.__stderr__):
            if stream is not None:
                os.dup2(nowhere, stream.fileno())
        os.close(nowhere)


class PipeSafeStream:
    """A stream whose reader may go away: what a command finds out, and its exit code, do not depend on who
    reads them."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        try:
            return self._stream.write(text)
        except BrokenPipeError:
            discard_output()
            return len(text)

    def flush(self) -> None:
        try:
            self._stream.flush()
        except BrokenPipeError:
            discard_output()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


class TerminationRequested(KeyboardInterrupt):
    """Like Ctrl-C. A KeyboardInterrupt itself that passes an `exec` of a text, as when a dataclass is made,
    would let the interpreter end by a signal at last, whatever exit code it was given."""


def _told_to_end(number: int, frame: FrameType | None) -> None:
    raise TerminationRequested


_swallowed = threading.Event()


def raise_pending_interrupt() -> None:
    """Raises TerminationRequested, once, if a signal came while the interpreter ran a callback, as many do
    during imports, that lets nothing out."""
    if _swallowed.is_set():
        _swallowed.clear()
        raise TerminationRequested


def is_interrupt(error: BaseException) -> bool:
    """Return whether an error was caused by a request to end: a class that is being created, as during an
    import, wraps any exception in one of its own."""
    seen: set[int] = set()
    one: BaseException | None = error
    while one is not None and id(one) not in seen:
        if isinstance(one, KeyboardInterrupt):
            return True
        seen.add(id(one))
        one = one.__cause__
    return False


def _noticed(
    otherwise: Callable[[sys.UnraisableHookArgs], object],
) -> Callable[[sys.UnraisableHookArgs], None]:
    def noticed(what: sys.UnraisableHookArgs) -> None:
        if isinstance(what.exc_value, KeyboardInterrupt):
            _swallowed.set()
        else:
            otherwise(what)

    return noticed


def ignore_signals() -> None:
    """The work is done: a request to end no longer changes what the process reports."""
    if threading.current_thread() is threading.main_thread():
        for number in SIGNALS:
            signal.signal(number, signal.SIG_IGN)


@contextlib.contextmanager
def handle_signals(*, for_good: bool) -> Iterator[None]:
    """Treat a pipeline that stops the process, and a closed terminal, like Ctrl-C. Unless `for_good`, the
    former handlers are restored afterwards."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = {number: signal.getsignal(number) for number in SIGNALS}
    for number in SIGNALS:
        # A process that ignores the signal, as under nohup, goes on.
        if before[number] is not signal.SIG_IGN:
            signal.signal(number, _told_to_end)
    _swallowed.clear()
    hook = sys.unraisablehook
    sys.unraisablehook = _noticed(hook)
    try:
        yield
    finally:
        if not for_good:
            sys.unraisablehook = hook
            for number, handler in before.items():
                signal.signal(number, handler)
