"""A revert timer is armed, then lines take effect one by one; confirming stops the timer."""

from __future__ import annotations

from contextlib import suppress

from oast.change.phase import Phase
from oast.change.strategies.contract import Declared, Work
from oast.change.way_back import REVERT_TIMER
from oast.connect.session import CommandLine
from oast.errors import DeviceRefused
from oast.platforms.definition import TimerCommands


class TimerThenLines(Declared):
    """For devices on which a line takes effect at once, and that go back to what they ran when the timer was armed."""

    way_back = REVERT_TIMER

    def __init__(self, session: CommandLine, work: Work, timer: TimerCommands) -> None:
        super().__init__(session, work)
        self._timer = timer

    async def look(self) -> None:
        await self.session.gain_privilege()
        await self.leave_alone(self._timer.armed, "its revert timer runs already")

    async def stage(self) -> None:
        await self.lock()

    async def validate(self) -> None:
        return

    async def apply(self, timer_s: float) -> None:
        await self.arm(self._timer.arm, timer_s, self._timer.armed, "its revert timer")
        await self.enter_lines()

    async def confirm(self) -> None:
        await self.privileged(self.told(self._timer.confirm))
        await self.stopped(self._timer.armed)

    @property
    def shows_pending(self) -> bool:
        return self._timer.armed is not None

    async def extend(self, timer_s: float) -> float | None:
        return await self.extended(self._timer.extend, timer_s, self._timer.armed)

    async def waits(self) -> bool | None:
        return await self.still_waits(self._timer.armed)

    async def cancel(self, phase: Phase) -> None:
        await self.session.leave_editing()
        await self.session.gain_privilege()
        if await self.not_ours(self._timer.armed):
            await self.unlock()
            return
        # Before the first line nothing of ours runs: stopping the timer keeps what somebody else may have typed since.
        if phase >= Phase.APPLYING:
            await self.privileged(self.told(self._timer.revert))
        else:
            with suppress(DeviceRefused):  # Whether it is armed still is asked next.
                await self.privileged(self.told(self._timer.confirm))
            await self.require_disarmed(self._timer.armed, "its revert timer")
        await self.unlock()
