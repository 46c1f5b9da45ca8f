"""The configuration is one file: the new text is put beside it, checked, and applied under a daemon's own timer."""

from __future__ import annotations

from oast.change.phase import Phase
from oast.change.strategies.contract import Declared, Work, time_fields
from oast.change.way_back import DAEMON_TIMER
from oast.connect.session import CommandLine
from oast.errors import DeviceRefused
from oast.platforms.definition import FileCommands
from oast.records import Value

# How long the former text may wait for its own confirmation, in seconds.
UNDO_TIMER_S = 60.0


class WholeFile(Declared):
    """For routing daemons and the like. The file is replaced once the daemon runs the new text and it is confirmed."""

    way_back = DAEMON_TIMER

    def __init__(self, session: CommandLine, work: Work, file: FileCommands) -> None:
        super().__init__(session, work)
        self._file = file

    async def look(self) -> None:
        await self.session.gain_privilege()
        await self.leave_alone(self._file.pending, "its daemon waits to be confirmed")

    async def stage(self) -> None:
        await self.lock()
        await self.work.reached(Phase.STAGED)
        await self.put(self._file.put, self.new_text(), self._file.beside)

    async def validate(self) -> None:
        if self._file.check is not None:
            await self.session.ask(self._file.check.format(path=self._file.beside))

    async def apply(self, timer_s: float) -> None:
        await self.work.reached(Phase.APPLYING)
        command = self._file.apply.format(path=self._file.beside, token=self.work.token, **time_fields(timer_s))
        try:
            await self.session.ask(command)
        except DeviceRefused:
            # The daemon does not run it; what it may be trying out is somebody else's.
            await self.work.fell_back(Phase.STAGED)
            raise

    async def confirm(self) -> None:
        await self.privileged(self.told(self._file.confirm))
        await self.stopped(self._file.pending)

    async def waits(self) -> bool | None:
        return await self.still_waits(self._file.pending)

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING:
            if not await self.not_ours(self._file.pending):
                await self.privileged(self.told(self._file.cancel))
            # Whatever the daemon has done to its file: what it starts with next time is what it ran before. Before it was
            # applied nobody has touched the file, and what stands in it besides stays.
            await self.put(self._file.put, [self.work.comparison.running_text], self._file.path)
        await self.unlock()

    async def undo(self) -> None:
        """Apply the former text like a change: checked, then under the daemon's timer, then confirmed."""
        before: list[Value] = [self.work.comparison.running_text]
        await self.session.leave_editing()
        await self.lock()
        await self.put(self._file.put, before, self._file.beside)
        await self.validate()
        await self.session.ask(self._file.apply.format(path=self._file.beside, token=self.work.token, **time_fields(UNDO_TIMER_S)))
        await self.confirm()
        await self.put(self._file.put, before, self._file.path)
        await self.unlock()

    async def save(self) -> None:
        await self.session.gain_privilege()
        await self.put(self._file.put, self.new_text(), self._file.path)
        await super().save()
        await self.unlock()
