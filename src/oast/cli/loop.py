"""Running coroutines of the core to their end."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from typing import TypeVar

Result = TypeVar("Result")


def run_with(runner: asyncio.Runner, work: Coroutine[object, object, Result]) -> Result:
    """What `work` returns.

    The task itself returns nothing: when it gives the signal handlers back, `signal` makes a text of the one it takes away, and with it
    of the task and its result. For a thousand compared devices that took seconds, and the memory of all that they list.
    """
    found: list[Result] = []

    async def go() -> None:
        found.append(await work)

    runner.run(go())
    return found[0]


def run(work: Coroutine[object, object, Result]) -> Result:
    """The same, with an event loop of its own."""
    with asyncio.Runner() as runner:
        return run_with(runner, work)
