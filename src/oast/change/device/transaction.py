"""The delivery to one device, as a transaction that goes through phases (see `Phase`).

Three rules make it safe. The phase is never behind what may have happened on the device. The device's revert
timer or confirmed commit, where it has one, is armed before the first edit. A state is only reported after
the running configuration was read again. A step that loses the device sets `lost`; only `recover` leads on
from there, and it may take until the revert timer has expired.
"""

from __future__ import annotations

import asyncio
import logging
import secrets
from collections.abc import AsyncIterator, Iterable
from contextlib import asynccontextmanager

from oast.change import Cause, Outcome, Phase, RollbackReason, State
from oast.change.device.context import (
    DeviceChangedSinceDiff,
    LossOfContact,
    ManagementAddress,
    TransactionContext,
)
from oast.change.device.pre_post_state import PrePostState
from oast.change.device.rollback_recovery import RETRY_S, RollbackRecovery, edits_text
from oast.change.methods import ChangeRequest, DeliveryMethod, method_for
from oast.change.plan import (
    Comparison,
    access_risks,
    edits_between,
    interface_by_reading,
    management_interfaces,
)
from oast.change.record import KEEP, REVERT, DeviceJournal, now_text
from oast.change.rollout import changes_only_descriptions, is_affected_by, stable_for_s
from oast.config import Edit, Node, difference, read_tree
from oast.connect import Session, Transcript, close_sessions
from oast.errors import (
    AuthenticationFailed,
    ConnectionFailed,
    DeviceError,
    DeviceRefused,
    InternalDeviceError,
    ProtocolError,
)
from oast.fleet import DeviceEvent, Stage, TimerEvent, WaitEvent
from oast.readings import Readings, read_readings
from oast.verify import Check, CheckResult, evaluate

_log = logging.getLogger(__name__)

# A device may take this long to notice that a session ends.
CLOSING_S = 10.0
# Another attempt to reach a device whose management address moves needs at least this much of the timer, in
# seconds.
LEAST_LEFT_S = 3.0
# A wave may keep a device unconfirmed for this many times its first timer; then what delays the others is
# given up.
LONGEST_EXTENSION = 3
# A timer is extended this part of its time before it would be too short.
EXTENSION_LEAD = 0.25
# New sessions that are tried at most within one revert timer, while the device does not answer.
PROBES = 5


class DeviceTransaction:
    """One device's delivery. The wave calls the steps, in the order of their definition, until there is an
    `outcome`.

    No step raises DeviceError: a failure is dealt with, or the transaction is `lost`.
    """

    def __init__(
        self,
        comparison: Comparison,
        checks: Iterable[Check],
        context: TransactionContext,
        session: Session | None = None,
    ) -> None:
        """`session` is one that was left open by comparing."""
        self.comparison = comparison
        self.checks = tuple(checks)
        self.phase = Phase.UNTOUCHED
        self.outcome: Outcome | None = None
        self.lost: LossOfContact | None = None
        # What the device ran when it was last read, canonical.
        self.running: Node | None = None
        self.timer_s = context.timer_s
        self.context = context
        self._started = context.clock.now()
        self.transcript = (
            Transcript(context.clock.now, comparison.name) if session is None else session.transcript
        )
        self.session = session
        self._delivery: DeliveryMethod | None = None
        self.armed_at: float | None = None
        # By the clock: when the device rolls back at the earliest, as far as is proved, and when it has done
        # so at the latest.
        self._rolls_back_from_s = 0.0
        self.rolled_back_by_s = 0.0
        self._is_extendable = True
        self._before: Readings = {}
        self._after: Readings = {}
        self._checked = 0
        # New sessions that were refused or not answered while the change may have been active.
        self.unanswered = 0
        # Its failed checks that cannot pass before others are delivered, with those devices.
        self.deferred: list[tuple[Check, frozenset[str]]] = []
        # What the device ran once the change was applied, and what another session has edited since.
        self.expected: Node | None = None
        self.concurrent_edits: tuple[Edit, ...] = ()
        self._listed: tuple[str, Node] | None = None
        # The address at which the device was reached first.
        self._reached_at = ""
        self._token = f"oast-{secrets.token_hex(8)}"
        self.recovery = RollbackRecovery(self)

    @property
    def name(self) -> str:
        return self.comparison.name

    @property
    def listed(self) -> str | None:
        """What it has listed last as running, since something was sent to it."""
        return self._listed[0] if self._listed is not None else None

    @property
    def pre_post_state(self) -> PrePostState:
        """What was read of it before the change and after."""
        return PrePostState(self._before, self._after, self._checked, self.hide)

    @property
    def timer_left_s(self) -> float:
        """How long the device waits for a confirmation at least, in seconds."""
        return self.timer_s if self.armed_at is None else self._rolls_back_from_s - self.context.clock.now()

    @property
    def rollback_due_s(self) -> float:
        """The seconds until a device that was not confirmed has rolled back. Longer than `timer_left_s` where
        extending the timer failed in a way that leaves open whether the device did it."""
        return self.timer_s if self.armed_at is None else self.rolled_back_by_s - self.context.clock.now()

    def _armed(self, at: float) -> None:
        """The timer of the device began at `at`, by the clock."""
        self.armed_at = at
        self._rolls_back_from_s = self.rolled_back_by_s = at + self.timer_s

    @property
    def stable_for_s(self) -> float:
        """How long the checks have to stay true."""
        return stable_for_s(self.comparison, self.checks)

    @property
    def is_open(self) -> bool:
        """Whether it goes on: neither ended nor lost."""
        return self.outcome is None and self.lost is None

    def hide(self, text: str) -> str:
        """`text` from this device without the secrets that were sent to it."""
        return self.transcript.masking.hide(text)

    def delivery_over(self, session: Session) -> DeliveryMethod:
        return method_for(
            session,
            ChangeRequest(
                self.comparison, self.context.syntax, self._reached, self._sent, self._token, self._fell_back
            ),
        )

    async def _reached(self, phase: Phase) -> None:
        """Nothing is sent that makes the phase possible before this has returned. Raises DeviceError when
        that cannot be written down and nothing of the change is in effect yet."""
        self.phase = max(self.phase, phase)
        _log.debug("%s: phase %s", self.name, phase.name.lower())
        before = phase in (Phase.STAGED, Phase.APPLYING, Phase.CONFIRMING)
        await self.context.journal.step(
            phase.name.lower(), first=before, must=phase <= Phase.APPLYING, phase=int(self.phase)
        )

    async def _fell_back(self, phase: Phase) -> None:
        self.phase = phase
        await self.context.journal.step(f"refused, and back at {phase.name.lower()}", phase=int(phase))

    def _sent(self, number: int) -> None:
        self.enter_stage(Stage.APPLYING, number)

    async def _list(self, session: Session) -> str:
        """What is changed, as the device lists it: what it runs, or what it starts with."""
        return await (
            session.read_startup() if self.comparison.manner.into_startup else session.read_running()
        )

    async def read_running(self, session: Session) -> Node:
        text = await self._list(session)
        if self._listed is None or self._listed[0] != text:
            self._listed = text, await read_tree(self.context.syntax, text)
        return self._listed[1]

    async def read_again(self, session: Session) -> Node:
        """Read the running configuration again. Differences from the state after applying are edits of
        another session."""
        self.running = running = await self.read_running(session)
        if self.expected is not None:
            self.concurrent_edits = (
                () if running is self.expected else tuple(difference(self.expected, running))
            )
        return running

    @property
    def concurrent_edits_text(self) -> str:
        """Return the edits of other sessions as text."""
        return edits_text(self.concurrent_edits)

    async def _read_state(self) -> Readings:
        names = sorted({check.reading for check in self.checks})
        return await read_readings(self.require_session(), self.comparison.intent.platform, names)

    def note(self, text: str) -> None:
        """Note a decision in the transcript and in the debug log."""
        self.transcript.note(text, _log)

    def require_session(self) -> Session:
        if self.session is None:
            raise ConnectionFailed("no session with the device")
        return self.session

    def say(self, stage: Stage) -> None:
        """Report the stage of this device to the progress display."""
        self.context.on_event(DeviceEvent(self.name, stage))

    def say_waiting(self, what: str, seconds: float) -> None:
        """Report to the progress display that the run waits, and for how long at most."""
        self.context.on_event(WaitEvent(what, seconds))

    def enter_stage(self, stage: Stage, done: int = 0) -> None:
        total = len(self.comparison.commands) if stage is Stage.APPLYING else 0
        if not done:
            self.note(str(stage))
        self.context.on_event(DeviceEvent(self.name, stage, done, total))

    async def close_session(self) -> None:
        session, self.session = self.session, None
        if session is not None:
            await close_sessions([session], CLOSING_S)

    def new_outcome(
        self,
        state: State,
        cause: Cause,
        reason: str | None = None,
        hint: str | None = None,
        *,
        failed: tuple[CheckResult, ...] = (),
        excused: tuple[CheckResult, ...] = (),
        why: RollbackReason | None = None,
    ) -> Outcome:
        return Outcome(
            device=self.name,
            state=state,
            cause=cause,
            counts=self.comparison.counts,
            seconds=self.context.clock.now() - self._started,
            reason=reason,
            hint=hint,
            failed_checks=failed,
            excused_checks=excused,
            log=str(self.context.log),
            rollback_method=self.comparison.rollback_method,
            also_saved=len(self.comparison.unsaved) if state is State.DELIVERED else 0,
            why=None if state is State.DELIVERED and cause is Cause.NONE else why,
        )

    async def end(
        self,
        state: State,
        cause: Cause,
        reason: str | None = None,
        hint: str | None = None,
        *,
        failed: tuple[CheckResult, ...] = (),
        excused: tuple[CheckResult, ...] = (),
        why: RollbackReason | None = None,
    ) -> None:
        came_to, self.phase = self.phase, Phase.ENDED
        # The notes may hold what the device said.
        reason = "; ".join(note for note in (reason, *self.recovery.notes(state)) if note) or None
        reason = self.hide(reason) if reason else reason
        self.note(f"{state.shown}: {reason}" if reason else state.shown)
        self.outcome = self.new_outcome(state, cause, reason, hint, failed=failed, excused=excused, why=why)
        self.comparison.listed.release()
        await self.context.journal.ended(self.outcome, came_to, asked=self.recovery.state_was_read)
        self.context.on_event(DeviceEvent(self.name, Stage(state.shown)))
        await self.close_session()
        try:
            self.transcript.write(self.context.log)
        except OSError:
            pass  # A full disk here must not turn a known state into an unknown one.

    async def prepare(self) -> None:
        """Everything that changes nothing: connect, read again, back up, take readings, make sure of the way
        back."""
        try:
            await self._prepare()
        except DeviceError as error:
            await self.end(State.UNCHANGED, Cause.FAILED, error.message, error.hint)

    async def _prepare(self) -> None:
        running_text = await self._connected()
        compared = await self.comparison.listed.load()
        if (
            running_text != self.comparison.running_text
            and await read_tree(self.context.syntax, running_text) != compared
        ):
            raise DeviceChangedSinceDiff(
                "the device has changed since the comparison; nothing was sent to it",
                hint="compare again and review the difference",
            )
        self.enter_stage(Stage.BACKING_UP)
        # On the disk before anything is touched; a slow disk holds up this device alone.
        await asyncio.to_thread(self.context.backup.write, running_text)
        self._before = await self._read_state()
        self._delivery = self.delivery_over(self.require_session())
        await self._delivery.check_nothing_pending()
        await self._prove_rollback_method(self._delivery)
        await self.context.journal.step("prepared", token=self._token)
        self.enter_stage(Stage.PREPARED)

    async def _connected(self) -> str:
        """A session, and what the device runs now. One that was left open may have ended since: nothing was
        sent on it."""
        if self.session is not None:
            self.note("continuing in the session of the comparison")
            self._reached_at = self.session.reached_at
            try:
                return await self._list(self.session)
            except ConnectionFailed:
                await self.close_session()
        self.enter_stage(Stage.CONNECTING)
        self.session = await self.context.opener(self.transcript)
        self._reached_at = self.session.reached_at
        return await self._list(self.session)

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
        if not self.context.opener.has_alternate:
            hint = (
                "add an alternate management address to the inventory (alternate_address: ADDRESS), or"
                " change it on the console"
            )
            raise DeviceError(f"{what}; nothing was sent to it", hint=hint)
        try:
            alternate = await self.context.opener(
                self.transcript, at=ManagementAddress.ALTERNATE, proving=True
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
        self.note("the alternate management address answers, on an interface that the change does not affect")

    async def _require_untouched(self, alternate: Session, what: str) -> None:
        """Prove that the change cannot cut the session at the alternate management address. Raises
        DeviceError."""
        intent, running = self.comparison.intent, self.comparison.running
        opener = self.context.opener
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
            self.expected = self.comparison.running
            return
        try:
            self.enter_stage(Stage.STAGING)
            await self._delivery.stage()
            await self._delivery.validate()
            self.enter_stage(Stage.APPLYING, 0)
            # From here on the device may be armed, even if its answer is lost.
            self._armed(self.context.clock.now())
            await self.context.journal.step("arming", armed=now_text(), timer_s=float(self.timer_s))
            self.context.on_event(TimerEvent(self.name, self.timer_s))
            self.note(f"unless confirmed, the device rolls back ({self._delivery.rollback_method.name})")
            async with self._probing():
                await self._delivery.apply(self.timer_s)
                await self._prove()
        except DeviceRefused as refused:
            await self.recovery.roll_back_after_refusal(refused)
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
                await self.context.clock.sleep(self.timer_s / PROBES)
                try:
                    session = await self.context.opener(self.transcript, at=self._moved_to)
                except ConnectionFailed:
                    self.unanswered += 1
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
        """Return whether the device answers at the new management address, and runs the change there.

        Its rollback is armed in the meantime, and takes place if this fails.
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
        self.note(f"the management address moves from {move.before} to {move.to}")
        lost_id = self.session.session_id if self.session is not None else ""
        await self.close_session()
        while self.timer_left_s > LEAST_LEFT_S:
            self.enter_stage(Stage.LOGGING_IN_AGAIN)
            try:
                self.session = await self.context.opener(self.transcript, at=self._moved_to, proving=True)
                self._delivery = self.delivery_over(self.session)
                if lost_id:
                    await self._delivery.release(lost_id)
                await self._prove()
            except ConnectionFailed:
                self.unanswered += 1
                await self.close_session()
                await self.context.clock.sleep(RETRY_S)
            except DeviceError as error:
                self.note(error.message)
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
        self.enter_stage(Stage.READING_AGAIN)
        self.running = running = await self.read_running(self.require_session())
        left = edits_between(self.comparison.intent, running, self.comparison.manner)
        if left:
            places = ", ".join(sorted({edit.rule.path for edit in left})[:3])
            number = "1 difference remains" if len(left) == 1 else f"{len(left)} differences remain"
            message = f"the device accepted every line, but {number} (at {places})"
            raise DeviceError(message, hint="the platform's grammar may not describe this device")
        await self._reached(Phase.APPLIED)
        self.expected = running
        self.enter_stage(Stage.APPLIED)

    def may_extend(self, needed_s: float) -> bool:
        """Whether the device's timer has, or soon has, less than `needed_s` seconds left, and `extend_timer`
        would restart it."""
        delivery, armed_at = self._delivery, self.armed_at
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
            or self.context.clock.now() - armed_at > LONGEST_EXTENSION * self.timer_s
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
        began = self.context.clock.now()
        timer_s = max(self.timer_s, needed_s + self._lead_s)
        self.rolled_back_by_s = max(self.rolled_back_by_s, began + timer_s)
        try:
            await self.context.journal.step(
                "extending the timer", first=True, armed=now_text(), timer_s=float(timer_s)
            )
            # One that does not answer is lost before its own timer makes the wave give up others.
            async with asyncio.timeout(self._lead_s / 2):
                left_s = await delivery.extend(timer_s)
        except DeviceRefused as refused:
            self.note(f"the timer was not extended: {refused.message}")
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
            self.note(f"the device now waits {self.timer_left_s:.0f} s for the confirmation")
            self.context.on_event(TimerEvent(self.name, self.timer_left_s))

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
        """Record that the wave passed: a later run confirms all of its devices."""
        DeviceJournal.step_together((one.context.journal for one in wave), "decided to keep", decision=KEEP)

    async def confirm(self, excused: Iterable[CheckResult]) -> None:
        """Keep and save the change."""
        excused = tuple(excused)
        if not self.comparison.edits:
            await self._reached(Phase.CONFIRMED)
            await self.save(self.require_session(), Cause.NONE)
            return
        try:
            if self.comparison.access_risks:
                # What may have cut the path is kept only when a session that begins now comes in.
                await self._log_in_again()
            self.enter_stage(Stage.CONFIRMING)
            now = await self.read_again(self.require_session())
            if self.concurrent_edits and edits_between(self.comparison.intent, now, self.comparison.manner):
                await self._end_with_conflict()
                return
            await self._reached(Phase.CONFIRMING)
            await self.delivery_over(self.require_session()).confirm()
        except DeviceError as error:
            self.lost = LossOfContact(Cause.FAILED, error.message, error.hint)
            return
        await self._reached(Phase.CONFIRMED)
        await self.save(self.require_session(), Cause.NONE, excused=excused)

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
                f" ({self.concurrent_edits_text})"
            )
            hint, why = "find out who else is editing the device", RollbackReason.FOREIGN_EDIT
        self.enter_stage(Stage.REVERTING)
        await self.context.journal.step("rolling back", first=True, decision=REVERT)
        state = await self.recovery.roll_back(self.require_session())
        await self.end(state, Cause.FAILED, reason, hint, why=why)

    async def _log_in_again(self) -> None:
        self.enter_stage(Stage.LOGGING_IN_AGAIN)
        try:
            fresh = await self.context.opener(self.transcript, at=self._moved_to, proving=True)
        except (ConnectionFailed, AuthenticationFailed):
            self.unanswered += 1
            raise
        if self._delivery is not None and self._delivery.is_session_bound:
            await fresh.close()
            return
        await self.close_session()
        self.session = fresh

    async def revert(self, failed: Iterable[CheckResult], hint: str | None = None) -> None:
        """Roll the change back because of `failed` checks; `hint` says what to do about them."""
        failed = tuple(failed)
        self.enter_stage(Stage.REVERTING)
        await self.context.journal.step("rolling back", first=True, decision=REVERT)
        reason = "; ".join(result.finding for result in failed)
        try:
            state = await self.recovery.roll_back(self.require_session())
        except DeviceError:
            self.lost = LossOfContact(Cause.CHECKS, reason, hint, failed, RollbackReason.CHECKS)
            return
        await self.end(state, Cause.CHECKS, reason, hint, failed=failed, why=RollbackReason.CHECKS)

    def fail_internally(self, error: Exception) -> None:
        """Record an internal error in a step: the device is recovered like one whose session was lost."""
        self.transcript.fault(error)
        fault = InternalDeviceError(error)
        if self.outcome is None and self.lost is None:
            self.lost = LossOfContact(Cause.FAILED, fault.message, fault.hint, why=RollbackReason.INTERNAL)

    async def recover(self) -> None:
        """Find out the state of a device that is `lost`, and roll it back where needed."""
        await self.recovery.recover()

    async def leave(self) -> None:
        """Stop waiting: leave the device to its own rollback, and report that."""
        await self.recovery.leave()

    def outcome_if_interrupted(self) -> Outcome:
        """Return the outcome or, while the transaction has none, what is known if this process ends now."""
        return self.recovery.outcome_if_interrupted()

    async def roll_back_on_interrupt(self) -> None:
        """The run was interrupted: leave the device in a known state."""
        if self.outcome is None:
            self.lost = self.lost or LossOfContact(
                Cause.INTERRUPTED, "interrupted", why=RollbackReason.INTERRUPTED
            )
            await self.recover()

    async def save(self, session: Session, cause: Cause, *, excused: tuple[CheckResult, ...] = ()) -> None:
        self.enter_stage(Stage.SAVING)
        await self.context.journal.step("saving")
        try:
            now = await self.read_again(session)
            if (self.concurrent_edits or self.expected is None) and edits_between(
                self.comparison.intent, now, self.comparison.manner
            ):
                raise ProtocolError("after saving, the startup configuration differs from what was confirmed")
            if self.concurrent_edits:
                await self.end_unsaved_after_edits()
                return
            await self.delivery_over(session).save()
        except DeviceError as error:
            await self.end_unsaved(Cause.FAILED, error)
            return
        await self.end(State.DELIVERED, cause, excused=excused)

    async def end_unsaved_after_edits(self) -> None:
        """End without saving: edits of another session are not saved without consent, and so the change is
        not either."""
        reason = (
            "the change is active but not saved, because another session edited the device: "
            f"{self.concurrent_edits_text}"
        )
        if self.comparison.manner.into_startup:
            reason = (
                "the startup configuration has the change, and edits that another session saved: "
                f"{self.concurrent_edits_text}"
            )
        await self.end(
            State.DELIVERED,
            Cause.FAILED,
            reason,
            "review it with the next push, which saves it after your confirmation",
        )

    async def end_unsaved(self, cause: Cause, error: DeviceError) -> None:
        reason = f"the change is active, but startup may not be saved: {error.message}"
        await self.end(
            State.DELIVERED,
            cause,
            reason,
            "check the device and save its configuration there; otherwise it restarts with the old one",
        )
