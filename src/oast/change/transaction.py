"""The delivery to one device, as a transaction that goes through phases (see `Phase`).

What makes it safe: the phase is never behind what may have happened on the device; the way back is armed before the first
edit where the device has one of its own; and a state is only ever reported after the running configuration was read again.
A step that loses the device leaves it `lost`; `recover` is the one way out of that, and may take until the timer has gone off.
"""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Iterable
from contextlib import suppress
from datetime import datetime, timedelta

from oast.change.compare import Comparison, edits_between
from oast.change.hold import hold_s, may_depend
from oast.change.means import Lost, Means, Moved
from oast.change.outcome import Cause, Outcome, State
from oast.change.strategies import Delivery, Phase, Work, delivery_for
from oast.config.difference import difference
from oast.config.indented import tree_of_device
from oast.config.tree import Node
from oast.connect.session import Session
from oast.connect.transcript import Transcript
from oast.errors import AuthenticationFailed, ConnectionFailed, DeviceError, DeviceRefused, FaultWithDevice
from oast.fleet.events import DeviceEvent, Stage
from oast.readings.read import read
from oast.readings.tables import Readings
from oast.verify.checks import Check, CheckResult, evaluate

# After the timer has gone off a device may need a moment until it can be reached again.
RETURN_MARGIN_S = 20.0
RETRY_S = 1.0
# So long a device may take to notice that a session ends.
CLOSING_S = 10.0


class Transaction:
    """One device's delivery; the wave calls the steps, in the order of their definition, until there is an `outcome`.

    No step raises DeviceError: what fails is dealt with, or the transaction is `lost`.
    """

    def __init__(self, comparison: Comparison, checks: Iterable[Check], means: Means, session: Session | None = None) -> None:
        """`session` is one that was left open by comparing."""
        self.comparison = comparison
        self.checks = tuple(checks)
        self.phase = Phase.UNTOUCHED
        self.outcome: Outcome | None = None
        self.lost: Lost | None = None
        # What the device ran when it was last read, canonical.
        self.running: Node | None = None
        self.timer_s = means.timer_s
        self._means = means
        self._started = means.clock.now()
        self._transcript = Transcript(means.clock.now) if session is None else session.transcript
        self._session = session
        self._delivery: Delivery | None = None
        self._armed_at: float | None = None
        self._before: Readings = {}
        self._reached_in_time = False
        self._token = f"oast-{secrets.token_hex(8)}"

    @property
    def name(self) -> str:
        return self.comparison.name

    @property
    def timer_left_s(self) -> float:
        """How long the device waits for a confirmation, as far as Oast knows."""
        return self.timer_s if self._armed_at is None else self._armed_at + self.timer_s - self._means.clock.now()

    @property
    def hold_s(self) -> float:
        """How long the checks have to stay true."""
        return hold_s(self.comparison, self.checks)

    @property
    def is_open(self) -> bool:
        """Whether it goes on: neither ended nor lost."""
        return self.outcome is None and self.lost is None

    # --- the steps ------------------------------------------------------------------------------------------------

    async def prepare(self) -> None:
        """Everything that changes nothing: connect, read again, back up, take readings, make sure of the way back."""
        try:
            await self._prepare()
        except DeviceError as error:
            await self._end(State.UNCHANGED, Cause.FAILED, error.message, error.hint)

    async def _prepare(self) -> None:
        running_text = await self._connected()
        if tree_of_device(self._means.syntax, running_text) != self.comparison.running:
            raise Moved("the device has changed since it was compared: it was not touched", hint="look at the difference again")
        self._say(Stage.BACKING_UP)
        # On the disk before anything is touched; a slow disk holds up this device alone.
        await asyncio.to_thread(self._means.backup.write, running_text)
        self._before = await self._read_state()
        self._delivery = self._delivery_over(self._open_session())
        await self._delivery.look()
        await self._prove_way_back(self._delivery)
        self._say(Stage.PREPARED)

    async def _connected(self) -> str:
        """A session, and what the device runs now. One that was left open may have ended since: nothing was sent on it."""
        if self._session is not None:
            self._transcript.note("going on with the session in which it was compared")
            try:
                return await self._session.read_running()
            except ConnectionFailed:
                await self._close()
        self._say(Stage.CONNECTING)
        self._session = await self._means.opener(self._transcript)
        return await self._session.read_running()

    async def _prove_way_back(self, delivery: Delivery) -> None:
        """A change that may cut the path is not begun where nothing would bring the device back."""
        risks = self.comparison.risks
        if not risks or delivery.way_back.by_itself:
            return
        more = f" and {len(risks) - 1} more" if len(risks) > 1 else ""
        what = f"the change may cut the path to it: {risks[0]}{more}; and it has no way back of its own"
        if not self._means.opener.has_second:
            hint = "name a second way in for it in the inventory (second_way: ADDRESS), or make the change on its console"
            raise DeviceError(f"{what}: it was not touched", hint=hint)
        try:
            second = await self._means.opener(self._transcript, second=True)
        except DeviceError as error:
            raise DeviceError(f"{what}, and its second way in is not open ({error.message}): it was not touched") from None
        await second.close()
        self._transcript.note("the second way in is open")

    async def load(self) -> None:
        """Bring the change into effect, and read it again."""
        if not self.is_open or self._delivery is None:
            return
        try:
            self._say(Stage.STAGING)
            await self._delivery.stage()
            await self._delivery.validate()
            self._say(Stage.APPLYING, 0)
            # From here on the device may be armed, even if its answer is lost.
            self._armed_at = self._means.clock.now()
            self._transcript.note(f"unless confirmed, it goes back by {self._delivery.way_back.name}")
            await self._delivery.apply(self.timer_s)
            await self._prove()
        except DeviceRefused as refused:
            await self._refused(refused)
        except DeviceError as error:
            self.lost = Lost(Cause.FAILED, error.message, error.hint)

    async def _prove(self) -> None:
        self._say(Stage.READING_AGAIN)
        self.running = running = await self._read_running(self._open_session())
        left = edits_between(self.comparison.intent, running, self.comparison.manner)
        if left:
            places = ", ".join(sorted({edit.rule.path for edit in left})[:3])
            message = f"the device took every line, but {len(left)} differences are left (at {places})"
            raise DeviceError(message, hint="the platform's grammar may not describe this device")
        self.phase = Phase.APPLIED
        self._say(Stage.APPLIED)

    def hide(self, text: str) -> str:
        """`text` from this device without the secrets that were sent to it."""
        return self._transcript.masking.hide(text)

    async def check(self) -> list[CheckResult]:
        """The checks against the device as it is now; none when it is lost."""
        try:
            return evaluate(self.checks, await self._read_state(), self.hide)
        except DeviceError as error:
            self.lost = Lost(Cause.FAILED, error.message, error.hint)
            return []

    def to_answer_for(self, results: Iterable[CheckResult]) -> tuple[list[CheckResult], list[CheckResult]]:
        """The failed checks this delivery has to answer for, and those it is excused from: they failed in the same way
        before, and rest on nothing that it changes."""
        counted: list[CheckResult] = []
        excused: list[CheckResult] = []
        for result in results:
            if not result.passed:
                (excused if self.is_excused(result) else counted).append(result)
        return counted, excused

    def is_excused(self, result: CheckResult) -> bool:
        """Whether a failed check failed in the same way before, and rests on nothing that this delivery changes."""
        if result.check.reading not in self._before:
            return False  # It was not measured.
        before = evaluate((result.check,), self._before, self.hide)[0]
        return not before.passed and before.actual == result.actual and not may_depend(result.check, self.comparison)

    def touches(self, result: CheckResult) -> bool:
        """Whether this delivery changes what the check rests on, or may."""
        return may_depend(result.check, self.comparison)

    async def confirm(self, excused: Iterable[CheckResult]) -> None:
        """Keep and save the change."""
        excused = tuple(excused)
        try:
            if self.comparison.risks:
                # What may have cut the path is kept only when a session that begins now comes in.
                await self._log_in_again()
            self._say(Stage.CONFIRMING)
            self.phase = Phase.CONFIRMING
            await self._delivery_over(self._open_session()).confirm()
        except DeviceError as error:
            self.lost = Lost(Cause.FAILED, error.message, error.hint)
            return
        self.phase = Phase.CONFIRMED
        await self._save(self._open_session(), Cause.NONE, excused=excused)

    async def _log_in_again(self) -> None:
        self._say(Stage.LOGGING_IN_AGAIN)
        fresh = await self._means.opener(self._transcript, proving=True)
        if self._delivery is not None and self._delivery.tied:
            await fresh.close()
            return
        await self._close()
        self._session = fresh

    async def _save(self, session: Session, cause: Cause, *, excused: tuple[CheckResult, ...] = ()) -> None:
        self._say(Stage.SAVING)
        try:
            await self._delivery_over(session).save()
        except DeviceError as error:
            await self._unsaved(Cause.FAILED, error)
            return
        await self._end(State.DELIVERED, cause, excused=excused)

    async def _unsaved(self, cause: Cause, error: DeviceError) -> None:
        reason = f"it runs the change, but startup may not be saved: {error.message}"
        await self._end(State.DELIVERED, cause, reason, "look at it, and save it on the device: it might start with the old configuration")

    async def revert(self, failed: Iterable[CheckResult]) -> None:
        """Take the change back because of `failed` checks."""
        failed = tuple(failed)
        self._say(Stage.REVERTING)
        reason = "; ".join(result.finding for result in failed)
        try:
            state = await self._cancelled(self._open_session())
        except DeviceError:
            self.lost = Lost(Cause.CHECKS, reason, failed=failed)
            return
        await self._end(state, Cause.CHECKS, reason, failed=failed)

    def broke(self, error: Exception) -> None:
        """A fault of Oast in a step: the device is lost, to be recovered like one whose session is."""
        self._transcript.fault(error)
        fault = FaultWithDevice(error)
        if self.outcome is None and self.lost is None:
            self.lost = Lost(Cause.FAILED, fault.message, fault.hint)

    async def abandon(self) -> None:
        """The run was interrupted: leave the device in a known state."""
        if self.outcome is None:
            self.lost = self.lost or Lost(Cause.INTERRUPTED, "interrupted")
            await self.recover()

    async def leave(self) -> None:
        """Whoever runs this does not wait any longer: the device is left to its own way back, and that is said."""
        if self.outcome is not None:
            return
        if self.phase is Phase.UNTOUCHED:
            await self._end(State.UNCHANGED, Cause.INTERRUPTED, "interrupted before anything was sent to it")
            return
        way_back = self.comparison.way_back
        until = datetime.now().astimezone() + timedelta(seconds=max(0.0, self.timer_left_s))
        if self.phase is Phase.CONFIRMED:
            reason = "interrupted when it was confirmed and not yet saved: it runs the change, and may start with the old configuration"
        elif self.phase is Phase.CONFIRMING:
            reason = f"interrupted while it was being confirmed: by {until:%H:%M:%S} it has gone back by {way_back.name}, or it stays"
        elif way_back.by_itself:
            reason = f"interrupted, and left to {way_back.name}: by {until:%H:%M:%S} it has gone back"
        else:
            reason = "interrupted, and it has no way back of its own: it may run a part of the change"
        await self._end(State.UNKNOWN, Cause.INTERRUPTED, reason, "then look at it with: oast diff")

    # --- ways out -------------------------------------------------------------------------------------------------

    async def _refused(self, refused: DeviceRefused) -> None:
        """The device refused a line: take back at once what went before it, on the same session."""
        message = refused.message
        commands = self.comparison.commands
        if refused.number is not None and refused.number < len(commands):
            place = self.comparison.intent.place_of(commands[refused.number].path)
            message = f"{message} ({place})" if place else message
        if self.phase is Phase.UNTOUCHED:
            await self._end(State.UNCHANGED, Cause.FAILED, message, refused.hint)
            return
        self._say(Stage.REVERTING)
        try:
            state = await self._cancelled(self._open_session())
        except DeviceError:
            self.lost = Lost(Cause.FAILED, message)
            return
        await self._end(state, Cause.FAILED, message, refused.hint)

    async def _cancelled(self, session: Session) -> State:
        """Go back over `session`, and what the device runs then."""
        try:
            await self._delivery_over(session).cancel(self.phase)
        except DeviceRefused:
            pass  # There may be nothing to go back from; reading again tells.
        return await self._state_now(session)

    async def recover(self) -> None:
        """Find out, and where needed bring about, the state of a device that is `lost`.

        Where the device goes back by itself, tries until some time after that must have happened: a device that can only be
        reached again then was cut off by the change. Where it does not, tries as long, by every way in there is.
        """
        if self.lost is None:
            return
        lost = self.lost
        await self._close()
        if self.phase is Phase.CONFIRMED:
            await self._save_anew(lost.cause)
            return
        if self.phase is Phase.UNTOUCHED:
            await self._end(State.UNCHANGED, lost.cause, lost.reason, lost.hint)
            return
        self._say(Stage.LOST if lost.cause is not Cause.INTERRUPTED else Stage.REVERTING)
        clock = self._means.clock
        gone_off = clock.now() if self._armed_at is None else self._armed_at + self.timer_s
        # However late it is: a device that answers is asked.
        deadline = max(gone_off, clock.now()) + RETURN_MARGIN_S
        last = "it was not tried again"
        second = False
        while clock.now() < deadline:
            try:
                state, by_itself = await self._settle(second=second)
            except AuthenticationFailed as error:
                last = error.message
            except DeviceError as error:
                last = error.message
            except Exception as error:  # whatever is wrong here, the device is asked until it must have gone back
                self._transcript.fault(error)
                last = FaultWithDevice(error).message
            else:
                await self._settled(state, lost, by_itself=by_itself)
                return
            second = self._means.opener.has_second and not second
            netconf = self.comparison.intent.platform.netconf
            # A device that is asked all the time may not come to going back.
            await clock.sleep(RETRY_S if netconf is None else max(RETRY_S, netconf.poll_s))
        reason = f"{lost.reason}; it cannot be reached to find out ({last})"
        await self._end(State.UNKNOWN, lost.cause, reason, self.comparison.way_back.if_silent)

    async def _settled(self, state: State, lost: Lost, *, by_itself: bool) -> None:
        cause, reason = lost.cause, lost.reason
        if state is State.DELIVERED:
            await self._end(state, Cause.NONE if cause is not Cause.INTERRUPTED else cause)
            return
        if state is State.REVERTED and by_itself and cause is Cause.FAILED:
            cause = Cause.CHECKS
            reason = f"the change cut the path to the device ({reason}); {self.comparison.way_back.name} brought it back"
        if state is State.UNKNOWN:
            reason = f"{reason}; it now runs neither what it ran before nor what was intended"
        await self._end(state, cause, reason, lost.hint, failed=lost.failed)

    async def _save_anew(self, cause: Cause) -> None:
        """The change is confirmed, and only saving it was cut short."""
        try:
            self._session = await self._means.opener(self._transcript)
        except DeviceError as error:
            await self._unsaved(cause, error)
            return
        await self._save(self._session, cause)

    async def _settle(self, *, second: bool) -> tuple[State, bool]:
        """One try: connect, read, and then go back, or complete a confirmation that was under way.

        Also whether the device had gone back by itself by the time it could be reached again.
        """
        session = await self._means.opener(self._transcript, second=second)
        way_back = self.comparison.way_back
        self._reached_in_time = self._reached_in_time or self.timer_left_s > 0
        try:
            state = await self._state_now(session)
            by_itself = way_back.by_itself and state is State.REVERTED and not self._reached_in_time
            if way_back.by_itself and state is State.REVERTED and self.timer_left_s < 0:
                pass  # What its timer has brought back needs no word of ours.
            elif not by_itself and state is State.DELIVERED:
                await self._confirmed_anew(self._delivery_over(session))
                state = await self._state_now(session)
            elif not by_itself:
                state = await self._cancelled(session)
            if state is State.DELIVERED:
                await self._delivery_over(session).save()
        finally:
            await session.close()
        return state, by_itself

    async def _confirmed_anew(self, delivery: Delivery) -> None:
        """Complete a confirmation that was cut short. Raises DeviceError while it is open whether the change stays."""
        if delivery.tied and self.timer_left_s < 0:
            return  # Nobody could confirm it any more, and it is still there after its time.
        try:
            await delivery.confirm()
        except DeviceRefused:
            pass  # The timer is not armed any more; what is running now tells why.

    async def _state_now(self, session: Session) -> State:
        """What the device runs, read again: in what the sections own, what it ran before, or what was intended."""
        self.running = running = await self._read_running(session)
        scope = self.comparison.intent.scope
        before = self.comparison.running
        if running == before or not difference(scope.within(before), scope.within(running)):
            return State.REVERTED if self.phase >= Phase.APPLYING else State.UNCHANGED
        if not edits_between(self.comparison.intent, running, self.comparison.manner) and self.phase >= Phase.CONFIRMING:
            return State.DELIVERED
        return State.UNKNOWN

    # --- small parts ----------------------------------------------------------------------------------------------

    def _delivery_over(self, session: Session) -> Delivery:
        return delivery_for(session, Work(self.comparison, self._means.syntax, self._reached, self._sent, self._token, self._fell_back))

    def _reached(self, phase: Phase) -> None:
        self.phase = max(self.phase, phase)

    def _fell_back(self, phase: Phase) -> None:
        self.phase = phase

    def _sent(self, number: int) -> None:
        self._say(Stage.APPLYING, number)

    async def _read_running(self, session: Session) -> Node:
        return tree_of_device(self._means.syntax, await session.read_running())

    async def _read_state(self) -> Readings:
        names = sorted({check.reading for check in self.checks})
        return await read(self._open_session(), self.comparison.intent.platform, names)

    def _open_session(self) -> Session:
        if self._session is None:
            raise ConnectionFailed("there is no session with the device")
        return self._session

    def say(self, stage: Stage) -> None:
        """Tell whoever watches where the device stands."""
        self._means.on_event(DeviceEvent(self.name, stage))

    def _say(self, stage: Stage, done: int = 0) -> None:
        total = len(self.comparison.commands) if stage is Stage.APPLYING else 0
        if not done:
            self._transcript.note(str(stage))
        self._means.on_event(DeviceEvent(self.name, stage, done, total))

    async def _close(self) -> None:
        session, self._session = self._session, None
        if session is not None:
            with suppress(TimeoutError):
                async with asyncio.timeout(CLOSING_S):
                    await session.close()

    async def _end(
        self,
        state: State,
        cause: Cause,
        reason: str | None = None,
        hint: str | None = None,
        *,
        failed: tuple[CheckResult, ...] = (),
        excused: tuple[CheckResult, ...] = (),
    ) -> None:
        self.phase = Phase.ENDED
        # It may hold what the device said.
        reason = self.hide(reason) if reason else reason
        self._transcript.note(f"{state}: {reason}" if reason else str(state))
        self.outcome = Outcome(
            device=self.name,
            state=state,
            cause=cause,
            counts=self.comparison.counts,
            seconds=self._means.clock.now() - self._started,
            reason=reason,
            hint=hint,
            failed_checks=failed,
            excused_checks=excused,
            log=str(self._means.log),
            way_back=self.comparison.way_back,
            saved_besides=len(self.comparison.unsaved) if state is State.DELIVERED else 0,
        )
        self._means.on_event(DeviceEvent(self.name, Stage(str(state))))
        await self._close()
        try:
            self._transcript.write(self._means.log)
        except OSError:
            pass  # A full disk here must not turn a known state into an unknown one.
