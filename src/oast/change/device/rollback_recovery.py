"""Rollback of one device, recovery of one that was lost, and leaving it to the rollback of its own."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from oast.change import Cause, Outcome, Phase, RollbackReason, State
from oast.change.device.context import LossOfContact, ManagementAddress
from oast.change.methods import DeliveryMethod
from oast.change.plan import edits_between
from oast.change.record import REVERT
from oast.config import Edit, Node, difference
from oast.connect import Session
from oast.errors import (
    AuthenticationFailed,
    ConnectionFailed,
    DeviceError,
    DeviceRefused,
    InternalDeviceError,
    RollbackLeftover,
    RollbackPending,
)
from oast.fleet import Stage

if TYPE_CHECKING:
    from oast.change.device.transaction import DeviceTransaction

# After the timer has gone off a device may need a moment until it can be reached again.
RETURN_MARGIN_S = 20.0
RETRY_S = 1.0
# How often a device is read again before inverse edits are sent after its own rollback did nothing.
ROLLBACK_POLLS = 2


class RollbackRecovery:
    """Rolls a device back, and finds out the state of one that the transaction has lost."""

    def __init__(self, transaction: DeviceTransaction) -> None:
        self._transaction = transaction
        # Whether the device was asked at last what it runs.
        self.state_was_read = True
        self._reached_in_time = False
        self._unknown_reason = ""
        # Set when inverse edits had to replace the device's own rollback, and what that rollback left behind.
        self._rolled_back_by_oast = False
        self._leftover: str | None = None

    def notes(self, state: State) -> list[str]:
        """What a reader of the outcome should know about the rollback."""
        notes = []
        if self._rolled_back_by_oast and state is State.REVERTED:
            notes.append(
                "the device accepted the rollback but did not perform it, so Oast rolled it back with"
                " inverse edits"
            )
        if state is State.UNKNOWN and self.state_was_read and self._unknown_reason:
            notes.append(self._unknown_reason)
        if self._leftover:
            notes.append(self._leftover)
        return notes

    async def leave(self) -> None:
        """Stop waiting: leave the device to its own rollback, and report that."""
        if self._transaction.outcome is not None:
            return
        left = self.outcome_if_interrupted()
        self.state_was_read = left.state is State.UNCHANGED
        await self._transaction.end(left.state, left.cause, left.reason, left.hint)

    def outcome_if_interrupted(self) -> Outcome:
        """Return the outcome or, while the transaction has none, what is known if this process ends now."""
        transaction = self._transaction
        if transaction.outcome is not None:
            return transaction.outcome
        if transaction.phase is Phase.UNTOUCHED:
            return transaction.new_outcome(
                State.UNCHANGED, Cause.INTERRUPTED, "interrupted before anything was sent to the device"
            )
        rollback_method = transaction.comparison.rollback_method
        until = datetime.now().astimezone() + timedelta(seconds=max(0.0, transaction.rollback_due_s))
        if transaction.comparison.manner.into_startup:
            reason = "interrupted: the startup configuration may be the new or the old one"
        elif transaction.phase is Phase.CONFIRMED:
            reason = (
                "interrupted after confirming, before saving: the change is active; startup may be the"
                " old configuration"
            )
        elif transaction.phase is Phase.CONFIRMING:
            reason = (
                f"interrupted while confirming: by {until:%H:%M:%S} the device has either rolled back"
                f" ({rollback_method.name}) or kept the change"
            )
        elif rollback_method.is_autonomous:
            reason = f"interrupted: the device rolls back by {until:%H:%M:%S} ({rollback_method.name})"
        else:
            reason = (
                "interrupted, and the device has no rollback of its own: a part of the change may be active"
            )
        return transaction.new_outcome(
            State.UNKNOWN, Cause.INTERRUPTED, reason, "after that, recover the run with: oast change recover"
        )

    async def roll_back_after_refusal(self, refused: DeviceRefused) -> None:
        """Roll back the lines before one that the device refused, at once and on the same session."""
        transaction = self._transaction
        message = refused.message
        commands = transaction.comparison.commands
        if refused.number is not None and refused.number < len(commands):
            place = transaction.comparison.intent.place_of(commands[refused.number].path)
            message = f"{message} ({place})" if place else message
        if transaction.phase is Phase.UNTOUCHED:
            await transaction.end(
                State.UNCHANGED, Cause.FAILED, message, refused.hint, why=RollbackReason.REFUSED
            )
            return
        transaction.enter_stage(Stage.REVERTING)
        await transaction.context.journal.step("rolling back", first=True, decision=REVERT)
        try:
            state = await self.roll_back(transaction.require_session())
        except DeviceError:
            transaction.lost = LossOfContact(Cause.FAILED, message, why=RollbackReason.REFUSED)
            return
        await transaction.end(state, Cause.FAILED, message, refused.hint, why=RollbackReason.REFUSED)

    async def roll_back(self, session: Session) -> State:
        """Roll back over `session`. Returns the state that the device is read in then. Raises DeviceError.

        That a device accepts the command to roll back proves nothing; its running configuration does.
        """
        transaction = self._transaction
        delivery = transaction.delivery_over(session)
        try:
            await delivery.cancel(transaction.phase)
        except DeviceRefused:
            pass  # There may be nothing to roll back; reading again tells.
        except RollbackLeftover as leftover:
            self._leftover = leftover.message
        state = await self._read_state(session)
        if state is State.UNKNOWN and transaction.phase >= Phase.APPLYING:
            return await self._roll_back_by_edits(delivery, session)
        return state

    async def _roll_back_by_edits(self, delivery: DeliveryMethod, session: Session) -> State:
        """Roll back with inverse edits a device that did not roll back on its own, once nothing is pending.

        Raises RollbackPending while the device may yet roll back on its own.
        """
        transaction = self._transaction
        pending = await delivery.is_waiting()
        over = transaction.rollback_due_s <= -RETURN_MARGIN_S
        if pending is not False and not over:
            raise RollbackPending("it has not rolled back yet")
        for _ in range(ROLLBACK_POLLS):
            # Its own rollback may be under way, and needs a moment.
            await transaction.context.clock.sleep(RETRY_S)
            state = await self._read_state(session)
            if state is not State.UNKNOWN:
                return state
        foreign = self._foreign_edits()
        if foreign:
            self._unknown_reason = (
                f"these parts have changed since the change was applied ({edits_text(foreign)}), so Oast did"
                " not roll them back"
            )
            return State.UNKNOWN
        transaction.note("the device did not roll back; sending inverse edits")
        await transaction.context.journal.step("rolling back with inverse edits", first=True)
        await delivery.undo()
        state = await self._read_state(session)
        self._rolled_back_by_oast = state is State.REVERTED
        return state

    def _foreign_edits(self) -> list[Edit]:
        """Return what changed in the owned configuration since the change was applied, except for edits that
        a partial rollback explains."""
        transaction = self._transaction
        if transaction.expected is None or transaction.running is None:
            return []
        scope = transaction.comparison.intent.scope
        before = scope.within(transaction.comparison.running)
        edits = difference(scope.within(transaction.expected), scope.within(transaction.running))
        return [edit for edit in edits if not _leads_to(edit, before)]

    async def recover(self) -> None:
        """Find out, and where needed bring about, the state of a device that is `lost`.

        A device with a revert timer is tried until some time after the timer must have expired: one that can
        only be reached again then was cut off by the change. A device without one is tried for as long, at
        every management address.
        """
        transaction = self._transaction
        if transaction.lost is None:
            return
        lost = transaction.lost
        await transaction.close_session()
        if transaction.phase is Phase.CONFIRMED:
            await self._retry_save(lost.cause)
            return
        if transaction.phase is Phase.UNTOUCHED:
            await transaction.end(State.UNCHANGED, lost.cause, lost.reason, lost.hint, why=lost.why)
            return
        if (
            transaction.rollback_due_s > 0
            and transaction.armed_at is not None
            and transaction.comparison.rollback_method.is_autonomous
        ):
            transaction.say_waiting(f"rollback timer of {transaction.name}", transaction.rollback_due_s)
        transaction.enter_stage(Stage.LOST if lost.cause is not Cause.INTERRUPTED else Stage.REVERTING)
        if transaction.phase < Phase.CONFIRMING:
            await transaction.context.journal.step("recovering", first=True, decision=REVERT)
        clock = transaction.context.clock
        gone_off = clock.now() if transaction.armed_at is None else transaction.rolled_back_by_s
        # However late it is, a device that answers is read once.
        deadline = max(gone_off, clock.now()) + RETURN_MARGIN_S
        last = "no further attempt was made"
        at = ManagementAddress.ANY
        while clock.now() < deadline:
            try:
                state, is_autonomous = await self._attempt(at)
            except AuthenticationFailed as error:
                last = error.message
            except DeviceError as error:
                last = error.message
            except Exception as error:
                # Whatever is wrong in Oast, the device is tried until it must have rolled back.
                transaction.transcript.fault(error)
                last = InternalDeviceError(error).message
            else:
                await self._finish(state, lost, is_autonomous=is_autonomous)
                return
            is_alternate_next = transaction.context.opener.has_alternate and at is ManagementAddress.ANY
            at = ManagementAddress.ALTERNATE if is_alternate_next else ManagementAddress.ANY
            netconf = transaction.comparison.intent.platform.netconf
            # A device that is polled without a pause may have no time to roll back.
            await clock.sleep(RETRY_S if netconf is None else max(RETRY_S, netconf.poll_s))
        reason = f"{lost.reason}; the device cannot be reached to find out its state ({last})"
        self.state_was_read = False
        await transaction.end(
            State.UNKNOWN,
            lost.cause,
            reason,
            transaction.comparison.rollback_method.unreachable_hint,
            why=lost.why,
        )

    async def _finish(self, state: State, lost: LossOfContact, *, is_autonomous: bool) -> None:
        transaction = self._transaction
        cause, reason = lost.cause, lost.reason
        if state is State.DELIVERED and transaction.concurrent_edits:
            await transaction.end_unsaved_after_edits()
            return
        if state is State.DELIVERED:
            await transaction.end(state, Cause.NONE if cause is not Cause.INTERRUPTED else cause)
            return
        why = lost.why
        if state is State.REVERTED and is_autonomous and cause is Cause.FAILED:
            # Proved only where the change is about management access, and a new session was tried in vain
            # while it was active. A session that outlasts the cut goes on after the rollback, and then finds
            # something else than the change.
            is_possible = why in (
                RollbackReason.SESSION_LOST,
                RollbackReason.NOT_AS_GIVEN,
                RollbackReason.TOO_SLOW,
            )
            if is_possible and transaction.unanswered and transaction.comparison.access_risks:
                cause, why = Cause.CHECKS, RollbackReason.PATH_CUT
                reason = (
                    f"the change cut off management access: {reason}; the device rolled back"
                    f" ({transaction.comparison.rollback_method.name})"
                )
            else:
                reason = (
                    f"{reason}; the device was rolled back ({transaction.comparison.rollback_method.name})"
                )
        await transaction.end(state, cause, reason, lost.hint, failed=lost.failed, why=why)

    async def _retry_save(self, cause: Cause) -> None:
        """The change is confirmed, and only saving it was cut short."""
        transaction = self._transaction
        try:
            transaction.session = await transaction.context.opener(transaction.transcript)
        except DeviceError as error:
            await transaction.end_unsaved(cause, error)
            return
        await transaction.save(transaction.session, cause)

    async def _attempt(self, at: ManagementAddress) -> tuple[State, bool]:
        """Try once: connect, read, and then roll back, or complete a confirmation that was under way.

        Returns the state, and whether the device had rolled back on its own when it could be reached again.
        """
        transaction = self._transaction
        is_armed = transaction.rollback_due_s > 0
        try:
            session = await transaction.context.opener(transaction.transcript, at=at)
        except (ConnectionFailed, AuthenticationFailed):
            transaction.unanswered += is_armed
            raise
        rollback_method = transaction.comparison.rollback_method
        self._reached_in_time = self._reached_in_time or transaction.rollback_due_s > 0
        try:
            state = await self._read_state(session)
            is_autonomous = (
                rollback_method.is_autonomous and state is State.REVERTED and not self._reached_in_time
            )
            if rollback_method.is_autonomous and state is State.REVERTED and transaction.rollback_due_s < 0:
                # The timer has rolled it back, so nothing but cleaning up is left to do.
                await transaction.delivery_over(session).clean_up()
            elif not is_autonomous and state is State.DELIVERED:
                await self._retry_confirm(transaction.delivery_over(session))
                state = await self._read_state(session)
            elif not is_autonomous:
                state = await self.roll_back(session)
            if state is State.DELIVERED and not transaction.concurrent_edits:
                await transaction.delivery_over(session).save()
        finally:
            await session.close()
        return state, is_autonomous

    async def _retry_confirm(self, delivery: DeliveryMethod) -> None:
        """Complete a confirmation that was cut short. Raises DeviceError while it is open whether the change
        stays."""
        if delivery.is_session_bound and self._transaction.rollback_due_s < 0:
            return  # It can no longer be confirmed, and it is still there after its timeout.
        try:
            await delivery.confirm()
        except DeviceRefused as refused:
            # A change that the device may still roll back is not delivered, so nothing may be pending.
            if self._transaction.rollback_due_s >= 0 and await delivery.is_waiting() is not False:
                raise ConnectionFailed(
                    f"{refused.message}; whether the change stays is known when its timeout expires"
                ) from None

    async def _read_state(self, session: Session) -> State:
        """Read the device again, and compare what the sections own with the state before and the intent."""
        transaction = self._transaction
        running = await transaction.read_again(session)
        scope = transaction.comparison.intent.scope
        before = transaction.comparison.running
        if running == before or not difference(scope.within(before), scope.within(running)):
            return State.REVERTED if transaction.phase >= Phase.APPLYING else State.UNCHANGED
        intended = not edits_between(transaction.comparison.intent, running, transaction.comparison.manner)
        if intended and transaction.phase >= Phase.CONFIRMING:
            return State.DELIVERED
        what = (
            "startup configuration is neither the one from"
            if transaction.comparison.manner.into_startup
            else "running configuration is neither the one from"
        )
        self._unknown_reason = f"the {what} before the change nor the intended one"
        if intended:
            verb = "starts with" if transaction.comparison.manner.into_startup else "runs"
            self._unknown_reason = (
                f"the device still {verb} the change: it was not rolled back, or another session confirmed it"
            )
        return State.UNKNOWN


def _leads_to(edit: Edit, before: Node) -> bool:
    """Return whether an edit restores a part of `before`, and does nothing else."""
    there = before.at(edit.path)
    if edit.operation == "remove" or there is None:
        return edit.operation == "remove" and there is None
    below = ((there.at(path), node) for path, node in edit.node.walk())
    return there.statement == edit.node.statement and all(
        one is not None and one.statement == node.statement for one, node in below
    )


def edits_text(edits: Sequence[Edit]) -> str:
    """Return the first three edits as one line of text."""
    shown = [
        f"{'-' if edit.operation == 'remove' else '+'}"
        f" {' / '.join((*(node.text for node in edit.outer), edit.node.text))}"
        for edit in edits[:3]
    ]
    more = f" and {len(edits) - 3} more" if len(edits) > 3 else ""
    return f"{'; '.join(shown)}{more}"
