"""The configuration is one file: the new text is put beside it, checked, and applied under a daemon's own timer."""

from __future__ import annotations

from oast.change.phase import Phase
from oast.change.strategies.contract import Declared, Work, time_fields
from oast.change.way_back import DAEMON_TIMER
from oast.config.difference import applied
from oast.config.line import Line, filled
from oast.config.remembered import need_known
from oast.connect.session import CommandLine
from oast.errors import DeviceRefused
from oast.platforms.definition import FileCommands
from oast.records import Secret, Value


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
        await self._put(self._file.beside, self._new_text())

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

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING:
            if not await self.not_ours(self._file.pending):
                await self.privileged(self.told(self._file.cancel))
            # Whatever the daemon has done to its file: what it starts with next time is what it ran before. Before it was
            # applied nobody has touched the file, and what stands in it besides stays.
            await self._put(self._file.path, [self.work.comparison.running_text])
        await self.unlock()

    async def save(self) -> None:
        await self.session.gain_privilege()
        await self._put(self._file.path, self._new_text())
        await super().save()
        await self.unlock()

    def _new_text(self) -> list[Value]:
        comparison = self.work.comparison
        tree = applied(comparison.edits, comparison.running)
        parts: list[Value] = []
        for line, _ in self.work.syntax.printed(tree):
            parts.extend((*line.parts, "\n"))
        return parts

    async def _put(self, path: str, text: list[Value]) -> None:
        need_known(part for part in text if isinstance(part, Secret))
        lines = "".join(part for part in text if isinstance(part, str)).split("\n")
        # A here-document ends with a line that the text does not have.
        end = "END"
        while end in lines:
            end += "_"
        line = filled(self._file.put, {"path": (path,), "text": tuple(text), "end": (end,)})
        await self.session.send([Line(tuple(part for part in line.parts if part != ""))])
