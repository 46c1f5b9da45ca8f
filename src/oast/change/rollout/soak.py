"""Soaking: what was delivered is looked at for some time before others are delivered to."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oast.change import Cause
from oast.change.device import DeviceTransaction, RunContext
from oast.change.rollout.monitoring import MonitoringSessions
from oast.errors import DeviceError
from oast.fleet import DeviceEvent, Stage, WaitEvent
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


async def soak(
    delivered: Sequence[DeviceTransaction], context: RunContext, later: frozenset[str]
) -> Mapping[str, SoakFailure]:
    """What did not stay true for `soak_s` seconds, by device; also those that cannot be read at the end. A
    check whose other end is among `later` is left to the wave of that."""
    sessions = MonitoringSessions(context.connector)
    settings, clock, on_event = context.settings, context.clock, context.on_event
    places = asyncio.Semaphore(max(1, settings.parallel))
    found: dict[str, SoakFailure] = {}
    until = clock.now() + settings.soak_s

    async def check(transaction: DeviceTransaction, *, last: bool) -> None:
        async with places:
            failure = await _checked(transaction, sessions, later, last=last)
        if failure is not None:
            found[transaction.name] = failure

    try:
        on_event(WaitEvent("soak time", settings.soak_s))
        while True:
            left = until - clock.now()
            async with asyncio.TaskGroup() as group:
                for transaction in delivered:
                    if transaction.name not in found:
                        on_event(DeviceEvent(transaction.name, Stage.HOLDING))
                        group.create_task(check(transaction, last=left <= 0))
            if left <= 0:
                return found
            await clock.sleep(min(max(LEAST_S, settings.soak_s / LOOKS), max(0.0, until - clock.now())))
    finally:
        await sessions.close()
        for transaction in delivered:
            stage = Stage.FAILED if transaction.name in found else Stage.DELIVERED
            on_event(DeviceEvent(transaction.name, stage))


async def _checked(
    transaction: DeviceTransaction, sessions: MonitoringSessions, later: frozenset[str], *, last: bool
) -> SoakFailure | None:
    """Check a delivered device. One that cannot be read is a failure only at the `last` time."""
    names = sorted({check.reading for check in transaction.checks})
    try:
        readings = await sessions.read(transaction.comparison.intent, names)
    except DeviceError as error:
        reason = f"delivered, but the device no longer answers: {error.message}"
        return SoakFailure(Cause.CHECKS, reason) if last else None
    every = evaluate(transaction.checks, readings, transaction.hide)
    results = [r for r in every if r.check.peer not in later and not waits_for(r, every, later)]
    failed = tuple(transaction.split_failures(results)[0])
    if not failed:
        return None
    reason = "checks did not stay passed: " + "; ".join(result.finding for result in failed)
    return SoakFailure(Cause.CHECKS, reason, failed)
