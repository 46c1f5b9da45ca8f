"""The delivery to one device, as a transaction with a timer.

    unchanged --load--> loaded, timer running --confirm--> delivered
                              |--revert, or the timer--> reverted

What makes it safe: the timer is armed before the first edit, so from then on silence alone brings the device back; and a
state is only ever reported after the running configuration was read again. A step that loses the device leaves it `lost`;
`recover` is the one way out of that, and may take until the timer has gone off.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from oast.change.backup import Backup
from oast.change.compare import Comparison, edits_between
from oast.change.outcome import Cause, Outcome, State
from oast.config.indented import IndentedSyntax
from oast.config.tree import Node, canonical
from oast.connect.session import Session
from oast.connect.transcript import Transcript
from oast.errors import AuthenticationFailed, ConnectionFailed, DeviceError, DeviceRefused
from oast.readings.read import read
from oast.readings.tables import Readings
from oast.verify.checks import Check, CheckResult, evaluate

# After the timer has gone off a device may need a moment until it can be reached again.
RETURN_MARGIN_S = 20.0
RETRY_S = 0.5


class Opener(Protocol):
    """Opens a session to the transaction's device."""

    async def __call__(self, transcript: Transcript) -> Session: ...


class Moved(DeviceError):
    """The device has changed since it was compared: compare again."""


@dataclass(frozen=True)
class Lost:
    """Why a device's session is lost or out of step, so that its state is not known."""

    cause: Cause
    reason: str
    hint: str | None = None
    failed: tuple[CheckResult, ...] = ()


class Transaction:
    """One device's delivery; the wave calls the steps, in the order of their definition, until there is an `outcome`.

    No step raises DeviceError: what fails is dealt with, or the transaction is `lost`. `clock` gives seconds.
    """

    def __init__(
        self,
        comparison: Comparison,
        checks: Iterable[Check],
        syntax: IndentedSyntax,
        opener: Opener,
        backup: Backup,
        log: Path,
        revert_timer_s: float,
        progress: Callable[[str, str], None],
        clock: Callable[[], float],
    ) -> None:
        self.comparison = comparison
        self.checks = tuple(checks)
        self.outcome: Outcome | None = None
        self.lost: Lost | None = None
        # What the device ran when it was last read, canonical.
        self.running: Node | None = None
        self._syntax = syntax
        self._opener = opener
        self._backup = backup
        self._log = log
        self._timer_s = revert_timer_s
        self._progress = progress
        self._clock = clock
        self._started = clock()
        self._transcript = Transcript(clock)
        self._session: Session | None = None
        self._armed_at: float | None = None
        self._edited = False
        self._confirming = False
        self._confirmed = False
        self._reached_in_time = False
        self._before: Readings = {}

    @property
    def name(self) -> str:
        return self.comparison.name

    @property
    def timer_left_s(self) -> float:
        """How long the device waits for a confirmation, as far as Oast knows."""
        return self._timer_s if self._armed_at is None else self._armed_at + self._timer_s - self._clock()

    # --- the steps ------------------------------------------------------------------------------------------------

    async def load(self) -> None:
        """Everything up to the point where only the checks and the confirmation are missing."""
        try:
            await self._prepare()
            await self._edit()
            await self._prove()
        except DeviceRefused as refused:
            await self._refused(refused)
        except DeviceError as error:
            self.lost = Lost(Cause.FAILED, error.message, error.hint)

    async def _prepare(self) -> None:
        self._say("connecting")
        self._session = await self._opener(self._transcript)
        running_text = await self._session.read_running()
        if canonical(self._syntax.parse(running_text).tree) != self.comparison.running:
            raise Moved("the device has changed since it was compared: it was not touched", hint="look at the difference again")
        self._say("backing up")
        self._backup.write(running_text)
        self._before = await self._read_state()
        await self._session.gain_privilege()

    async def _edit(self) -> None:
        session = self._open_session()
        self._say("arming the timer")
        # From here on the device may be armed, even if its answer is lost.
        self._armed_at = self._clock()
        await session.begin(self._timer_s)
        commands = self.comparison.commands
        for number, command in enumerate(commands, 1):
            self._say(f"loading {number} of {len(commands)}")
            self._edited = True
            await session.send(command)
        await session.finish()

    async def _prove(self) -> None:
        self._say("reading again")
        self.running = running = canonical(self._syntax.parse(await self._open_session().read_running()).tree)
        left = edits_between(self.comparison.intent, running, self.comparison.mode)
        if left:
            places = ", ".join(sorted({edit.rule.path for edit in left})[:3])
            message = f"the device took every line, but {len(left)} differences are left (at {places})"
            raise DeviceError(message, hint="the platform's grammar may not describe this device")
        self._say("loaded")

    async def check(self) -> list[CheckResult]:
        """The checks against the device as it is now; none when it is lost."""
        self._say("checking")
        try:
            return evaluate(self.checks, await self._read_state())
        except DeviceError as error:
            self.lost = Lost(Cause.FAILED, error.message, error.hint)
            return []

    def to_answer_for(self, results: Iterable[CheckResult]) -> tuple[list[CheckResult], list[CheckResult]]:
        """The failed checks this delivery has to answer for, and those it is excused from: they failed in the same way
        before, and rest on nothing that it changes."""
        before = {(r.check.title, r.check.reading): r.actual for r in evaluate(self.checks, self._before)}
        counted: list[CheckResult] = []
        excused: list[CheckResult] = []
        for result in results:
            if not result.passed:
                same = before[(result.check.title, result.check.reading)] == result.actual
                (excused if same and not self.touches(result) else counted).append(result)
        return counted, excused

    def touches(self, result: CheckResult) -> bool:
        """Whether this delivery changes what the check rests on."""
        return any(edit.path[: len(path)] == path for path in result.check.concerns for edit in self.comparison.edits)

    async def confirm(self, excused: Iterable[CheckResult]) -> None:
        """Keep and save the change."""
        self._say("confirming")
        try:
            self._confirming = True
            await self._open_session().confirm()
        except DeviceError as error:
            self.lost = Lost(Cause.FAILED, error.message, error.hint)
            return
        self._confirmed = True
        await self._save(self._open_session(), Cause.NONE, excused=tuple(excused))

    async def _save(self, session: Session, cause: Cause, *, excused: tuple[CheckResult, ...] = ()) -> None:
        self._say("saving")
        try:
            await session.save()
        except DeviceError as error:
            reason = f"it runs the change, but startup was not saved: {error.message}"
            await self._end(State.DELIVERED, Cause.FAILED, reason, "save it on the device, or it will start with the old configuration")
            return
        await self._end(State.DELIVERED, cause, excused=excused)

    async def revert(self, failed: Iterable[CheckResult]) -> None:
        """Take the change back because of `failed` checks."""
        failed = tuple(failed)
        self._say("going back")
        reason = "; ".join(result.finding for result in failed)
        try:
            session = self._open_session()
            await session.revert()
            state = await self._state_now(session)
        except DeviceError:
            self.lost = Lost(Cause.CHECKS, reason, failed=failed)
            return
        await self._end(state, Cause.CHECKS, reason, failed=failed)

    async def abandon(self) -> None:
        """The run was interrupted: leave the device in a known state."""
        if self.outcome is None:
            self.lost = self.lost or Lost(Cause.INTERRUPTED, "interrupted")
            await self.recover()

    # --- ways out -------------------------------------------------------------------------------------------------

    async def _refused(self, refused: DeviceRefused) -> None:
        """The device refused a line: take back at once what went before it, on the same session."""
        place = None
        if self._armed_at is not None:
            place = next((self._place(c.path) for c in self.comparison.commands if c.masked.strip() == refused.statement), None)
        message = f"{refused.message} ({place})" if place else refused.message
        if self._armed_at is None:
            await self._end(State.UNCHANGED, Cause.FAILED, message, refused.hint)
            return
        self._say("going back")
        try:
            session = self._open_session()
            try:
                await session.revert()
            except DeviceRefused:
                pass  # The timer itself was what the device refused; reading again tells.
            state = await self._state_now(session)
        except DeviceError:
            self.lost = Lost(Cause.FAILED, message)
            return
        await self._end(state, Cause.FAILED, message, refused.hint)

    def _place(self, path: tuple[str, ...]) -> str | None:
        place = self.comparison.intent.place_of(path)
        return str(place) if place else None

    async def recover(self) -> None:
        """Find out, and where needed bring about, the state of a device that is `lost`.

        Tries until some time after the timer must have gone off. A device that can only be reached again after that has
        gone back by itself, which means that the change had cut the path to it.
        """
        if self.lost is None:
            return
        cause, reason, hint = self.lost.cause, self.lost.reason, self.lost.hint
        await self._close()
        if self._confirmed:
            await self._save_anew(cause)
            return
        if self._armed_at is None:
            await self._end(State.UNCHANGED, cause, reason, hint)
            return
        self._say("lost; waiting for it to come back" if cause is not Cause.INTERRUPTED else "going back")
        deadline = self._armed_at + self._timer_s + RETURN_MARGIN_S
        last = "it was not tried again"
        while self._clock() < deadline:
            try:
                state, by_itself = await self._settle()
            except AuthenticationFailed as error:
                last = error.message
            except DeviceError as error:
                last = error.message
            else:
                if state is State.REVERTED and by_itself and cause is Cause.FAILED:
                    cause = Cause.CHECKS
                    reason = f"the change cut the path to the device ({reason}); its timer brought it back"
                if state is State.UNKNOWN:
                    reason = f"{reason}; it now runs neither what it ran before nor what was intended"
                if state is State.DELIVERED:
                    await self._end(state, Cause.NONE if cause is not Cause.INTERRUPTED else cause)
                else:
                    await self._end(state, cause, reason, hint, failed=self.lost.failed)
                return
            await asyncio.sleep(RETRY_S)
        reason = f"{reason}; it cannot be reached to find out ({last})"
        await self._end(State.UNKNOWN, cause, reason, "look at the device itself: its timer should have brought it back")

    async def _save_anew(self, cause: Cause) -> None:
        """The change is confirmed, and only saving it was cut short."""
        try:
            self._session = await self._opener(self._transcript)
        except DeviceError as error:
            reason = f"it runs the change, but startup was not saved: {error.message}"
            await self._end(State.DELIVERED, cause, reason, "save it on the device, or it will start with the old configuration")
            return
        await self._save(self._session, cause)

    async def _settle(self) -> tuple[State, bool]:
        """One try: connect, read, and then go back, or complete a confirmation that was under way.

        Also whether the device had gone back by the time it could be reached again.
        """
        session = await self._opener(self._transcript)
        self._reached_in_time = self._reached_in_time or self.timer_left_s > 0
        try:
            state = await self._state_now(session)
            by_itself = state is State.REVERTED and not self._reached_in_time
            if not by_itself:
                try:
                    await (session.confirm() if state is State.DELIVERED else session.revert())
                except DeviceRefused:
                    pass  # The timer is not armed any more; what is running now tells why.
                state = await self._state_now(session)
            if state is State.DELIVERED:
                await session.save()
        finally:
            await session.close()
        return state, by_itself

    async def _state_now(self, session: Session) -> State:
        """What the device runs, read again and compared whole with what it ran before."""
        self.running = running = canonical(self._syntax.parse(await session.read_running()).tree)
        if running == self.comparison.running:
            return State.REVERTED if self._edited else State.UNCHANGED
        if not edits_between(self.comparison.intent, running, self.comparison.mode) and self._confirming:
            return State.DELIVERED
        return State.UNKNOWN

    # --- small parts ----------------------------------------------------------------------------------------------

    async def _read_state(self) -> Readings:
        names = sorted({check.reading for check in self.checks})
        return await read(self._open_session(), self.comparison.intent.platform, names)

    def _open_session(self) -> Session:
        if self._session is None:
            raise ConnectionFailed("there is no session with the device")
        return self._session

    def _say(self, stage: str) -> None:
        self._transcript.note(stage)
        self._progress(self.name, stage)

    async def _close(self) -> None:
        session, self._session = self._session, None
        if session is not None:
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
        self._transcript.note(f"{state}: {reason}" if reason else str(state))
        self.outcome = Outcome(
            self.name,
            state,
            cause,
            self.comparison.counts,
            self._clock() - self._started,
            reason,
            hint,
            failed,
            excused,
            str(self._log),
        )
        self._progress(self.name, str(state))
        await self._close()
        try:
            self._transcript.write(self._log)
        except OSError:
            pass  # A full disk here must not turn a known state into an unknown one.
