"""What a transaction stands on: its device, the session with it, how far it has come, and how it ends."""

from __future__ import annotations

import logging
import secrets
from collections.abc import Iterable, Sequence

from oast.change import Cause, Outcome, Phase, RollbackReason, State
from oast.change.device.context import LossOfContact, TransactionContext
from oast.change.device.pre_post_state import PrePostState
from oast.change.methods import ChangeRequest, DeliveryMethod, method_for
from oast.change.plan import Comparison
from oast.change.rollout import stable_for_s
from oast.config import Edit, Node, difference, read_tree
from oast.connect import Session, Transcript, close_sessions
from oast.errors import ConnectionFailed
from oast.fleet import DeviceEvent, Stage, WaitEvent
from oast.readings import Readings, read_readings
from oast.verify import Check, CheckResult

_log = logging.getLogger(__name__)

# So long a device may take to notice that a session ends.
CLOSING_S = 10.0


class TransactionState:
    """One device's delivery, without the steps of it."""

    def __init__(
        self,
        comparison: Comparison,
        checks: Iterable[Check],
        means: TransactionContext,
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
        self.timer_s = means.timer_s
        self._context = means
        self._started = means.clock.now()
        self._transcript = (
            Transcript(means.clock.now, comparison.name) if session is None else session.transcript
        )
        self._session = session
        self._delivery: DeliveryMethod | None = None
        self._armed_at: float | None = None
        # By the clock: when the device rolls back at the earliest, as far as is proved, and when it has done
        # so at the latest.
        self._rolls_back_from_s = 0.0
        self._rolled_back_by_s = 0.0
        self._is_extendable = True
        self._before: Readings = {}
        self._after: Readings = {}
        self._checked = 0
        self._reached_in_time = False
        # New sessions that were refused or not answered while the change may have been active.
        self._unanswered = 0
        # Its failed checks that cannot pass before others are delivered, with those devices.
        self.deferred: list[tuple[Check, frozenset[str]]] = []
        # Whether it was asked at last what it runs.
        self._state_was_read = True
        self._unknown_reason = ""
        # What the device's own rollback did not do, and what it has left on the device.
        self._rolled_back_by_oast = False
        self._leftover: str | None = None
        # What it ran when the change was in effect, and what somebody else has changed since.
        self._expected: Node | None = None
        self._concurrent_edits: tuple[Edit, ...] = ()
        self._listed: tuple[str, Node] | None = None
        # The address at which the device was reached first.
        self._reached_at = ""
        self._token = f"oast-{secrets.token_hex(8)}"

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
        return self.timer_s if self._armed_at is None else self._rolls_back_from_s - self._context.clock.now()

    @property
    def rollback_due_s(self) -> float:
        """The seconds until a device that was not confirmed has rolled back. Longer than `timer_left_s` where
        extending the timer failed in a way that leaves open whether the device did it."""
        return self.timer_s if self._armed_at is None else self._rolled_back_by_s - self._context.clock.now()

    def _armed(self, at: float) -> None:
        """The timer of the device began at `at`, by the clock."""
        self._armed_at = at
        self._rolls_back_from_s = self._rolled_back_by_s = at + self.timer_s

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
        return self._transcript.masking.hide(text)

    def _delivery_over(self, session: Session) -> DeliveryMethod:
        return method_for(
            session,
            ChangeRequest(
                self.comparison, self._context.syntax, self._reached, self._sent, self._token, self._fell_back
            ),
        )

    async def _reached(self, phase: Phase) -> None:
        """Nothing is sent that makes the phase possible before this has returned. Raises DeviceError when
        that cannot be written down and nothing of the change is in effect yet."""
        self.phase = max(self.phase, phase)
        _log.debug("%s: phase %s", self.name, phase.name.lower())
        before = phase in (Phase.STAGED, Phase.APPLYING, Phase.CONFIRMING)
        await self._context.journal.step(
            phase.name.lower(), first=before, must=phase <= Phase.APPLYING, phase=int(self.phase)
        )

    async def _fell_back(self, phase: Phase) -> None:
        self.phase = phase
        await self._context.journal.step(f"refused, and back at {phase.name.lower()}", phase=int(phase))

    def _sent(self, number: int) -> None:
        self._say(Stage.APPLYING, number)

    async def _list(self, session: Session) -> str:
        """What is changed, as the device lists it: what it runs, or what it starts with."""
        return await (
            session.read_startup() if self.comparison.manner.into_startup else session.read_running()
        )

    async def _read_running(self, session: Session) -> Node:
        text = await self._list(session)
        if self._listed is None or self._listed[0] != text:
            self._listed = text, await read_tree(self._context.syntax, text)
        return self._listed[1]

    async def _read_again(self, session: Session) -> Node:
        """What it runs now; what is not as it was when the change was in effect, somebody else
        has changed."""
        self.running = running = await self._read_running(session)
        if self._expected is not None:
            self._concurrent_edits = (
                () if running is self._expected else tuple(difference(self._expected, running))
            )
        return running

    @property
    def _concurrent_edits_text(self) -> str:
        """What somebody else has changed, in words."""
        return edits_text(self._concurrent_edits)

    async def _read_state(self) -> Readings:
        names = sorted({check.reading for check in self.checks})
        return await read_readings(self._open_session(), self.comparison.intent.platform, names)

    def _note(self, text: str) -> None:
        """Note a decision in the transcript and in the debug log."""
        self._transcript.note(text, _log)

    def _open_session(self) -> Session:
        if self._session is None:
            raise ConnectionFailed("no session with the device")
        return self._session

    def say(self, stage: Stage) -> None:
        """Tell whoever watches where the device stands."""
        self._context.on_event(DeviceEvent(self.name, stage))

    def say_waiting(self, what: str, seconds: float) -> None:
        """Report to the progress display that the run waits, and for how long at most."""
        self._context.on_event(WaitEvent(what, seconds))

    def _say(self, stage: Stage, done: int = 0) -> None:
        total = len(self.comparison.commands) if stage is Stage.APPLYING else 0
        if not done:
            self._note(str(stage))
        self._context.on_event(DeviceEvent(self.name, stage, done, total))

    async def _close(self) -> None:
        session, self._session = self._session, None
        if session is not None:
            await close_sessions([session], CLOSING_S)

    def _outcome(
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
            seconds=self._context.clock.now() - self._started,
            reason=reason,
            hint=hint,
            failed_checks=failed,
            excused_checks=excused,
            log=str(self._context.log),
            rollback_method=self.comparison.rollback_method,
            also_saved=len(self.comparison.unsaved) if state is State.DELIVERED else 0,
            why=None if state is State.DELIVERED and cause is Cause.NONE else why,
        )

    async def _end(
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
        notes = [reason]
        if self._rolled_back_by_oast and state is State.REVERTED:
            notes.append(
                "the device accepted the rollback but did not perform it, so Oast rolled it back with"
                " inverse edits"
            )
        if state is State.UNKNOWN and self._state_was_read:
            notes.append(self._unknown_reason)
        notes.append(self._leftover)
        # It may hold what the device said.
        reason = "; ".join(note for note in notes if note) or None
        reason = self.hide(reason) if reason else reason
        self._note(f"{state}: {reason}" if reason else str(state))
        self.outcome = self._outcome(state, cause, reason, hint, failed=failed, excused=excused, why=why)
        self.comparison.listed.release()
        await self._context.journal.ended(self.outcome, came_to, asked=self._state_was_read)
        self._context.on_event(DeviceEvent(self.name, Stage(str(state))))
        await self._close()
        try:
            self._transcript.write(self._context.log)
        except OSError:
            pass  # A full disk here must not turn a known state into an unknown one.


def edits_text(edits: Sequence[Edit]) -> str:
    """The first of some edits, in a line."""
    shown = [
        f"{'-' if edit.operation == 'remove' else '+'}"
        f" {' / '.join((*(node.text for node in edit.outer), edit.node.text))}"
        for edit in edits[:3]
    ]
    more = f" and {len(edits) - 3} more" if len(edits) > 3 else ""
    return f"{'; '.join(shown)}{more}"
