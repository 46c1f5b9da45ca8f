"""Push: deliver compared differences in waves, and report the outcome of every device."""

from __future__ import annotations

import asyncio
import logging
import math
import secrets
from collections import Counter
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from contextlib import ExitStack, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import partial
from itertools import pairwise
from typing import Protocol

from oast.change import Cause, Outcome, State
from oast.change.device import (
    DeviceTransaction,
    ManagementAddress,
    PrePostState,
    RunContext,
    TransactionContext,
)
from oast.change.plan import Comparison
from oast.change.record import (
    Backup,
    Baseline,
    OpenRun,
    baseline_path,
    device_lock,
    devices_in_unknown_state,
    save_baseline,
    unknown_state_error,
)
from oast.change.rollout.monitoring import EarlierWaveMonitor, NeighborImpact, soak
from oast.change.rollout.wave import Wave
from oast.config import Counts, Edit, Node, secrets_in, strip_secrets
from oast.connect import Connector, Session, SessionAddresses, Transcript
from oast.errors import ConnectionFailed, DeviceError, StateError
from oast.estate import STOP, WAVE, AntiAffinity, BatchSize, Device, Selector
from oast.fleet import DeviceEvent, Stage, WaveEvent
from oast.intent import Intent
from oast.verify import Check, CheckResult


@dataclass(frozen=True)
class RolloutOrder:
    """`waves` come in order, then the devices that none of them takes; none has more with one attribute than
    `apart` allows, and none more than `largest` devices."""

    waves: tuple[Selector | BatchSize, ...] = ()
    apart: AntiAffinity | None = None
    largest: int | None = None

    def of(self, devices: Sequence[Device]) -> list[list[Device]]:
        """The devices of each wave, none of them empty. What is kept apart makes several waves of one."""
        left = list(devices)
        found: list[list[Device]] = []
        for wave in self.waves:
            taken = _taken(wave, left, len(devices))
            names = {device.name for device in taken}
            left = [device for device in left if device.name not in names]
            found.append(taken)
        found.append(left)
        return [part for group in found for divided in self._divided(group) for part in self._split(divided)]

    def _split(self, devices: Sequence[Device]) -> list[list[Device]]:
        """As few waves of at most `largest` devices as possible, of about the same size."""
        count = 1 if self.largest is None else math.ceil(len(devices) / self.largest)
        size, more = divmod(len(devices), max(1, count))
        ends = [number * size + min(number, more) for number in range(count + 1)]
        return [list(devices[start:end]) for start, end in pairwise(ends) if end > start]

    def _divided(self, devices: Sequence[Device]) -> list[list[Device]]:
        if self.apart is None:
            return [list(devices)]
        parts: list[list[Device]] = []
        counts: list[Counter[str]] = []
        for device in devices:
            value = device.attributes.get(self.apart.by)
            # A device without the attribute is kept apart from no other.
            number = (
                0
                if value is None
                else next(
                    (n for n, c in enumerate(counts) if c[str(value)] < self.apart.at_most), len(counts)
                )
            )
            if number == len(parts):
                parts.append([])
                counts.append(Counter())
            parts[number].append(device)
            if value is not None:
                counts[number][str(value)] += 1
        return parts


SINGLE_WAVE = RolloutOrder()
"""All of them in one wave."""


def _taken(wave: Selector | BatchSize, left: Sequence[Device], total: int) -> list[Device]:
    if isinstance(wave, Selector):
        return [device for device in left if wave.matches(device.known_by)]
    if wave.number is not None:
        return list(left[: wave.number])
    if wave.percent is not None:
        return list(left[: math.ceil(total * wave.percent / 100)])
    return list(left)


def wave_numbers(waves: Sequence[Sequence[Device]]) -> Mapping[str, int]:
    """By device, the number of its wave, from 0."""
    return {device.name: number for number, wave in enumerate(waves) for device in wave}


_log = logging.getLogger(__name__)


class RollbackOfDelivered(Protocol):
    """Rolls back what was delivered, as a delivery of its own."""

    async def __call__(self, delivered: Sequence[DeviceTransaction]) -> None:
        """Bring these devices back to what they ran before."""

    def became(self, name: str) -> Outcome | None:
        """Return the outcome of that rollback on one device; None when it was not begun."""

    @property
    def listed(self) -> Mapping[str, str]:
        """What was listed last as running, by device."""


def rolled_back_outcome(outcome: Outcome, became: Outcome | None, why: str) -> Outcome:
    """The outcome of a delivered device that was rolled back because of other devices."""
    if became is not None and became.state is State.DELIVERED and became.cause is Cause.NONE:
        cause = outcome.cause if outcome.cause is Cause.CHECKS else Cause.HELD
        return replace(
            outcome, state=State.REVERTED, cause=cause, reason="; ".join(filter(None, (outcome.reason, why)))
        )
    if became is not None and became.state is State.DELIVERED:
        # It runs what it did before, and something about that is not in order, such as what it starts with.
        return replace(
            outcome,
            state=State.REVERTED,
            cause=Cause.FAILED,
            reason=f"{why}; {became.reason}",
            hint=became.hint,
        )
    reason = (
        f"it should have been {why}, but could not be: "
        f"{became.reason if became is not None else 'it was not started'}"
    )
    state = (
        State.DELIVERED
        if became is None or became.state in (State.UNCHANGED, State.REVERTED)
        else State.UNKNOWN
    )
    return replace(outcome, state=state, cause=Cause.FAILED, reason=reason, hint="check it with: oast diff")


def new_run_id() -> str:
    """A name for one run: the time (UTC) and four random digits."""
    return f"{datetime.now(UTC):%Y%m%dT%H%M%SZ}-{secrets.token_hex(2)}"


class DeviceSessionFactory:
    """Opens sessions to one device, to which `edits` are delivered."""

    def __init__(self, connector: Connector, intent: Intent, edits: Iterable[Edit]) -> None:
        self._connector = connector
        self._device = intent.device
        self._platform = intent.platform
        self._changes_login = any(secret.name in connector.login_secrets for secret in secrets_in(edits))

    @property
    def has_alternate(self) -> bool:
        return self._device.management.alternate is not None

    async def __call__(
        self, transcript: Transcript, *, at: ManagementAddress = ManagementAddress.ANY, proving: bool = False
    ) -> Session:
        target = None
        if at is ManagementAddress.ALTERNATE:
            target = self._connector.alternate(self._device)
            if target is None:
                raise ConnectionFailed("the inventory has no alternate management address")
        elif at is ManagementAddress.PREVIOUS:
            target = self._connector.previous(self._device)
        elif at is ManagementAddress.INVENTORY:
            target = self._connector.target(self._device)
        newest_only = proving and self._changes_login
        return await self._connector.open(
            self._device, self._platform, transcript, target=target, newest_only=newest_only
        )

    def alternate_route(self, session: Session, interface: str | None = None) -> SessionAddresses:
        return self._connector.route(self._device, session, interface, is_alternate=True)


class Rollout:
    """One run of deliveries. `outcomes` grows as devices end, so it is right at any moment, also after
    cancellation."""

    def __init__(
        self,
        comparisons: Sequence[Comparison],
        unreached: Sequence[tuple[Device, DeviceError]],
        checks: Mapping[str, Sequence[Check]],
        context: RunContext,
        order: RolloutOrder = SINGLE_WAVE,
        sessions: dict[str, Session] | None = None,
        roll_back: RollbackOfDelivered | None = None,
        neighbor_impact: NeighborImpact | None = None,
    ) -> None:
        """`unreached` are devices that were asked for and could not be compared: each is a failure of its
        wave. `order` says which devices come in which wave.

        `sessions` are open ones to devices; each is taken out when it is used. `roll_back` rolls back devices
        that were delivered already. A wave is confirmed only when `neighbor_impact` finds nothing lost.
        """
        self._comparisons = comparisons
        self._unreached = unreached
        self._checks = checks
        self._context = context
        self._settings = context.settings
        self._order = order
        self._sessions = {} if sessions is None else sessions
        self._undo = roll_back
        self._neighbor_impact = neighbor_impact
        self._unfinished = False
        self._outcomes: dict[str, Outcome] = {}
        self._begun: set[str] = set()
        # What was listed last as running, of those to which something was done.
        self.listed: dict[str, str] = {}
        # The devices of each wave.
        self.waves: list[list[str]] = []
        # What was read of those that were changed, before and after.
        self.pre_post_state: dict[str, PrePostState] = {}
        self._delivered: list[DeviceTransaction] = []
        # Those of the wave that is being delivered, and the delivered devices that are being rolled back.
        self._current: Sequence[DeviceTransaction] = ()
        self._rolling_back: frozenset[str] = frozenset()
        for device, error in unreached:
            log = str(context.log_of(device.name))
            self._outcomes[device.name] = Outcome(
                device.name,
                State.UNCHANGED,
                Cause.FAILED,
                Counts(0, 0),
                0.0,
                error.message,
                error.hint,
                log=log,
            )

    @property
    def outcomes(self) -> list[Outcome]:
        """One for each device, in the order given; a device whose turn never came is unchanged,
        and no other."""
        known = [self._outcomes.get(c.name) or self._without(c) for c in self._comparisons]
        return [*known, *(self._outcomes[device.name] for device, _ in self._unreached)]

    @property
    def outcomes_if_interrupted(self) -> list[Outcome]:
        """The same if this process ends now: whatever is not settled is unknown, and so is what is being
        rolled back."""
        now = {transaction.name: transaction.outcome_if_interrupted() for transaction in self._current}
        found = []
        for outcome in self.outcomes:
            left = now.get(outcome.device, outcome)
            if outcome.device in self._rolling_back:
                reason = "interrupted while it was being rolled back because of other devices"
                left = replace(
                    left,
                    state=State.UNKNOWN,
                    cause=Cause.INTERRUPTED,
                    reason=reason,
                    hint="recover the run with: oast change recover",
                )
            found.append(left)
        return found

    def _without(self, comparison: Comparison) -> Outcome:
        """What can be said of a device that has no outcome."""
        if comparison.name not in self._begun:
            return self._untouched(comparison, "interrupted before the delivery to this device started")
        reason = "the run ended before the outcome was known"
        return replace(
            self._untouched(comparison, reason), state=State.UNKNOWN, hint="check it with: oast diff"
        )

    async def run(self) -> None:
        """Deliver to all devices. A cancellation first rolls back what is not confirmed, then is raised."""
        try:
            await self._run()
        finally:
            if self._neighbor_impact is not None:
                await asyncio.shield(self._neighbor_impact.close())

    async def _run(self) -> None:
        waves = self._waves()
        if self._neighbor_impact is not None:
            await self._neighbor_impact.begin(
                [[comparison.name for comparison in group if comparison.edits] for group, _ in waves]
            )
        self.waves = [[*(comparison.name for comparison in group), *lost] for group, lost in waves]
        begun: set[str] = set()
        for number, (group, lost) in enumerate(waves, 1):
            begun.update(comparison.name for comparison in group)
            begun.update(lost)
            if group:
                later = frozenset(c.name for following, _ in waves[number:] for c in following)
                _log.debug("wave %d of %d: %s", number, len(waves), ", ".join(c.name for c in group))
                self._context.on_event(WaveEvent(number, len(waves), tuple(c.name for c in group)))
                transactions = await self._wave(group, later)
                await self._soak(transactions, later)
            failures = self._failures(begun)
            if failures > self._settings.max_failures:
                _log.debug(
                    "%d failures, of at most %d: no further wave", failures, self._settings.max_failures
                )
                self._mark_not_started(failures)
                await self._roll_back_others([c.name for c in group], failures)
                return

    async def _soak(self, transactions: Sequence[DeviceTransaction], later: frozenset[str]) -> None:
        """Look at what was delivered for some time before others are; what becomes false is a failure."""
        delivered = [t for t in transactions if t.outcome is not None and t.outcome.state is State.DELIVERED]
        if not self._settings.soak_s or not delivered:
            return
        for name, told in (await soak(delivered, self._context, later)).items():
            outcome = self._outcomes[name]
            self._outcomes[name] = replace(
                outcome, cause=told.cause, reason=told.reason, failed_checks=told.failed
            )

    async def _roll_back_others(self, wave: Sequence[str], failures: int) -> None:
        """Roll back delivered devices as well, where the settings say so: those of this wave, or of the whole
        change."""
        on_failure = self._settings.on_failure
        if on_failure == STOP or self._undo is None:
            return
        names = set(wave) if on_failure == WAVE else {t.name for t in self._delivered}
        back = [t for t in self._delivered if t.name in names]
        if not back:
            return
        why = (
            f"rolled back, because {failures} {'device' if failures == 1 else 'devices'} failed or did"
            " not stay healthy"
        )
        self._rolling_back = frozenset(transaction.name for transaction in back)
        try:
            await self._undo(back)
        finally:
            self._rolling_back = frozenset()
            self.listed.update(self._undo.listed)
            for transaction in back:
                became = self._undo.became(transaction.name)
                self._outcomes[transaction.name] = rolled_back_outcome(
                    self._outcomes[transaction.name], became, why
                )

    def _failures(self, begun: Iterable[str]) -> int:
        """How many were not simply delivered, or are not in order any more."""
        ended = (o for name in begun if (o := self._outcomes.get(name)) is not None)
        return sum(1 for o in ended if o.state is not State.DELIVERED or o.cause is Cause.CHECKS)

    def _mark_not_started(self, failures: int) -> None:
        for comparison in self._comparisons:
            if comparison.name not in self._outcomes:
                reason = (
                    f"not started, because {failures} {'device' if failures == 1 else 'devices'} failed"
                    f" or {'was' if failures == 1 else 'were'} rolled back"
                )
                self._outcomes[comparison.name] = self._untouched(comparison, reason, Cause.HELD)
                self._context.on_event(DeviceEvent(comparison.name, Stage.HELD_BACK))

    def _waves(self) -> list[tuple[list[Comparison], list[str]]]:
        """The devices in the order of the waves, and those of each that could not be reached."""
        devices = [c.intent.device for c in self._comparisons]
        waves = self._order.of([*devices, *(device for device, _ in self._unreached)])
        wave_of = wave_numbers(waves)
        groups: list[tuple[list[Comparison], list[str]]] = [([], []) for _ in waves]
        for comparison in self._comparisons:
            groups[wave_of[comparison.name]][0].append(comparison)
        for device, _ in self._unreached:
            groups[wave_of[device.name]][1].append(device.name)
        return groups

    async def _wave(
        self, comparisons: Sequence[Comparison], later: frozenset[str]
    ) -> Sequence[DeviceTransaction]:
        """Deliver to them together; their transactions, each with its outcome."""
        with ExitStack() as locks:
            flying, unusable = self._unsettled()
            transactions = []
            for comparison in comparisons:
                try:
                    locks.enter_context(device_lock(self._context.working, comparison.name))
                    if unusable is not None:
                        raise unusable
                    if comparison.name in flying:
                        raise unknown_state_error(flying[comparison.name])
                except DeviceError as error:
                    self._outcomes[comparison.name] = self._untouched(comparison, error.message, Cause.FAILED)
                    self._context.on_event(DeviceEvent(comparison.name, Stage.UNCHANGED))
                else:
                    transactions.append(self._transaction(comparison))
            watching = EarlierWaveMonitor(
                self._context.connector, self._delivered, {t.name for t in transactions}, later
            )
            wave = Wave(
                transactions,
                watching.checks,
                self._settings,
                self._context.clock,
                later,
                self._context.stop_waiting,
                await self._around(transactions, later),
            )
            self._begun.update(transaction.name for transaction in transactions)
            self._current = transactions
            try:
                await wave.deliver()
            finally:
                self._unfinished = self._unfinished or wave.unfinished
                self._outcomes.update({t.name: t.outcome for t in transactions if t.outcome is not None})
                self._current = ()
                self.pre_post_state.update(
                    {t.name: t.pre_post_state for t in transactions if t.comparison.edits}
                )
                self.listed.update({t.name: t.listed for t in transactions if t.listed is not None})
                await asyncio.shield(self._keep(transactions))
                self._delivered += [
                    t for t in transactions if t.outcome is not None and t.outcome.state is State.DELIVERED
                ]
                await asyncio.shield(watching.close())
            return transactions

    async def _around(
        self, wave: Sequence[DeviceTransaction], later: frozenset[str]
    ) -> Callable[[], Awaitable[list[CheckResult]]] | None:
        """Return what checks the neighbors of a wave; nothing does while an earlier wave waits for later
        devices."""
        if self._neighbor_impact is None:
            return None
        names = [transaction.name for transaction in wave]
        await self._neighbor_impact.leave(names)
        return None if later and self._unfinished else partial(self._neighbor_impact.look, names, later)

    def _unsettled(self) -> tuple[dict[str, OpenRun], DeviceError | None]:
        """Return the devices that other runs left open, or the error if that cannot be read."""
        try:
            return devices_in_unknown_state(self._context.working), None
        except StateError as error:
            return {}, DeviceError(f"{error.message}; nothing was sent to it", hint=error.hint)

    async def _keep(self, transactions: Iterable[DeviceTransaction]) -> None:
        """Store what devices run now as their baseline, for drift."""

        def keep(transaction: DeviceTransaction, running: Node) -> None:
            intent = transaction.comparison.intent
            path = baseline_path(self._context.working, transaction.name)
            now = Baseline(self._context.run, datetime.now(UTC), strip_secrets(running))
            # A full disk here must not turn a delivered device into a failed one.
            with suppress(OSError):
                save_baseline(path, now, intent.scope, self._context.syntax_of(intent).grammar)

        ended = [(t, t.outcome, t.running) for t in transactions]
        ended = [(t, o, r) for t, o, r in ended if not t.comparison.manner.into_startup]
        kept = [(t, r) for t, o, r in ended if o is not None and o.state is State.DELIVERED and r is not None]
        await asyncio.gather(
            *(asyncio.to_thread(keep, transaction, running) for transaction, running in kept)
        )

    def _transaction(self, comparison: Comparison) -> DeviceTransaction:
        intent, context = comparison.intent, self._context
        syntax = context.syntax_of(intent)
        means = TransactionContext(
            syntax=syntax,
            opener=DeviceSessionFactory(self._context.connector, intent, comparison.edits),
            backup=Backup(
                context.working / "backups" / context.run / f"{comparison.name}.txt",
                syntax,
                self._settings.mask_backups,
            ),
            log=context.log_of(comparison.name),
            timer_s=self._settings.revert_timer_s,
            on_event=self._context.on_event,
            clock=self._context.clock,
            journal=context.journal.of(context.run, comparison.name),
        )
        return DeviceTransaction(
            comparison,
            self._checks.get(comparison.name, ()),
            means,
            self._sessions.pop(comparison.name, None),
        )

    @staticmethod
    def _untouched(comparison: Comparison, reason: str, cause: Cause = Cause.INTERRUPTED) -> Outcome:
        return Outcome(
            comparison.name,
            State.UNCHANGED,
            cause,
            comparison.counts,
            0.0,
            reason,
            rollback_method=comparison.rollback_method,
        )
