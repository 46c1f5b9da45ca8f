"""Long answers are parsed in a thread beside the event loop, within a budget of processor time, and given up
where nothing is understood.

One device that sends a lot must not keep the sessions of the others waiting: their revert timers run on.
"""

from __future__ import annotations

import asyncio
import os
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import ParamSpec, TypeVar

from oast.errors import ProtocolError

P = ParamSpec("P")
R = TypeVar("R")

# So much is parsed in a few hundredths of a second, and not worth a thread.
INLINE_LINES = 500
INLINE_BYTES = 100_000
# One thread: a second one would not be faster, because of the interpreter lock, and would hold a second tree.
THREADS = 1
# A statement takes less than a tenth of it; the first seconds are for a slow machine.
CPU_S_AT_LEAST = 10.0
CPU_S_PER_LINE = 0.001
# An answer with more unknown statements than this is given up when hardly any statement is known.
UNKNOWN_AT_MOST = 5_000
KNOWN_PART = 0.1
_EVERY = 256


class _Budget(threading.local):
    """What the parsing that runs in this thread may still take; `until` is in seconds of its
    processor time."""

    until: float | None = None
    cancelled: threading.Event | None = None
    read = 0
    unknown = 0


_BUDGET = _Budget()


def spend(known: int = 0, unknown: int = 0) -> None:
    """Count statements that a parser has read: known ones and unknown ones. Outside of `parse_answer` nothing
    is counted. Raises ProtocolError when the budget is used up, or when hardly any of many statements are
    known."""
    if _BUDGET.until is None:
        return
    before = _BUDGET.read // _EVERY
    _BUDGET.read += known + unknown
    _BUDGET.unknown += unknown
    if _BUDGET.read // _EVERY == before:
        return
    if _BUDGET.cancelled is not None and _BUDGET.cancelled.is_set():
        raise ProtocolError("the answer is no longer needed")
    if time.thread_time() > _BUDGET.until:
        raise ProtocolError(
            f"parsing the answer takes too long; stopped after {_BUDGET.read} statements",
            hint="check the device's platform in the inventory, or the listing with: oast platform check",
        )
    if _BUDGET.unknown > UNKNOWN_AT_MOST and _BUDGET.unknown > (1 - KNOWN_PART) * _BUDGET.read:
        message = (
            f"the platform knows only {_BUDGET.read - _BUDGET.unknown} of the first {_BUDGET.read}"
            " statements that the device lists"
        )
        raise ProtocolError(
            message,
            hint=("check the device's platform in the inventory, or the listing with: oast platform check"),
        )


def is_one_off() -> bool:
    """Whether a long answer is parsed in this thread: what it says is worth no memory for others, and could
    fill all of it."""
    return _BUDGET.until is not None


def is_long(*texts: str | bytes | None) -> bool:
    """Whether texts are too long, together, to be parsed in the event loop."""
    given = [text for text in texts if text]
    return sum(map(len, given)) > INLINE_BYTES or sum(lines_of(text) for text in given) > INLINE_LINES


def lines_of(text: str | bytes) -> int:
    """How many lines there are; of XML, elements count as lines."""
    return (
        text.count("\n") + text.count("</") if isinstance(text, str) else text.count(b"\n") + text.count(b"<")
    )


async def parse_answer(lines: int, work: Callable[P, R], *args: P.args, **kwargs: P.kwargs) -> R:
    """Do `work` in a thread, with a budget for `lines`. Raises what `work` raises, and ProtocolError when the
    budget is used up. After a cancellation the work ends soon."""
    cancelled = threading.Event()

    def budgeted() -> R:
        _BUDGET.until = time.thread_time() + CPU_S_AT_LEAST + CPU_S_PER_LINE * lines
        _BUDGET.cancelled, _BUDGET.read, _BUDGET.unknown = cancelled, 0, 0
        try:
            return work(*args, **kwargs)
        finally:
            _BUDGET.until = None

    try:
        return await asyncio.get_running_loop().run_in_executor(_threads(), budgeted)
    except asyncio.CancelledError:
        cancelled.set()
        raise


async def parse_if_long(
    texts: tuple[str | bytes | None, ...], work: Callable[P, R], *args: P.args, **kwargs: P.kwargs
) -> R:
    """Do `work`, which parses `texts`: at once where they are short, else as `parse_answer`."""
    if not is_long(*texts):
        return work(*args, **kwargs)
    return await parse_answer(sum(lines_of(text) for text in texts if text), work, *args, **kwargs)


@cache
def _threads() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(THREADS, thread_name_prefix="oast-parse")


# A fork has none of its parent's threads: a pool without them would never answer.
os.register_at_fork(after_in_child=_threads.cache_clear)
