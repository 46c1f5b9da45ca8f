"""The delivery to one device, as a transaction that goes through phases (see `Phase`).

What makes it safe: the phase is never behind what may have happened on the device; the way back is armed
before the first edit where the device has one of its own; and a state is only ever reported after the running
configuration was read again. A step that loses the device leaves it `lost`; `recover` is the one way out of
that, and may take until the timer has gone off.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable
from contextlib import asynccontextmanager

from oast.change import Cause, Phase, RollbackReason, State
from oast.change.device.context import DeviceChangedSinceDiff, LossOfContact, ManagementAddress
from oast.change.device.rollback_recovery import RETRY_S, RollbackRecovery
from oast.change.methods import DeliveryMethod
from oast.change.plan import access_risks, edits_between, interface_by_reading, management_interfaces
from oast.change.record import KEEP, REVERT, DeviceJournal, now_text
from oast.change.rollout import changes_only_descriptions, is_affected_by
from oast.config import difference, read_tree
from oast.connect import Session
from oast.errors import (
    AuthenticationFailed,
    ConnectionFailed,
    DeviceError,
    DeviceRefused,
    InternalDeviceError,
)
from oast.fleet import Stage, TimerEvent
from oast.verify import CheckResult, evaluate

# What has to be left of a revert timer, in seconds, for another attempt to reach a device whose management
# address moves.
LEAST_LEFT_S = 3.0
# A wave may keep a device unconfirmed for this many times its first timer; then what delays the others is
# given up.
LONGEST_EXTENSION = 3
# A timer is extended this part of its time before it would be too short.
EXTENSION_LEAD = 0.25
# New sessions that are tried at most within one revert timer, while the device does not answer.
PROBES = 5


class DeviceTransaction(RollbackRecovery):
    """One device's delivery; the wave calls the steps, in the order of their definition, until there is an
    `outcome`.

    No step raises DeviceError: what fails is dealt with, or the transaction is `lost`.
    """

    async def prepare(self) -> None:
        """Everything that changes nothing: connect, read again, back up, take readings, make sure of the way
        back."""
        try:
            await self._prepare()
        except DeviceError as error:
            await self._end(State.UNCHANGED, Cause.FAILED, error.message, error.hint)

    async def _prepare(self) -> None:
        running_text = await self._connected()
        compared = await self.comparison.listed.load()
        if (
            running_text != self.comparison.running_text
            and await read_tree(self._context.syntax, running_text) != compared
        ):
            raise DeviceChangedSinceDiff(
                "the device has changed since the comparison; nothing was sent to it",
                hint="compare again and review the difference",
            )
        self._say(Stage.BACKING_UP)
        # On the disk before anything is touched; a slow disk holds up this device alone.
        await asyncio.to_thread(self._context.backup.write, running_text)
        self._before = await self._read_state()
        self._delivery = self._delivery_over(self._open_session())
        await self._delivery.check_nothing_pending()
        await self._prove_rollback_method(self._delivery)
        await self._context.journal.step("prepared", token=self._token)
        self._say(Stage.PREPARED)

    async def _connected(self) -> str:
        """A session, and what the device runs now. One that was left open may have ended since: nothing was
        sent on it."""
        if self._session is not None:
            self._note("continuing in the session of the comparison")
            self._reached_at = self._session.reached_at
            try:
                return await self._list(self._session)
            except ConnectionFailed:
                await self._close()
        self._say(Stage.CONNECTING)
        self._session = await self._context.opener(self._transcript)
        self._reached_at = self._session.reached_at
        return await self._list(self._session)

    async def _prove_rollback_method(self, delivery: DeliveryMethod) -> None:
        """A change that may cut management access is not begun where nothing would roll the device back."""
        risks = self.comparison.access_risks
        # What it starts with cuts nothing before it restarts.
        if not risks or delivery.rollback_method.is_autonomous or self.comparison.manner.into_startup:
            return
        more = f" and {len(risks) - 1} more" if len(risks) > 1 else ""
        what = (
            f"the change may cut off management access: {risks[0]}{more}; and the device has no"
            " rollback of its own"
        )
        if not self._context.opener.has_alternate:
            hint = (
                "add an alternate management address to the inventory (alternate_address: ADDRESS), or"
                " change it on the console"
            )
            raise DeviceError(f"{what}; nothing was sent to it", hint=hint)
        try:
            alternate = await self._context.opener(
                self._transcript, at=ManagementAddress.ALTERNATE, proving=True
            )
        except DeviceError as error:
            raise DeviceError(
                f"{what}, and its alternate management address does not answer ({error.message}); nothing"
                " was sent to it"
            ) from None
        try:
            await self._require_untouched(alternate, what)
        finally:
            await alternate.close()
        self._note(
            "the alternate management address answers, on an interface that the change does not affect"
        )

    async def _require_untouched(self, alternate: Session, what: str) -> None:
        """Prove that the change cannot cut the session at the alternate management address. Raises
        DeviceError."""
        intent, running = self.comparison.intent, self.comparison.running
        opener = self._context.opener
        route = opener.alternate_route(alternate)
        if not route.is_out_of_band and not management_interfaces(intent, running, route):
            route = opener.alternate_route(
                alternate, await interface_by_reading(alternate, alternate.reached_at)
            )
            if route.interface is None:
                message = (
                    f"{what}, and the interface of its alternate management address "
                    f"{alternate.reached_at} is unknown"
                )
                raise DeviceError(
                    f"{message}; nothing was sent to it",
                    hint="add it to the inventory: alternate_interface: NAME, or out-of-band",
                )
        found = access_risks(
            intent.platform, management_interfaces(intent, running, route), self.comparison.edits, route
        )
        if found:
            message = f"{what}, and it may cut off the alternate management address, too: {found[0]}"
            raise DeviceError(
                f"{message}; nothing was sent to it",
                hint="choose an address on an interface that the change does not affect",
            )

    async def load(self) -> None:
        """Bring the change into effect, and read it again."""
        if not self.is_open or self._delivery is None:
            return
        if not self.comparison.edits:
            # It runs what it should; all there is to do is to save it.
            self._expected = self.comparison.running
            return
        try:
            self._say(Stage.STAGING)
            await self._delivery.stage()
            await self._delivery.validate()
            self._say(Stage.APPLYING, 0)
            # From here on the device may be armed, even if its answer is lost.
            self._armed(self._context.clock.now())
            await self._context.journal.step("arming", armed=now_text(), timer_s=float(self.timer_s))
            self._context.on_event(TimerEvent(self.name, self.timer_s))
            self._note(f"unless confirmed, the device rolls back ({self._delivery.rollback_method.name})")
            async with self._probing():
                await self._delivery.apply(self.timer_s)
                await self._prove()
        except DeviceRefused as refused:
            await self._refused(refused)
        except ConnectionFailed as error:
            if not await self._reached_after_move():
                self.lost = LossOfContact(Cause.FAILED, error.message, error.hint)
        except DeviceError as error:
            self.lost = LossOfContact(
                Cause.FAILED, error.message, error.hint, why=RollbackReason.NOT_AS_GIVEN
            )

    @asynccontextmanager
    async def _probing(self) -> AsyncIterator[None]:
        """Try new sessions while a change about management access takes long: only that proves whether it has
        cut the path."""
        if not self.comparison.access_risks:
            yield
            return

        async def probe() -> None:
            while True:
                await self._context.clock.sleep(self.timer_s / PROBES)
                try:
                    session = await self._context.opener(self._transcript, at=self._moved_to)
                except ConnectionFailed:
                    self._unanswered += 1
                except DeviceError:
                    return  # It answers.
                else:
                    await session.close()

        task = asyncio.create_task(probe())
        try:
            yield
        finally:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

    async def _reached_after_move(self) -> bool:
        """Whether the device answers at the address that the change has moved its management access to, and
        runs the change there.

        Its rollback is armed meanwhile, and takes place if this fails.
        """
        move, delivery = self.comparison.move, self._delivery
        if (
            move is None
            or move.to is None
            or delivery is None
            or delivery.is_session_bound
            or not delivery.rollback_method.is_autonomous
        ):
            return False
        if self.phase < Phase.APPLYING:
            return False
        self._note(f"the management address moves from {move.before} to {move.to}")
        lost_id = self._session.session_id if self._session is not None else ""
        await self._close()
        while self.timer_left_s > LEAST_LEFT_S:
            self._say(Stage.LOGGING_IN_AGAIN)
            try:
                self._session = await self._context.opener(self._transcript, at=self._moved_to, proving=True)
                self._delivery = self._delivery_over(self._session)
                if lost_id:
                    await self._delivery.release(lost_id)
                await self._prove()
            except ConnectionFailed:
                self._unanswered += 1
                await self._close()
                await self._context.clock.sleep(RETRY_S)
            except DeviceError as error:
                self._note(error.message)
                return False
            else:
                return True
        return False

    @property
    def _moved_to(self) -> ManagementAddress:
        """Where every later session will reach the device, once the change is confirmed."""
        move = self.comparison.move
        if move is not None and move.is_alternate:
            return ManagementAddress.ALTERNATE
        if (
            move is None
            and self._reached_at
            and self._reached_at == self.comparison.intent.device.management.previous
        ):
            return ManagementAddress.PREVIOUS
        return ManagementAddress.INVENTORY

    async def _prove(self) -> None:
        self._say(Stage.READING_AGAIN)
        self.running = running = await self._read_running(self._open_session())
        left = edits_between(self.comparison.intent, running, self.comparison.manner)
        if left:
            places = ", ".join(sorted({edit.rule.path for edit in left})[:3])
            message = f"the device accepted every line, but {len(left)} differences remain (at {places})"
            raise DeviceError(message, hint="the platform's grammar may not describe this device")
        await self._reached(Phase.APPLIED)
        self._expected = running
        self._say(Stage.APPLIED)

    def may_extend(self, needed_s: float) -> bool:
        """Whether the device's timer has, or soon has, less than `needed_s` seconds left, and `extend_timer`
        would restart it."""
        delivery, armed_at = self._delivery, self._armed_at
        if (
            armed_at is None
            or delivery is None
            or not self._is_extendable
            or not self.is_open
            or self.phase is not Phase.APPLIED
        ):
            return False
        if (
            self.timer_left_s >= needed_s + self._lead_s
            or self._context.clock.now() - armed_at > LONGEST_EXTENSION * self.timer_s
        ):
            return False
        return delivery.shows_pending or not self.comparison.access_risks

    @property
    def _lead_s(self) -> float:
        """How long before the time a timer is extended, so that the answer may take a while."""
        return self.timer_s * EXTENSION_LEAD

    async def extend_timer(self, needed_s: float) -> None:
        """Restart the device's revert timer before less than `needed_s` seconds of it are left, where the
        platform can.

        A change that may cut management access is extended only where the device shows that it still waits: a
        device that takes the extension for the confirmation would keep it. When it is refused, the former
        timer runs on; when contact is lost the transaction is `lost`.
        """
        delivery = self._delivery
        if delivery is None or not self.may_extend(needed_s):
            return
        began = self._context.clock.now()
        timer_s = max(self.timer_s, needed_s + self._lead_s)
        self._rolled_back_by_s = max(self._rolled_back_by_s, began + timer_s)
        try:
            await self._context.journal.step(
                "extending the timer", first=True, armed=now_text(), timer_s=float(timer_s)
            )
            # One that does not answer is lost before its own timer makes the wave give up others.
            async with asyncio.timeout(self._lead_s / 2):
                left_s = await delivery.extend(timer_s)
        except DeviceRefused as refused:
            self._note(f"the timer was not extended: {refused.message}")
            self._is_extendable = False
        except TimeoutError:
            reason = f"no answer within {self._lead_s / 2:.0f} s to the command that extends the timer"
            self.lost = self.lost or LossOfContact(Cause.FAILED, reason)
        except DeviceError as error:
            self.lost = self.lost or LossOfContact(Cause.FAILED, error.message, error.hint)
        else:
            if left_s is None:
                self._is_extendable = False
                return
            # A device that shows less than it was asked for rolls back then.
            self._rolls_back_from_s = began + left_s
            self._note(f"the device now waits {self.timer_left_s:.0f} s for the confirmation")
            self._context.on_event(TimerEvent(self.name, self.timer_left_s))

    async def check(self) -> list[CheckResult]:
        """The checks against the device as it is now; none when it is lost, or nothing was changed."""
        if not self.comparison.edits:
            return []
        try:
            self._after = await self._read_state()
            self._checked = len(self.checks)
            return evaluate(self.checks, self._after, self.hide)
        except DeviceError as error:
            self.lost = LossOfContact(Cause.FAILED, error.message, error.hint)
            return []

    def split_failures(self, results: Iterable[CheckResult]) -> tuple[list[CheckResult], list[CheckResult]]:
        """The failed checks this delivery has to answer for, and those it is excused from: they failed in the
        same way before, and rest on nothing that it changes."""
        counted: list[CheckResult] = []
        excused: list[CheckResult] = []
        for result in results:
            if not result.passed:
                (excused if self.is_excused(result) else counted).append(result)
        return counted, excused

    def is_excused(self, result: CheckResult) -> bool:
        """Whether a failed check failed in the same way before, and rests on nothing that this delivery
        changes."""
        if result.check.reading not in self._before:
            return False  # It was not measured.
        before = evaluate((result.check,), self._before, self.hide)[0]
        if before.passed or before.actual != result.actual:
            return False
        return not is_affected_by(result.check, self.comparison) or (
            before.actual is not None and changes_only_descriptions(result.check, self.comparison)
        )

    def touches(self, result: CheckResult) -> bool:
        """Whether this delivery changes what the check rests on, or may."""
        return is_affected_by(result.check, self.comparison)

    def keep(self, wave: Iterable[DeviceTransaction]) -> None:
        """Its wave was judged: whoever comes after this run confirms it, all of it."""
        DeviceJournal.step_together((one._context.journal for one in wave), "decided to keep", decision=KEEP)

    async def confirm(self, excused: Iterable[CheckResult]) -> None:
        """Keep and save the change."""
        excused = tuple(excused)
        if not self.comparison.edits:
            await self._reached(Phase.CONFIRMED)
            await self._save(self._open_session(), Cause.NONE)
            return
        try:
            if self.comparison.access_risks:
                # What may have cut the path is kept only when a session that begins now comes in.
                await self._log_in_again()
            self._say(Stage.CONFIRMING)
            now = await self._read_again(self._open_session())
            if self._concurrent_edits and edits_between(self.comparison.intent, now, self.comparison.manner):
                await self._end_with_conflict()
                return
            await self._reached(Phase.CONFIRMING)
            await self._delivery_over(self._open_session()).confirm()
        except DeviceError as error:
            self.lost = LossOfContact(Cause.FAILED, error.message, error.hint)
            return
        await self._reached(Phase.CONFIRMED)
        await self._save(self._open_session(), Cause.NONE, excused=excused)

    async def _end_with_conflict(self) -> None:
        """What the change is about is not what it was when it was checked: it is not confirmed."""
        scope = self.comparison.intent.scope
        if self.running is not None and not difference(
            scope.within(self.comparison.running), scope.within(self.running)
        ):
            # It runs the configuration from before the change, most likely because its own timer expired: no
            # other cause is known.
            reason = (
                "the device rolled back before Oast could confirm: the run took too long"
                f" ({self.comparison.rollback_method.name})"
            )
            hint, why = "give a longer --revert-timer", RollbackReason.TOO_SLOW
        else:
            reason = (
                "another session changed the same statements before Oast confirmed them"
                f" ({self._concurrent_edits_text})"
            )
            hint, why = "find out who else is editing the device", RollbackReason.FOREIGN_EDIT
        self._say(Stage.REVERTING)
        await self._context.journal.step("reverting", first=True, decision=REVERT)
        state = await self._cancelled(self._open_session())
        await self._end(state, Cause.FAILED, reason, hint, why=why)

    async def _log_in_again(self) -> None:
        self._say(Stage.LOGGING_IN_AGAIN)
        try:
            fresh = await self._context.opener(self._transcript, at=self._moved_to, proving=True)
        except (ConnectionFailed, AuthenticationFailed):
            self._unanswered += 1
            raise
        if self._delivery is not None and self._delivery.is_session_bound:
            await fresh.close()
            return
        await self._close()
        self._session = fresh

    async def revert(self, failed: Iterable[CheckResult], hint: str | None = None) -> None:
        """Roll the change back because of `failed` checks; `hint` says what to do about them."""
        failed = tuple(failed)
        self._say(Stage.REVERTING)
        await self._context.journal.step("reverting", first=True, decision=REVERT)
        reason = "; ".join(result.finding for result in failed)
        try:
            state = await self._cancelled(self._open_session())
        except DeviceError:
            self.lost = LossOfContact(Cause.CHECKS, reason, hint, failed, RollbackReason.CHECKS)
            return
        await self._end(state, Cause.CHECKS, reason, hint, failed=failed, why=RollbackReason.CHECKS)

    def fail_internally(self, error: Exception) -> None:
        """A fault of Oast in a step: the device is lost, to be recovered like one whose session is."""
        self._transcript.fault(error)
        fault = InternalDeviceError(error)
        if self.outcome is None and self.lost is None:
            self.lost = LossOfContact(Cause.FAILED, fault.message, fault.hint, why=RollbackReason.INTERNAL)

    async def roll_back_on_interrupt(self) -> None:
        """The run was interrupted: leave the device in a known state."""
        if self.outcome is None:
            self.lost = self.lost or LossOfContact(
                Cause.INTERRUPTED, "interrupted", why=RollbackReason.INTERRUPTED
            )
            await self.recover()
