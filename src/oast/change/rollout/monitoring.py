"""Monitoring of devices while others are delivered to: neighbors, devices of earlier waves, and soaking."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

from oast.change import Cause
from oast.change.device import DeviceTransaction, RunContext
from oast.change.rollout.wave import EarlierWaveCheck
from oast.connect import Connector, Session, close_sessions
from oast.errors import DeviceError
from oast.fleet import DeviceEvent, Stage, WaitEvent, for_each
from oast.intent import Intent
from oast.readings import Readings, read_readings
from oast.verify import NAMES, Check, CheckResult, evaluate, waits_for


class MonitoringSessions:
    """Sessions with monitored devices: each is opened when it is first needed, and again after an error."""

    def __init__(self, connector: Connector) -> None:
        self._connector = connector
        self._sessions: dict[str, Session] = {}

    async def read(self, intent: Intent, readings: Sequence[str]) -> Readings:
        """Read a device. Raises DeviceError; its session is closed then."""
        name = intent.device.name
        session = self._sessions.get(name)
        if session is None:
            session = self._sessions[name] = await self._connector.open(intent.device, intent.platform)
        try:
            return await read_readings(session, intent.platform, readings)
        except DeviceError:
            await self.release([name])
            raise

    def hide(self, name: str, text: str) -> str:
        """`text` from a device that was read, without the secrets of its session."""
        return self._sessions[name].transcript.masking.hide(text)

    async def release(self, names: Iterable[str]) -> None:
        """Close the sessions with some devices, in bounded time."""
        await close_sessions([one for name in names if (one := self._sessions.pop(name, None)) is not None])

    async def close(self) -> None:
        """Close all sessions, in bounded time. Safe to call again."""
        await self.release(list(self._sessions))


class EarlierWaveMonitor:
    """Checks devices of earlier waves during a wave: those with checks that depend on one of its devices."""

    def __init__(
        self,
        connector: Connector,
        delivered: Sequence[DeviceTransaction],
        names: set[str],
        later: frozenset[str],
    ) -> None:
        """`names` are the devices of the wave, `later` those of the waves after it."""
        self._sessions = MonitoringSessions(connector)
        self.checks = []
        for transaction in delivered:
            own = (check for check in transaction.checks if check.peer in names)
            checks = (*own, *_deferred(transaction, names, later))
            if checks:
                readings = self._readings_of(transaction, checks)
                self.checks.append(
                    EarlierWaveCheck(
                        transaction.name, checks, readings, transaction.is_excused, transaction.hide
                    )
                )

    def _readings_of(
        self, transaction: DeviceTransaction, checks: Sequence[Check]
    ) -> Callable[[], Awaitable[Readings]]:
        names = sorted({check.reading for check in checks})
        return lambda: self._sessions.read(transaction.comparison.intent, names)

    async def close(self) -> None:
        """Close the sessions."""
        await self._sessions.close()


def _deferred(transaction: DeviceTransaction, names: set[str], later: frozenset[str]) -> Iterator[Check]:
    """Its checks that waited for these devices and for none that is still to come; the first of them answers
    for each."""
    for check, peers in transaction.deferred:
        here = sorted(peers & names)
        if here and not peers & later:
            yield check._replace(peer=here[0])


NAMED = 3


class NeighborImpact:
    """Monitors devices that the change does not affect, or not yet. A device that cannot be read before the
    change is not monitored."""

    def __init__(
        self,
        connector: Connector,
        intents: Iterable[Intent],
        near: Callable[[Iterable[str]], set[str]],
        checks_of: Callable[[str, Readings], Iterable[Check]],
        parallel: int,
    ) -> None:
        """`intents` are of all devices, `near` returns the neighbors of some, and `checks_of` derives the
        checks of one device from its readings before the change."""
        self._intents = {intent.device.name: intent for intent in intents}
        self._near = near
        self._checks_of = checks_of
        self._parallel = parallel
        self._outside: set[str] = set()
        self._checks: dict[str, list[Check]] = {}
        self._sessions = MonitoringSessions(connector)
        # Those that could not be read before, and why: nothing can be missed there.
        self.unmonitored: dict[str, DeviceError] = {}

    async def begin(self, waves: Sequence[Sequence[str]]) -> None:
        """Read those around `waves` of devices that are going to be changed; those that cannot be read are
        `unmonitored`."""
        changing = {name for wave in waves for name in wave}
        self._outside = self._near(changing) - changing
        not_yet_changed: set[str] = set()
        begun: set[str] = set()
        for wave in waves:
            begun.update(wave)
            not_yet_changed |= self._near(wave) - begun

        async def one(name: str) -> list[Check]:
            return list(
                self._checks_of(name, await self._sessions.read(self._intents[name], self._readings(name)))
            )

        def done(name: str, result: list[Check] | DeviceError) -> None:
            if isinstance(result, DeviceError):
                self.unmonitored[name] = result
            else:
                self._checks[name] = result

        await for_each(
            [name for name in self._intents if name in self._outside | not_yet_changed],
            one,
            self._parallel,
            done,
        )

    def _readings(self, name: str) -> list[str]:
        return [reading for reading in NAMES if reading in self._intents[name].platform.readings]

    async def look(self, wave: Sequence[str], later: Iterable[str]) -> list[CheckResult]:
        """Return the failed checks near a wave, or near all waves when there are no `later` devices. A device
        that can no longer be read is a result of its own."""
        found: list[CheckResult] = []
        later = set(later)
        names = self._near(wave) & (later | self._outside) if later else self._outside

        async def one(name: str) -> list[CheckResult]:
            checks = self._checks[name]
            readings = await self._sessions.read(
                self._intents[name], sorted({check.reading for check in checks})
            )
            hide = partial(self._sessions.hide, name)
            return [result for result in evaluate(checks, readings, hide) if not result.passed]

        def done(name: str, result: list[CheckResult] | DeviceError) -> None:
            if isinstance(result, DeviceError):
                check = Check(name, "the device answers, as before the change", "", {}, None, "an answer", ())
                found.append(CheckResult(check, result.message, passed=False))
            else:
                found.extend(result)

        await for_each(
            [name for name, checks in self._checks.items() if checks and name in names],
            one,
            self._parallel,
            done,
        )
        return _together(found)

    async def leave(self, names: Iterable[str]) -> None:
        """End the sessions with devices whose turn it is to be changed."""
        await self._sessions.release(names)

    async def close(self) -> None:
        """End the sessions. Safe to call again."""
        await self._sessions.close()


def _together(found: Sequence[CheckResult]) -> list[CheckResult]:
    """The same thing on several devices is one result, which names them."""
    groups: dict[tuple[str, str | None], list[CheckResult]] = {}
    for result in found:
        groups.setdefault((result.check.title, result.actual), []).append(result)
    made = []
    for (title, _), results in groups.items():
        names = sorted(result.check.device for result in results)
        more = f" and {len(names) - NAMED} more" if len(names) > NAMED else ""
        made.append(
            results[0]._replace(
                check=results[0].check._replace(title=f"{', '.join(names[:NAMED])}{more}: {title}")
            )
        )
    return made


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
