"""A wave: devices that are delivered to together. All are prepared, then loaded, then checked, then each is
confirmed or rolled back.

The checks come after all are loaded because an adjacency needs both its ends; timers are armed only when all
are prepared. A lost device is recovered beside the others, which do not wait for it, as their timers run on.
`parallel` limits how many devices are worked on at any moment, not how many are in the wave.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from oast.change import Cause, RollbackReason
from oast.change.device import DeviceTransaction, LossOfContact
from oast.errors import DeviceError
from oast.estate import DeliverySettings
from oast.fleet import Clock, Stage
from oast.readings import Readings
from oast.verify import Check, CheckResult, evaluate, later_neighbors, waits_for

POLL_S = 0.4
OTHER_TIMERS = "the revert timers of other devices in the wave"
# More than any wave has.
MOST_DEVICES = 10**9
# Confirming every device of the wave needs this much of the shortest timer, in seconds.
CONFIRM_MARGIN_S = 2.0


def timer_needed_s(prepare_s: float, verify_timeout_s: float, stable_for_s: float) -> float:
    """Return the revert timer that a wave needs, in seconds, when preparing all of its devices takes
    `prepare_s`.

    Loading takes about as long as preparing did, with as many answers and devices at a time, and twice that
    on a machine that has become slower. After some were rolled back, the others are checked once more.
    """
    return 3 * prepare_s + verify_timeout_s + 2 * stable_for_s + CONFIRM_MARGIN_S


def largest_wave(timer_s: float, prepare_one_s: float, verify_timeout_s: float, stable_for_s: float) -> int:
    """The most devices whose wave fits into a revert timer of `timer_s`, when preparing each of them takes
    `prepare_one_s` on average; at least one."""
    if prepare_one_s <= 0:
        return MOST_DEVICES
    fixed_s = timer_needed_s(0.0, verify_timeout_s, stable_for_s)
    each_s = timer_needed_s(prepare_one_s, verify_timeout_s, stable_for_s) - fixed_s
    return max(1, int((timer_s - fixed_s) / each_s))


@dataclass(frozen=True)
class EarlierWaveCheck:
    """A device that is delivered already: checks of it whose other end is in this wave, and how its readings
    are had.

    `excused` says whether a failed check of it failed just so before anything was delivered, and rests on
    nothing that was; `hide` takes out of what it says the secrets that were sent to it.
    """

    device: str
    checks: tuple[Check, ...]
    readings: Callable[[], Awaitable[Readings]]
    excused: Callable[[CheckResult], bool]
    hide: Callable[[str], str]


class Wave:
    """Delivers `transactions` together, and checks the `watched` devices at the same time."""

    def __init__(
        self,
        transactions: Sequence[DeviceTransaction],
        watched: Sequence[EarlierWaveCheck],
        settings: DeliverySettings,
        clock: Clock,
        later: frozenset[str] = frozenset(),
        stop_waiting: asyncio.Event | None = None,
        around: Callable[[], Awaitable[list[CheckResult]]] | None = None,
    ) -> None:
        """Checks whose other end is among `later` are left to the wave of that. `around` returns the failed
        checks of neighbors. When `stop_waiting` is set, devices are left to their revert timers instead of
        being rolled back."""
        self._stop_waiting = stop_waiting or asyncio.Event()
        self._around = around
        self._transactions = transactions
        self._watched = watched
        self._settings = settings
        self._later = later
        self._clock = clock
        self._places = asyncio.Semaphore(max(1, settings.parallel))
        # A session answers one question at a time: a step, or an extension of the timer between two steps.
        self._turns = {transaction: asyncio.Lock() for transaction in transactions}
        self._prepare_s = 0.0
        self._stable_for_s = settings.stable_for_s
        # How much of a timer the rest of the wave needs, while its checks run.
        self._needed_s = 0.0
        self._last: dict[DeviceTransaction, list[CheckResult]] = {}
        self._waiting: dict[DeviceTransaction, list[CheckResult]] = {}
        # Set while some of its checks wait for devices of a later wave: until then it is unknown what others
        # have lost for good.
        self.unfinished = False

    async def deliver(self) -> None:
        """Afterwards every transaction has an outcome, also after a cancellation: then unconfirmed devices
        are rolled back first."""
        try:
            async with asyncio.TaskGroup() as rescues:
                self._rescues = rescues
                await self._prepare_all()
                await self._load_all()
                await self._decide()
        except BaseException:
            # Cancelled, or a bug of ours: no device is left waiting for its timer.
            await asyncio.shield(self._roll_back_on_interrupt())
            raise

    async def _roll_back_on_interrupt(self) -> None:
        """Roll back what is not confirmed; devices that are not done when `stop_waiting` is set are left to
        their timers."""
        stopped_waiting = asyncio.create_task(self._stop_waiting.wait())
        rescues = [
            asyncio.create_task(transaction.roll_back_on_interrupt()) for transaction in self._transactions
        ]
        every = asyncio.gather(*rescues, return_exceptions=True)
        try:
            await asyncio.wait((every, stopped_waiting), return_when=asyncio.FIRST_COMPLETED)
        finally:
            stopped_waiting.cancel()
            for rescue in rescues:
                rescue.cancel()
            await asyncio.gather(*rescues, return_exceptions=True)
        for transaction in self._transactions:
            await transaction.leave()

    def _open(self) -> list[DeviceTransaction]:
        return [transaction for transaction in self._transactions if transaction.is_open]

    async def _prepare_all(self) -> None:
        """Do everything before the first timer; the time it takes determines how long the timers must be."""
        started = self._clock.now()
        await self._together(self._transactions, lambda t: t.prepare())
        self._prepare_s = self._clock.now() - started
        stable_for_s = max((transaction.stable_for_s for transaction in self._open()), default=0.0)
        self._stable_for_s = max(stable_for_s, self._settings.stable_for_s)
        needed = timer_needed_s(self._prepare_s, self._settings.verify_timeout_s, self._stable_for_s)
        for transaction in self._open():
            transaction.timer_s = max(transaction.timer_s, needed)

    async def _load_all(self) -> None:
        """Load every device; one that is so slow that the others' timers would run out is given up."""
        loading = {asyncio.create_task(self._step(t, lambda t: t.load())): t for t in self._open()}
        if not loading:
            return
        every = asyncio.create_task(asyncio.wait(loading, return_when=asyncio.FIRST_EXCEPTION))
        try:
            # Looked at once in a moment and not after every device, which would cost the square of their
            # number.
            while not await self._within_a_moment(every):
                loaded = [t for task, t in loading.items() if task.done() and t.is_open]
                self._extend(loaded, self._settings.verify_timeout_s + self._stable_for_s + self._confirm_s)
                if self._spare_s(loaded) <= 0:
                    break
                # However long the others could wait: its own timer rolls back one that is late.
                late = [
                    (task, t) for task, t in loading.items() if not task.done() and self._spare_s([t]) <= 0
                ]
                for task, transaction in late if loaded else ():
                    await self._give_up(task, transaction, "the change was not applied", "revert timer")
            for task in [task for task in loading if task.done() and not task.cancelled()]:
                task.result()
            for task, transaction in loading.items():
                if not task.done():
                    await self._give_up(task, transaction, "the change was not applied", OTHER_TIMERS)
        finally:
            every.cancel()
            for task in loading:
                task.cancel()
            await asyncio.gather(every, *loading, return_exceptions=True)

    @property
    def _confirm_s(self) -> float:
        """About how long confirming every device takes, in seconds: as many answers as preparing did, at
        most."""
        return self._prepare_s + CONFIRM_MARGIN_S

    def _extend(self, transactions: Iterable[DeviceTransaction], needed_s: float) -> None:
        """Begin to restart those timers of idle devices of which soon less than `needed_s` seconds are left.
        One that does not answer delays no other."""

        async def extend(transaction: DeviceTransaction) -> None:
            async with self._turns[transaction]:
                try:
                    await transaction.extend_timer(needed_s)
                except (
                    Exception
                ) as error:  # an internal error must not leave the other devices to their timers
                    transaction.fail_internally(error)
            self._rescue(transaction)

        for transaction in transactions:
            if not self._turns[transaction].locked() and transaction.may_extend(needed_s):
                self._rescues.create_task(extend(transaction))

    def _rescue(self, transaction: DeviceTransaction) -> None:
        """Recover a device that is lost, beside the others."""
        if transaction.lost is not None and transaction.outcome is None:
            self._rescues.create_task(transaction.recover())

    async def _within_a_moment(self, task: asyncio.Task[Any]) -> bool:
        """Whether the task is done, now or before a moment has passed."""
        moment = asyncio.create_task(self._clock.sleep(POLL_S))
        try:
            await asyncio.wait({task, moment}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            moment.cancel()
        return task.done()

    def _spare_s(self, loaded: Sequence[DeviceTransaction]) -> float:
        """How long those that are loaded can wait for the others and still be checked and confirmed."""
        left = min((t.timer_left_s for t in loaded), default=float("inf"))
        return left - self._settings.verify_timeout_s - self._stable_for_s - CONFIRM_MARGIN_S

    async def _give_up(
        self, task: asyncio.Task[None], transaction: DeviceTransaction, what: str, timers: str
    ) -> None:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        if transaction.is_open:
            reason = f"{what} before {timers} would have expired"
            hint = "give a longer --revert-timer, or push to it alone"
            transaction.lost = LossOfContact(Cause.FAILED, reason, hint, why=RollbackReason.TOO_SLOW)
            self._rescues.create_task(transaction.recover())

    async def _decide(self) -> None:
        """Roll back first the devices whose own edits a failed check depends on; the others may only suffer
        from them.

        A rolled back device may take along what the others were checked by, so they are checked once more:
        what is confirmed passed after the last rollback.
        """
        while self._open():
            gone = self._gone()
            failing = await self._check_until_true()
            responsible = {t: results for t, results in failing.items() if any(t.touches(r) for r in results)}
            await self._roll_back(responsible or failing)
            if gone == self._gone():
                break
        excused = {t: t.split_failures(self._last[t])[1] for t in self._open()}
        # Decide for all at once, before the first is confirmed: after a crash here, recovery continues with
        # all or with none.
        staying = self._open()
        if staying:
            staying[0].keep(staying)
        await self._together(staying, lambda t: self._confirm(t, excused[t]))

    async def _confirm(self, transaction: DeviceTransaction, excused: Sequence[CheckResult]) -> None:
        """Confirm one device; in a large wave the last of them wait for long."""
        await transaction.extend_timer(CONFIRM_MARGIN_S)
        if transaction.is_open:
            await transaction.confirm(excused)

    def _gone(self) -> int:
        """Changes with every device of the wave that no longer goes on, and again when it has ended."""
        return sum(
            (not transaction.is_open) + (transaction.outcome is not None)
            for transaction in self._transactions
        )

    async def _check_until_true(self) -> dict[DeviceTransaction, list[CheckResult]]:
        """Check all loaded devices until every check that counts has passed for the stability time, or time
        is up. Returns the checks that still fail."""
        last_start = self._clock.now() + self._settings.verify_timeout_s
        true_since: float | None = None
        while True:
            looked = self._clock.now()
            until_true = (
                max(0.0, last_start - looked) + self._stable_for_s
                if true_since is None
                else true_since + self._stable_for_s - looked
            )
            self._needed_s = max(0.0, until_true) + self._confirm_s
            failing = await self._check_once(Stage.CHECKING if true_since is None else Stage.HOLDING)
            now = self._clock.now()
            # Checks that passed in time are watched for their stability time, however slow each reading is:
            # only the timers end that.
            deadline = now + min((t.timer_left_s for t in self._open()), default=0.0) - CONFIRM_MARGIN_S
            if failing:
                true_since = None
                if now + POLL_S >= last_start or now + POLL_S >= deadline:
                    return failing
            else:
                if true_since is None:
                    true_since = now
                    self._say_waiting("stability time", self._stable_for_s)
                # From the end of the first look to the beginning of the last: a look may be slow, and what it
                # says be old at its end.
                held_s = max(0.0, looked - true_since)
                if held_s >= self._stable_for_s:
                    return {}
                if now + POLL_S >= deadline:
                    return self._not_held(held_s)
            await self._clock.sleep(POLL_S)

    def _say_waiting(self, what: str, seconds: float) -> None:
        first = next(iter(self._open()), None)
        if first is not None and seconds > 0:
            first.say_waiting(what, seconds)

    def _not_held(self, seconds: float) -> dict[DeviceTransaction, list[CheckResult]]:
        """The timers are so near that the checks could not be watched long enough."""
        reason = (
            f"the checks stayed passed for only {seconds:.0f} s, and must stay passed for "
            f"{self._stable_for_s:.0f} s"
        )
        for transaction in self._open():
            transaction.lost = LossOfContact(
                Cause.CHECKS, reason, "give a longer --revert-timer", why=RollbackReason.TOO_SLOW
            )
            self._rescues.create_task(transaction.recover())
        return {}

    async def _check_once(self, stage: Stage) -> dict[DeviceTransaction, list[CheckResult]]:
        self._last = {}
        waiting: dict[DeviceTransaction, list[CheckResult]] = {}

        async def check(transaction: DeviceTransaction) -> None:
            transaction.say(stage)
            await transaction.extend_timer(self._needed_s)
            results = await transaction.check() if transaction.is_open else []
            later = self._later
            peers = [waits_for(r, results, later) for r in results]
            transaction.deferred = [
                (r.check, names) for r, names in zip(results, peers, strict=True) if names
            ]
            is_later = [r.check.peer in later or bool(names) for r, names in zip(results, peers, strict=True)]
            self._last[transaction] = [r for r, waits in zip(results, is_later, strict=True) if not waits]
            waiting[transaction] = [r for r, waits in zip(results, is_later, strict=True) if waits]

        await self._in_time(check)
        self._waiting = waiting
        self.unfinished = any(t.split_failures(waiting.get(t, ()))[0] for t in self._open())
        failing = {t: counted for t in self._open() if (counted := t.split_failures(self._last[t])[0])}
        for transaction, results in (await self._check_earlier_waves()).items():
            failing.setdefault(transaction, []).extend(results)
        if not failing and self._around is not None and self._open() and not self.unfinished:
            lost = await self._around()
            # The cause cannot be determined from there, so the whole wave is responsible.
            failing = dict.fromkeys(self._open(), lost) if lost else {}
        return failing

    async def _in_time(self, step: Callable[[DeviceTransaction], Awaitable[None]]) -> None:
        """Take a step with all that are open; one that is so slow that the others' timers would run out is
        given up."""
        tasks = {asyncio.create_task(self._step(t, step)): t for t in self._open()}
        every = asyncio.create_task(asyncio.wait(tasks)) if tasks else None
        try:
            while every is not None and not await self._within_a_moment(every):
                self._extend([t for task, t in tasks.items() if task.done()], self._confirm_s)
                others = [t.timer_left_s for task, t in tasks.items() if task.done() and t.is_open]
                if others and min(others) <= CONFIRM_MARGIN_S:
                    for task, transaction in tasks.items():
                        if not task.done():
                            await self._give_up(task, transaction, "the device did not answer", OTHER_TIMERS)
                    break
                late = [
                    (task, t)
                    for task, t in tasks.items()
                    if not task.done() and t.timer_left_s <= CONFIRM_MARGIN_S
                ]
                for task, transaction in late if others else ():
                    await self._give_up(task, transaction, "the device did not answer", "revert timer")
            for task in tasks:
                if task.done() and not task.cancelled():
                    task.result()
        finally:
            for task in (*tasks, *((every,) if every is not None else ())):
                task.cancel()
            await asyncio.gather(*tasks, *((every,) if every is not None else ()), return_exceptions=True)

    async def _check_earlier_waves(self) -> Mapping[DeviceTransaction, list[CheckResult]]:
        """What has become false on devices of earlier waves, by the devices of this one at the other end."""
        by_name = {transaction.name: transaction for transaction in self._open()}
        found: dict[DeviceTransaction, list[CheckResult]] = {}

        async def check_one(watched: EarlierWaveCheck) -> None:
            checks = [check for check in watched.checks if check.peer in by_name]
            if not checks:
                return
            try:
                async with self._places:
                    readings = await watched.readings()
                for result in evaluate(checks, readings, watched.hide):
                    if not result.passed and not watched.excused(result):
                        found.setdefault(by_name[str(result.check.peer)], []).append(result)
            except DeviceError:
                # A device that cannot be read now says nothing about this wave; the other end of its links is
                # checked in any case.
                return
            except Exception as error:
                # An internal error must not end the wave, and what could not be checked is not confirmed.
                for transaction in {by_name[str(check.peer)] for check in checks}:
                    transaction.fail_internally(error)
                    self._rescue(transaction)

        async with asyncio.TaskGroup() as group:
            for watched in self._watched:
                group.create_task(check_one(watched))
        return found

    async def _roll_back(self, failing: Mapping[DeviceTransaction, list[CheckResult]]) -> None:
        await self._together(failing, lambda t: t.revert(failing[t], self._hint(t, failing[t])))

    def _hint(self, transaction: DeviceTransaction, failed: Sequence[CheckResult]) -> str | None:
        """What to do where a check fails because its other end is delivered later."""
        results = [*self._last.get(transaction, ()), *self._waiting.get(transaction, ())]
        names = later_neighbors(failed, results, self._later)
        if not names:
            return None
        are = "is in a later wave" if len(names) == 1 else "are in later waves"
        return f"{', '.join(names)} {are}: deliver them together with --one-wave"

    async def _together(
        self, transactions: Iterable[DeviceTransaction], step: Callable[[DeviceTransaction], Awaitable[None]]
    ) -> None:
        async with asyncio.TaskGroup() as group:
            for transaction in list(transactions):
                group.create_task(self._step(transaction, step))

    async def _step(
        self, transaction: DeviceTransaction, step: Callable[[DeviceTransaction], Awaitable[None]]
    ) -> None:
        async with self._places, self._turns[transaction]:
            if not transaction.is_open:
                return  # It was lost between two steps, and is being recovered.
            try:
                await step(transaction)
            except Exception as error:  # an internal error must not leave the other devices to their timers
                transaction.fail_internally(error)
        self._rescue(transaction)
