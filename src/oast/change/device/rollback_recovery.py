"""The ways out of a delivery to one device: finding out what it runs, saving, going back, and leaving it to
its own way back."""

from __future__ import annotations

from datetime import datetime, timedelta

from oast.change import Cause, Outcome, Phase, RollbackReason, State
from oast.change.device.context import LossOfContact, ManagementAddress
from oast.change.device.transaction_state import TransactionState, edits_text
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
    ProtocolError,
    RollbackLeftover,
    RollbackPending,
)
from oast.fleet import Stage
from oast.verify import CheckResult

# After the timer has gone off a device may need a moment until it can be reached again.
RETURN_MARGIN_S = 20.0
RETRY_S = 1.0
# How often a device is read again before inverse edits are sent after its own rollback did nothing.
ROLLBACK_POLLS = 2


class RollbackRecovery(TransactionState):
    """What is done when a delivery cannot go on as it was meant to, and how one ends well."""

    async def _save(self, session: Session, cause: Cause, *, excused: tuple[CheckResult, ...] = ()) -> None:
        self._say(Stage.SAVING)
        await self._context.journal.step("saving")
        try:
            now = await self._read_again(session)
            if (self._concurrent_edits or self._expected is None) and edits_between(
                self.comparison.intent, now, self.comparison.manner
            ):
                raise ProtocolError("after saving, the startup configuration differs from what was confirmed")
            if self._concurrent_edits:
                await self._end_unsaved_after_edits()
                return
            await self._delivery_over(session).save()
        except DeviceError as error:
            await self._end_unsaved(Cause.FAILED, error)
            return
        await self._end(State.DELIVERED, cause, excused=excused)

    async def _end_unsaved_after_edits(self) -> None:
        """What somebody else has typed meanwhile is not saved without consent, and with it nothing."""
        reason = (
            "the change is active but not saved, because another session edited the device: "
            f"{self._concurrent_edits_text}"
        )
        if self.comparison.manner.into_startup:
            reason = (
                "the startup configuration has the change, and edits that another session saved: "
                f"{self._concurrent_edits_text}"
            )
        await self._end(
            State.DELIVERED,
            Cause.FAILED,
            reason,
            "review it with the next push, which saves it after your confirmation",
        )

    async def _end_unsaved(self, cause: Cause, error: DeviceError) -> None:
        reason = f"the change is active, but startup may not be saved: {error.message}"
        await self._end(
            State.DELIVERED,
            cause,
            reason,
            "check the device and save its configuration there; otherwise it restarts with the old one",
        )

    async def leave(self) -> None:
        """Whoever runs this does not wait any longer: the device is left to its own rollback, and that is
        said."""
        if self.outcome is not None:
            return
        left = self.outcome_if_interrupted()
        self._state_was_read = left.state is State.UNCHANGED
        await self._end(left.state, left.cause, left.reason, left.hint)

    def outcome_if_interrupted(self) -> Outcome:
        """Its outcome or, while it has none, what is known if this process ends now."""
        if self.outcome is not None:
            return self.outcome
        if self.phase is Phase.UNTOUCHED:
            return self._outcome(
                State.UNCHANGED, Cause.INTERRUPTED, "interrupted before anything was sent to the device"
            )
        rollback_method = self.comparison.rollback_method
        until = datetime.now().astimezone() + timedelta(seconds=max(0.0, self.rollback_due_s))
        if self.comparison.manner.into_startup:
            reason = "interrupted: the startup configuration may be the new or the old one"
        elif self.phase is Phase.CONFIRMED:
            reason = (
                "interrupted after confirming, before saving: the change is active; startup may be the"
                " old configuration"
            )
        elif self.phase is Phase.CONFIRMING:
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
        return self._outcome(
            State.UNKNOWN, Cause.INTERRUPTED, reason, "after that, recover the run with: oast change resume"
        )

    async def _refused(self, refused: DeviceRefused) -> None:
        """The device refused a line: take back at once what went before it, on the same session."""
        message = refused.message
        commands = self.comparison.commands
        if refused.number is not None and refused.number < len(commands):
            place = self.comparison.intent.place_of(commands[refused.number].path)
            message = f"{message} ({place})" if place else message
        if self.phase is Phase.UNTOUCHED:
            await self._end(State.UNCHANGED, Cause.FAILED, message, refused.hint, why=RollbackReason.REFUSED)
            return
        self._say(Stage.REVERTING)
        await self._context.journal.step("reverting", first=True, decision=REVERT)
        try:
            state = await self._cancelled(self._open_session())
        except DeviceError:
            self.lost = LossOfContact(Cause.FAILED, message, why=RollbackReason.REFUSED)
            return
        await self._end(state, Cause.FAILED, message, refused.hint, why=RollbackReason.REFUSED)

    async def _cancelled(self, session: Session) -> State:
        """Roll back over `session`; the state that the device is read in afterwards. Raises DeviceError.

        That a device accepts the command to roll back proves nothing: what it runs does.
        """
        delivery = self._delivery_over(session)
        try:
            await delivery.cancel(self.phase)
        except DeviceRefused:
            pass  # There may be nothing to roll back; reading again tells.
        except RollbackLeftover as leftover:
            self._leftover = leftover.message
        state = await self._state_now(session)
        if state is State.UNKNOWN and self.phase >= Phase.APPLYING:
            return await self._rolled_back_by_edits(delivery, session)
        return state

    async def _rolled_back_by_edits(self, delivery: DeliveryMethod, session: Session) -> State:
        """The device was asked to roll back and still runs something else: once nothing is pending, inverse
        edits do it.

        Raises RollbackPending while the device may yet roll back on its own.
        """
        pending = await delivery.is_waiting()
        over = self.rollback_due_s <= -RETURN_MARGIN_S
        if pending is not False and not over:
            raise RollbackPending("it has not rolled back yet")
        for _ in range(ROLLBACK_POLLS):
            # Its own rollback may be under way, and needs a moment.
            await self._context.clock.sleep(RETRY_S)
            state = await self._state_now(session)
            if state is not State.UNKNOWN:
                return state
        foreign = self._foreign_edits()
        if foreign:
            self._unknown_reason = (
                f"these parts have changed since the change was applied ({edits_text(foreign)}), so Oast did"
                " not roll them back"
            )
            return State.UNKNOWN
        self._note("the device did not roll back; sending inverse edits")
        await self._context.journal.step("rolling back with inverse edits", first=True)
        await delivery.undo()
        state = await self._state_now(session)
        self._rolled_back_by_oast = state is State.REVERTED
        return state

    def _foreign_edits(self) -> list[Edit]:
        """What has changed in what the sections own since the change was in effect, but for what a part of
        its rollback explains."""
        if self._expected is None or self.running is None:
            return []
        scope = self.comparison.intent.scope
        before = scope.within(self.comparison.running)
        edits = difference(scope.within(self._expected), scope.within(self.running))
        return [edit for edit in edits if not _leads_to(edit, before)]

    async def recover(self) -> None:
        """Find out, and where needed bring about, the state of a device that is `lost`.

        Where the device goes back by itself, tries until some time after that must have happened: a device
        that can only be reached again then was cut off by the change. Where it does not, tries as long, by
        every way in there is.
        """
        if self.lost is None:
            return
        lost = self.lost
        await self._close()
        if self.phase is Phase.CONFIRMED:
            await self._retry_save(lost.cause)
            return
        if self.phase is Phase.UNTOUCHED:
            await self._end(State.UNCHANGED, lost.cause, lost.reason, lost.hint, why=lost.why)
            return
        if (
            self.rollback_due_s > 0
            and self._armed_at is not None
            and self.comparison.rollback_method.is_autonomous
        ):
            self.say_waiting(f"rollback timer of {self.name}", self.rollback_due_s)
        self._say(Stage.LOST if lost.cause is not Cause.INTERRUPTED else Stage.REVERTING)
        if self.phase < Phase.CONFIRMING:
            await self._context.journal.step("recovering", first=True, decision=REVERT)
        clock = self._context.clock
        gone_off = clock.now() if self._armed_at is None else self._rolled_back_by_s
        # However late it is: a device that answers is asked.
        deadline = max(gone_off, clock.now()) + RETURN_MARGIN_S
        last = "no further attempt was made"
        at = ManagementAddress.ANY
        while clock.now() < deadline:
            try:
                state, is_autonomous = await self._attempt_recovery(at)
            except AuthenticationFailed as error:
                last = error.message
            except DeviceError as error:
                last = error.message
            except (
                Exception
            ) as error:  # whatever is wrong here, the device is asked until it must have gone back
                self._transcript.fault(error)
                last = InternalDeviceError(error).message
            else:
                await self._finish_recovery(state, lost, is_autonomous=is_autonomous)
                return
            is_alternate_next = self._context.opener.has_alternate and at is ManagementAddress.ANY
            at = ManagementAddress.ALTERNATE if is_alternate_next else ManagementAddress.ANY
            netconf = self.comparison.intent.platform.netconf
            # A device that is asked all the time may not come to going back.
            await clock.sleep(RETRY_S if netconf is None else max(RETRY_S, netconf.poll_s))
        reason = f"{lost.reason}; the device cannot be reached to find out its state ({last})"
        self._state_was_read = False
        await self._end(
            State.UNKNOWN, lost.cause, reason, self.comparison.rollback_method.unreachable_hint, why=lost.why
        )

    async def _finish_recovery(self, state: State, lost: LossOfContact, *, is_autonomous: bool) -> None:
        cause, reason = lost.cause, lost.reason
        if state is State.DELIVERED and self._concurrent_edits:
            await self._end_unsaved_after_edits()
            return
        if state is State.DELIVERED:
            await self._end(state, Cause.NONE if cause is not Cause.INTERRUPTED else cause)
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
            if is_possible and self._unanswered and self.comparison.access_risks:
                cause, why = Cause.CHECKS, RollbackReason.PATH_CUT
                reason = (
                    f"the change cut off management access ({reason}); the device rolled back"
                    f" ({self.comparison.rollback_method.name})"
                )
            else:
                reason = f"{reason}; the device was rolled back ({self.comparison.rollback_method.name})"
        await self._end(state, cause, reason, lost.hint, failed=lost.failed, why=why)

    async def _retry_save(self, cause: Cause) -> None:
        """The change is confirmed, and only saving it was cut short."""
        try:
            self._session = await self._context.opener(self._transcript)
        except DeviceError as error:
            await self._end_unsaved(cause, error)
            return
        await self._save(self._session, cause)

    async def _attempt_recovery(self, at: ManagementAddress) -> tuple[State, bool]:
        """One try: connect, read, and then go back, or complete a confirmation that was under way.

        Also whether the device had gone back by itself by the time it could be reached again.
        """
        is_armed = self.rollback_due_s > 0
        try:
            session = await self._context.opener(self._transcript, at=at)
        except (ConnectionFailed, AuthenticationFailed):
            self._unanswered += is_armed
            raise
        rollback_method = self.comparison.rollback_method
        self._reached_in_time = self._reached_in_time or self.rollback_due_s > 0
        try:
            state = await self._state_now(session)
            is_autonomous = (
                rollback_method.is_autonomous and state is State.REVERTED and not self._reached_in_time
            )
            if rollback_method.is_autonomous and state is State.REVERTED and self.rollback_due_s < 0:
                await self._delivery_over(
                    session
                ).clean_up()  # What its timer has brought back needs no word of ours.
            elif not is_autonomous and state is State.DELIVERED:
                await self._retry_confirm(self._delivery_over(session))
                state = await self._state_now(session)
            elif not is_autonomous:
                state = await self._cancelled(session)
            if state is State.DELIVERED and not self._concurrent_edits:
                await self._delivery_over(session).save()
        finally:
            await session.close()
        return state, is_autonomous

    async def _retry_confirm(self, delivery: DeliveryMethod) -> None:
        """Complete a confirmation that was cut short. Raises DeviceError while it is open whether the change
        stays."""
        if delivery.is_session_bound and self.rollback_due_s < 0:
            return  # Nobody could confirm it any more, and it is still there after its time.
        try:
            await delivery.confirm()
        except DeviceRefused as refused:
            # That it is not armed any more has to be proved: what would still go back is not delivered.
            if self.rollback_due_s >= 0 and await delivery.is_waiting() is not False:
                raise ConnectionFailed(
                    f"{refused.message}; whether the change stays is known when its timeout expires"
                ) from None

    async def _state_now(self, session: Session) -> State:
        """What the device runs, read again: in what the sections own, what it ran before, or what was
        intended."""
        running = await self._read_again(session)
        scope = self.comparison.intent.scope
        before = self.comparison.running
        if running == before or not difference(scope.within(before), scope.within(running)):
            return State.REVERTED if self.phase >= Phase.APPLYING else State.UNCHANGED
        intended = not edits_between(self.comparison.intent, running, self.comparison.manner)
        if intended and self.phase >= Phase.CONFIRMING:
            return State.DELIVERED
        what = (
            "startup configuration is neither the one from"
            if self.comparison.manner.into_startup
            else "running configuration is neither the one from"
        )
        self._unknown_reason = f"the {what} before the change nor the intended one"
        if intended:
            verb = "starts with" if self.comparison.manner.into_startup else "runs"
            self._unknown_reason = (
                f"the device still {verb} the change: it was not rolled back, or another session confirmed it"
            )
        return State.UNKNOWN


def _leads_to(edit: Edit, before: Node) -> bool:
    """Whether an edit makes a part of `before` again, and nothing else."""
    there = before.at(edit.path)
    if edit.operation == "remove" or there is None:
        return edit.operation == "remove" and there is None
    below = ((there.at(path), node) for path, node in edit.node.walk())
    return there.statement == edit.node.statement and all(
        one is not None and one.statement == node.statement for one, node in below
    )
