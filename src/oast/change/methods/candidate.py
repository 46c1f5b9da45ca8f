"""A candidate is filled and validated, then committed; a commit that is not confirmed in time is undone (RFC
6241, section 8.4)."""

from __future__ import annotations

from oast.change import CONFIRMED_COMMIT, Phase
from oast.change.methods.base import ChangeRequest, CliDeliveryMethod
from oast.config import read_tree
from oast.connect import CommandLine
from oast.errors import DeviceRefused
from oast.platforms import CandidateCommands

# How long the commit of inverse commands may wait for its own confirmation, in seconds.
UNDO_TIMER_S = 60.0


class CandidateMethod(CliDeliveryMethod):
    """For devices with a candidate configuration."""

    rollback_method = CONFIRMED_COMMIT

    def __init__(self, session: CommandLine, work: ChangeRequest, candidate: CandidateCommands) -> None:
        super().__init__(session, work)
        self._candidate = candidate
        self._holds = False

    async def check_nothing_pending(self) -> None:
        await self.session.gain_privilege()
        await self.require_nothing_pending(self._candidate.pending, "a commit is waiting for confirmation")

    async def stage(self) -> None:
        await self.lock()
        # Where entering is refused, another session may be editing; none of this change is in it yet.
        await self.enter()
        self._holds = True
        await self.work.reached(Phase.STAGED)
        await self.session.send([command.line for command in self.work.comparison.commands], self.work.sent)

    async def validate(self) -> None:
        if self._candidate.validate is not None:
            await self.session.ask(self._candidate.validate)

    async def apply(self, timer_s: float) -> None:
        await self.work.reached(Phase.APPLYING)
        try:
            await self.session.ask(self.format_command(self._candidate.commit, timer_s))
        except DeviceRefused:
            # Nothing of this change is committed; a pending commit is foreign.
            await self.work.on_phase_reset(Phase.STAGED)
            raise

    async def confirm(self) -> None:
        await self.session.gain_privilege()
        await self.session.ask(self.format_command(self._candidate.confirm))
        await self.require_confirmed(self._candidate.pending)
        await self.session.leave_editing()
        await self.unlock()

    @property
    def shows_pending(self) -> bool:
        return self._candidate.pending is not None

    async def extend(self, timer_s: float) -> float | None:
        return await self.extended(self._candidate.extend, timer_s, self._candidate.pending)

    async def is_waiting(self) -> bool | None:
        return await self.is_confirm_pending(self._candidate.pending)

    async def cancel(self, phase: Phase) -> None:
        await self.session.gain_privilege()
        if phase >= Phase.APPLYING:
            if not await self.is_not_pending(self._candidate.pending):
                await self.session.ask(self.format_command(self._candidate.cancel))
        elif self._candidate.discard is not None and await self._is_ours():
            await self.session.ask(self._candidate.discard)
        await self.session.leave_editing()
        await self.unlock()

    async def undo(self) -> None:
        await self.session.leave_editing()
        await self.lock()
        lines = self.inverse_lines(await read_tree(self.work.syntax, await self.session.read_running()))
        if lines:
            await self.enter()
            await self.session.send(lines)
            await self.validate()
            # With a timer although it is known to work: some systems have no other commit, and nothing is
            # lost if this session ends here.
            await self.session.ask(self.format_command(self._candidate.commit, UNDO_TIMER_S))
            await self.session.leave_editing()
            await self.confirm()
        else:
            await self.unlock()

    async def _is_ours(self) -> bool:
        """Return whether the candidate can only be from this delivery. After a session was lost, only a lock
        proves it."""
        if self._holds:
            return True
        if self.dialect.lock is None:
            return False
        try:
            await self.lock()
        except DeviceRefused:
            return False
        return True
