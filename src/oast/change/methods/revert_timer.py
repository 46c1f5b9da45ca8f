"""A revert timer is armed, then lines take effect one by one; confirming stops the timer."""

from __future__ import annotations

from contextlib import suppress

from oast.change import REVERT_TIMER, Phase
from oast.change.methods.base import ChangeRequest, CliDeliveryMethod
from oast.connect import CommandLine
from oast.errors import DeviceRefused
from oast.platforms import TimerCommands


class RevertTimerMethod(CliDeliveryMethod):
    """For devices on which each line takes effect at once. They return to the configuration that ran when the
    timer was armed."""

    rollback_method = REVERT_TIMER

    def __init__(self, session: CommandLine, work: ChangeRequest, timer: TimerCommands) -> None:
        super().__init__(session, work)
        self._timer = timer

    async def check_nothing_pending(self) -> None:
        await self.session.gain_privilege()
        await self.require_nothing_pending(self._timer.armed, "a revert timer is already running")

    async def stage(self) -> None:
        await self.lock()

    async def validate(self) -> None:
        return

    async def apply(self, timer_s: float) -> None:
        await self.arm(self._timer.arm, timer_s, self._timer.armed, "revert timer")
        await self.enter_lines()

    async def confirm(self) -> None:
        await self.privileged(self.format_command(self._timer.confirm))
        await self.require_confirmed(self._timer.armed)

    @property
    def shows_pending(self) -> bool:
        return self._timer.armed is not None

    async def extend(self, timer_s: float) -> float | None:
        return await self.extended(self._timer.extend, timer_s, self._timer.armed)

    async def is_waiting(self) -> bool | None:
        return await self.is_confirm_pending(self._timer.armed)

    async def cancel(self, phase: Phase) -> None:
        await self.session.leave_editing()
        await self.session.gain_privilege()
        if await self.is_not_pending(self._timer.armed):
            await self.unlock()
            return
        # Before the first line nothing of the change is active: stopping the timer keeps edits of other
        # sessions.
        if phase >= Phase.APPLYING:
            await self.privileged(self.format_command(self._timer.revert))
        else:
            with suppress(DeviceRefused):  # Whether it is armed still is asked next.
                await self.privileged(self.format_command(self._timer.confirm))
            await self.require_disarmed(self._timer.armed, "revert timer")
        await self.unlock()
