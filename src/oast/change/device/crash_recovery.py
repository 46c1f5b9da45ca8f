"""Recovery of one device that an interrupted run left open: find out its state, and finish or roll back."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime

from oast.change import PREVIOUS_STARTUP, Cause, Phase, rollback_method_of
from oast.change.device.context import LossOfContact, TransactionContext
from oast.change.device.transaction import DeviceTransaction
from oast.change.plan import (
    ApplyMode,
    PartialRunningConfig,
    RunningConfig,
    StoredDevicePlan,
    comparison_from_record,
)
from oast.change.record import KEEP, OpenDevice
from oast.config import Node, apply_edits, canonical, restore_secrets, secrets_by_fingerprint
from oast.connect import Session
from oast.intent import Intent


@dataclass(frozen=True)
class RecoveryState:
    """What is left of a delivery: what the journal says, what was planned, and what the device had listed
    before, where that was kept."""

    left: OpenDevice
    planned: StoredDevicePlan
    manner: ApplyMode
    listed: RunningConfig | None


class RecoveredTransaction(DeviceTransaction):
    """Continues what another run has begun. The token of that run identifies its timer or commit on the
    device.

    A change that the run decided to keep is confirmed and saved; a confirmed one is saved; everything else is
    rolled back. Foreign changes are not touched, and nothing that contains them is saved.
    """

    def __init__(self, remains: RecoveryState, intent: Intent, means: TransactionContext) -> None:
        listed = remains.listed or PartialRunningConfig(remains.planned.before)
        rollback_method = (
            PREVIOUS_STARTUP if remains.manner.into_startup else rollback_method_of(intent.platform)
        )
        super().__init__(comparison_from_record(intent, listed, remains.manner, rollback_method), (), means)
        left = remains.left
        self._remains = remains
        self.phase = Phase.CONFIRMING if left.decision == KEEP and left.phase is Phase.APPLIED else left.phase
        self._token = left.token or self._token
        if left.armed is not None and left.timer_s is not None:
            self.timer_s = left.timer_s
            # A clock that was set back must not make the timer longer than it was.
            self._armed(means.clock.now() - max(0.0, (datetime.now(UTC) - left.armed).total_seconds()))
        self.lost = LossOfContact(Cause.INTERRUPTED, f"run {left.run} was interrupted during the delivery")

    async def finish(self) -> None:
        """Bring it to an end; it has an outcome then."""
        await self.context.journal.step("recovery started")
        await self.recovery.recover()

    async def read_running(self, session: Session) -> Node:
        """What it runs tells the secrets of what was kept without them."""
        running = await super().read_running(session)
        planned, listed = self._remains.planned, self._remains.listed
        if listed is not None:
            await listed.load()
        secrets = secrets_by_fingerprint((running,) if listed is None else (running, listed.tree))
        intent = replace(self.comparison.intent, tree=restore_secrets(planned.intended, secrets))
        rollback_method = self.comparison.rollback_method
        if not self._remains.manner.into_startup:
            rollback_method = rollback_method_of(intent.platform, session.capabilities)
        listed = listed or PartialRunningConfig(restore_secrets(planned.before, secrets))
        self.comparison = comparison_from_record(intent, listed, self._remains.manner, rollback_method)
        if self._remains.listed is not None:
            self.expected = canonical(apply_edits(self.comparison.edits, listed.tree))
        return running
