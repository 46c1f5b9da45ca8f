"""The time that a delivery goes by, so that tests can let it pass."""

from __future__ import annotations

import asyncio
from typing import Protocol


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
