"""The time that a delivery goes by, so that tests can let it pass."""

from __future__ import annotations

import asyncio
import time
from typing import Protocol


class Clock(Protocol):
    """Seconds that only go forward."""

    def now(self) -> float:
        """Seconds since some moment."""

    async def sleep(self, seconds: float) -> None:
        """Wait."""


class SystemClock:
    """The machine's clock."""

    def now(self) -> float:
        return time.monotonic()

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)
