"""Soaking: what was delivered is looked at for some time before others are delivered to."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Protocol

from oast.change import Cause
from oast.change.device import DeviceTransaction
from oast.connect import Connector, Session
from oast.errors import DeviceError
from oast.fleet import Clock, DeviceEvent, OnEvent, Stage, WaitEvent
from oast.readings import read_readings
from oast.verify import CheckResult, evaluate, waits_for

# Between two looks at a device, at least and of the whole time.
LEAST_S = 1.0
LOOKS = 10


@dataclass(frozen=True)
class SoakFailure:
    """What was found while a device was watched."""

    cause: Cause
    reason: str
    failed: tuple[CheckResult, ...] = ()


class SoakOptions(Protocol):
    """The options of a rollout that soaking needs: its length in seconds, and the concurrency."""

    @property
    def soak_s(self) -> float: ...

    @property
    def parallel(self) -> int: ...


async def soak(
    delivered: Sequence[DeviceTransaction],
    connector: Connector,
    options: SoakOptions,
    later: frozenset[str],
    clock: Clock,
    on_event: OnEvent,
) -> Mapping[str, SoakFailure]:
    """What did not stay true for `soak_s` seconds, by device; also those that cannot be read at the end. A
    check whose other end is among `later` is left to the wave of that."""
    watching = {t.name: _Watched(t, connector, later) for t in delivered}
    places = asyncio.Semaphore(max(1, options.parallel))
    found: dict[str, SoakFailure] = {}
    until = clock.now() + options.soak_s

    async def look(one: _Watched, *, last: bool) -> None:
        async with places:
            told = await one.look(last=last)
        if told is not None:
            found[one.transaction.name] = told

    try:
        on_event(WaitEvent("soak time", options.soak_s))
        while True:
            left = until - clock.now()
            async with asyncio.TaskGroup() as group:
                for name, one in watching.items():
                    if name not in found:
                        on_event(DeviceEvent(name, Stage.HOLDING))
                        group.create_task(look(one, last=left <= 0))
            if left <= 0:
                return found
            await clock.sleep(min(max(LEAST_S, options.soak_s / LOOKS), max(0.0, until - clock.now())))
    finally:
        for name, one in watching.items():
            await one.close()
            on_event(DeviceEvent(name, Stage.FAILED if name in found else Stage.DELIVERED))


class _Watched:
    """A device that was delivered, and a session with it that is opened anew when it is lost."""

    def __init__(self, transaction: DeviceTransaction, connector: Connector, later: frozenset[str]) -> None:
        self.transaction = transaction
        self._connector = connector
        self._later = later
        self._session: Session | None = None

    async def look(self, *, last: bool) -> SoakFailure | None:
        transaction = self.transaction
        intent = transaction.comparison.intent
        names = sorted({check.reading for check in transaction.checks})
        try:
            if self._session is None:
                self._session = await self._connector.open(intent.device, intent.platform)
            readings = await read_readings(self._session, intent.platform, names)
        except DeviceError as error:
            await self.close()
            return (
                SoakFailure(
                    Cause.CHECKS, f"it was delivered, and then could not be read any more: {error.message}"
                )
                if last
                else None
            )
        every = evaluate(transaction.checks, readings, transaction.hide)
        results = [
            r for r in every if r.check.peer not in self._later and not waits_for(r, every, self._later)
        ]
        failed = tuple(transaction.split_failures(results)[0])
        if not failed:
            return None
        return SoakFailure(
            Cause.CHECKS, "it did not stay true: " + "; ".join(result.finding for result in failed), failed
        )

    async def close(self) -> None:
        session, self._session = self._session, None
        if session is not None:
            with suppress(DeviceError, TimeoutError):
                await session.close()
