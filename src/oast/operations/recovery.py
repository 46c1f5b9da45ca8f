"""What runs that died, or could not wait, have left open: find out what every device runs, and leave it in
order."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from typing import Any

from oast.change import Cause, Outcome, Phase, State
from oast.change.device import RecoveredTransaction, RecoveryState, TransactionContext
from oast.change.plan import RunningConfig, StoredPlan, plan_from
from oast.change.record import (
    Backup,
    Journal,
    OpenDevice,
    OpenRun,
    RunLock,
    device_lock,
    interrupted_runs,
    kept_text,
    stored_plan_of,
    timeline_of,
)
from oast.change.rollout import DeviceSessionFactory
from oast.config import Counts, read_tree
from oast.connect import Connector
from oast.errors import DeviceError, EstateError, OastError, StateError
from oast.estate import Estate
from oast.fleet import Clock, DeviceEvent, OnEvent, Stage, SystemClock, for_each, ignore_event
from oast.intent import Intent, IntentBuilder
from oast.operations.change_recorder import outcomes_content
from oast.operations.changes import ledger_of
from oast.operations.documents import count_states


@dataclass(frozen=True)
class RecoveredRun:
    """The outcome of the devices that a run had left open. `unrecorded` is the reason if it could not be
    written down."""

    run: str
    change: str
    began: str
    outcomes: tuple[Outcome, ...]
    unrecorded: str | None = None

    @property
    def failed(self) -> list[str]:
        """The devices of which it is still not known, and those that are not in order."""
        return [
            outcome.device
            for outcome in self.outcomes
            if outcome.state is State.UNKNOWN or outcome.cause is Cause.FAILED
        ]


class RunRecovery:
    """Takes up everything that was left open on `estate`. With `abandon`, what cannot be found out is left as
    it is, for good."""

    def __init__(
        self,
        estate: Estate,
        *,
        parallel: int | None = None,
        timeout_s: float | None = None,
        abandon: bool = False,
        on_event: OnEvent = ignore_event,
        names: Collection[str] | None = None,
    ) -> None:
        """With `names`, only runs that were delivering to one of these devices. Raises StateError,
        EstateError."""
        self._estate = estate
        self._abandon = abandon
        self._timeout_s = timeout_s
        self._parallel = parallel or estate.settings.connection.parallel
        self.on_event = on_event
        self._clock: Clock = SystemClock()
        self.runs: Sequence[OpenRun] = [
            run
            for run in interrupted_runs(estate.working)
            if names is None or any(device.name in names for device in run.devices)
        ]
        # Runs that another process is recovering.
        self.elsewhere: list[str] = []

    async def run(self) -> list[RecoveredRun]:
        """One after the other. When cancelled, what was not finished stays open. Raises StateError when
        nothing can be written."""
        if not self.runs:
            return []
        journal = Journal(self._estate.working)
        try:
            return [found for left in self.runs if (found := await self._one(left, journal)) is not None]
        finally:
            journal.close()

    async def _one(self, left: OpenRun, journal: Journal) -> RecoveredRun | None:
        """None when another process is recovering the run. The run's lock is held, so that no other process
        can start."""
        lock = RunLock(self._estate.working, left.run)
        if not lock.try_acquire():
            self.elsewhere.append(left.run)
            return None
        done = False
        try:
            outcomes = await self._finish(left, journal)
            told = self._record(left, outcomes, journal)
            done = True
        finally:
            lock.release(done=done)
        return RecoveredRun(left.run, left.change, left.began, tuple(outcomes), told)

    async def _finish(self, left: OpenRun, journal: Journal) -> list[Outcome]:
        found: dict[str, Outcome] = {}
        plan = (
            plan_from(stored_plan_of(self._estate.working, left.run))
            if left.devices_in_unknown_state
            else None
        )
        builder = IntentBuilder(self._estate) if left.devices_in_unknown_state else None
        devices = [
            self._estate.devices[d.name]
            for d in left.devices_in_unknown_state
            if d.name in self._estate.devices
        ]
        connector = Connector(self._estate, devices, self._timeout_s)

        async def one(device: OpenDevice) -> Outcome:
            if device.phase is Phase.UNTOUCHED or plan is None or builder is None:
                return await _end(device, journal, State.UNCHANGED, "nothing was sent to it")
            try:
                with ExitStack() as held:
                    held.enter_context(device_lock(self._estate.working, device.name))
                    transaction = await self._transaction(device, plan, builder, connector, journal)
                    await transaction.finish()
                    outcome = transaction.outcome or _unknown(device, "the outcome is unknown")
            except (DeviceError, EstateError, StateError) as error:
                outcome = _unknown(device, error.message, error.hint)
            if outcome.state is State.UNKNOWN and self._abandon:
                await journal.of(device.run, device.name).step("given up", open=0)
            return outcome

        def done(device: OpenDevice, outcome: Outcome | DeviceError) -> None:
            found[device.name] = (
                outcome if isinstance(outcome, Outcome) else _unknown(device, outcome.message, outcome.hint)
            )
            self.on_event(DeviceEvent(device.name, Stage(found[device.name].state.shown)))

        await for_each(left.devices, one, self._parallel, done)
        known = [Outcome(one.name, one.state, one.cause, Counts(0, 0), 0.0, one.reason) for one in left.known]
        return [*known, *(found[device.name] for device in left.devices)]

    async def _transaction(
        self,
        left: OpenDevice,
        plan: StoredPlan,
        builder: IntentBuilder,
        connector: Connector,
        journal: Journal,
    ) -> RecoveredTransaction:
        """Raises DeviceError, EstateError, StateError."""
        estate = self._estate
        device = estate.devices.get(left.name)
        if device is None:
            raise DeviceError(
                "the device is no longer in the inventory",
                hint="add it again, or close the run with: oast change recover --give-up",
            )
        platform, syntax = builder.platform(device), builder.syntax(device)
        planned = plan.of(left.name, syntax.grammar)
        text = kept_text(estate.working / "backups" / left.run / f"{left.name}.txt")
        listed = (
            None if text is None else RunningConfig(syntax, text, await read_tree(syntax, text), loaded=True)
        )
        intent = Intent.of_record(
            device, platform, planned.intended, planned.scope, planned.owners, planned.removals
        )
        folder = estate.working / "log" / left.run
        means = TransactionContext(
            syntax=syntax,
            opener=DeviceSessionFactory(connector, intent, ()),
            backup=Backup(folder, syntax, mask=True),
            log=folder / f"{left.name}.resumed.log",
            timer_s=0.0,
            on_event=self.on_event,
            clock=self._clock,
            journal=journal.of(left.run, left.name),
        )
        return RecoveredTransaction(RecoveryState(left, planned, plan.manner, listed), intent, means)

    def _record(self, left: OpenRun, outcomes: Sequence[Outcome], journal: Journal) -> str | None:
        ledger = ledger_of(self._estate)
        told: str | None = None
        try:
            if not left.devices and any(
                e.kind == "ended" and e.said.get("run") == left.run for e in ledger.entries(left.change)
            ):
                journal.end(left.run, recorded=True)
                return None
            content = outcomes_content(
                self._estate, left.run, outcomes, timeline_of(self._estate.working, left.run)
            )
            said: Mapping[str, Any] = {
                "run": left.run,
                "states": count_states(outcomes),
                "outcome": ledger.keep(content),
            }
            ledger.append("resumed", left.change, said)
        except OSError as error:
            told = f"{error.filename or self._estate.folder}: {os.strerror(error.errno or 0)}"
        except OastError as error:
            told = error.message
        try:
            journal.end(left.run, recorded=told is None)
        except StateError as error:
            told = told or error.message
        return told or journal.broken


async def _end(device: OpenDevice, journal: Journal, state: State, reason: str) -> Outcome:
    outcome = Outcome(device.name, state, Cause.INTERRUPTED, Counts(0, 0), 0.0, reason)
    await journal.of(device.run, device.name).ended(outcome, device.phase, asked=True)
    return outcome


def _unknown(device: OpenDevice, reason: str, hint: str | None = None) -> Outcome:
    return Outcome(device.name, State.UNKNOWN, Cause.FAILED, Counts(0, 0), 0.0, reason, hint)
