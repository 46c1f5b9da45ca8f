"""Many devices at the same time: bounded, each failing on its own, results in order of arrival; the clock."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable
from typing import Protocol, TypeVar

from oast.errors import DeviceError, InternalDeviceError
from oast.gc_tuning import gc_relaxed

T = TypeVar("T")
R = TypeVar("R")


def _without_frames(error: DeviceError) -> DeviceError:
    """The error without the frames that it came through: they hold the session, and with it all that the
    device has sent."""
    one: BaseException | None = error
    while one is not None:
        before = one.__context__ or one.__cause__
        one.__traceback__ = one.__context__ = one.__cause__ = None
        one = before
    return error


async def for_each(
    items: Iterable[T],
    work: Callable[[T], Awaitable[R]],
    parallel: int,
    done: Callable[[T, R | DeviceError], None],
) -> None:
    """Do `work` for every item, `parallel` at a time, and hand each result to `done` as it arrives.

    A DeviceError is a result, and so is any other error in the work for one item: the others go on.
    Cancellation cancels all and waits for them.
    """
    places = asyncio.Semaphore(max(1, parallel))

    async def one(item: T) -> None:
        async with places:
            try:
                result: R | DeviceError = await work(item)
            except DeviceError as error:
                result = _without_frames(error)
            except Exception as error:  # an internal error must not take the result from the others
                result = InternalDeviceError(error)
        done(item, result)

    try:
        with gc_relaxed():
            async with asyncio.TaskGroup() as group:
                for item in items:
                    group.create_task(one(item))
    except BaseExceptionGroup as several:
        raise several.exceptions[0] from None


class Clock(Protocol):
    """Seconds that only go forward."""

    def now(self) -> float:
        """Seconds since some moment."""

    async def sleep(self, seconds: float) -> None:
        """Wait."""


class SystemClock:
    """The clock of the event loop that runs."""

    def now(self) -> float:
        return asyncio.get_running_loop().time()

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)
