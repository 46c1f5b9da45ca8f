"""A candidate is filled and validated, then committed; a commit that is not confirmed in time is undone (RFC 6241, section 8.4)."""

from __future__ import annotations

from oast.change.strategies.contract import Declared, Phase, Work, time_fields
from oast.change.way_back import CONFIRMED_COMMIT
from oast.connect.session import CommandLine
from oast.errors import DeviceError
from oast.platforms.definition import CandidateCommands


class Candidate(Declared):
    """For devices with a candidate configuration."""

    way_back = CONFIRMED_COMMIT

    def __init__(self, session: CommandLine, work: Work, candidate: CandidateCommands) -> None:
        super().__init__(session, work)
        self._candidate = candidate

    async def look(self) -> None:
        await self.session.gain_privilege()
        if self._candidate.pending is not None and await self.session.shows(self._candidate.pending):
            message = "a commit of somebody else waits to be confirmed: it was not touched"
            raise DeviceError(message, hint="wait until it is confirmed or gone")

    async def stage(self) -> None:
        await self.lock()
        self.work.reached(Phase.STAGED)
        await self.enter()
        await self.session.send([command.line for command in self.work.comparison.commands], self.work.sent)

    async def validate(self) -> None:
        if self._candidate.validate is not None:
            await self.session.ask(self._candidate.validate)

    async def apply(self, timer_s: float) -> None:
        self.work.reached(Phase.APPLYING)
        await self.session.ask(self._candidate.commit.format(**time_fields(timer_s)))

    async def confirm(self) -> None:
        await self.session.gain_privilege()
        await self.session.ask(self._candidate.confirm)
        await self.stopped(self._candidate.pending)
        await self.session.leave_editing()
        await self.unlock()

    async def cancel(self, phase: Phase) -> None:
        await self.session.gain_privilege()
        if phase >= Phase.APPLYING:
            await self.session.ask(self._candidate.cancel)
        elif self._candidate.discard is not None:
            await self.session.ask(self._candidate.discard)
        await self.session.leave_editing()
        await self.unlock()
