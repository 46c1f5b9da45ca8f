"""Delivery to a device without a rollback of its own: Oast computes inverse commands from before and
after."""

from __future__ import annotations

from contextlib import suppress

from oast.change import INVERSE_COMMANDS, SCHEDULED, Phase, RollbackMethod
from oast.change.methods.base import ChangeRequest, CliDeliveryMethod
from oast.connect import CommandLine
from oast.errors import DeviceRefused
from oast.platforms import ScheduledCommands


class InverseCommandMethod(CliDeliveryMethod):
    """For devices on which a line takes effect at once and for good. Where the platform declares a scheduled
    restore, it is armed first; what may cut the path without one never gets here (see
    `oast.change.plan.management_access`).
    """

    def __init__(
        self, session: CommandLine, work: ChangeRequest, scheduled: ScheduledCommands | None
    ) -> None:
        super().__init__(session, work)
        self._scheduled = scheduled
        self.rollback_method: RollbackMethod = INVERSE_COMMANDS if scheduled is None else SCHEDULED

    async def check_nothing_pending(self) -> None:
        await self.session.gain_privilege()
        if self._scheduled is not None:
            await self.require_nothing_pending(
                self._scheduled.armed, ("a restore is already scheduled on the device")
            )

    async def stage(self) -> None:
        await self.lock()

    async def validate(self) -> None:
        return

    async def apply(self, timer_s: float) -> None:
        if self._scheduled is not None:
            await self.arm(self._scheduled.arm, timer_s, self._scheduled.armed, "a scheduled restore")
        await self.enter_lines()

    async def confirm(self) -> None:
        if self._scheduled is not None:
            await self.privileged(self.format_command(self._scheduled.cancel))
            await self.require_confirmed(self._scheduled.armed)

    @property
    def shows_pending(self) -> bool:
        return self._scheduled is not None

    async def extend(self, timer_s: float) -> float | None:
        return (
            None
            if self._scheduled is None
            else await self.extended(self._scheduled.extend, timer_s, self._scheduled.armed)
        )

    async def is_waiting(self) -> bool | None:
        return False if self._scheduled is None else await self.is_confirm_pending(self._scheduled.armed)

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING:
            await self.send_inverse()
        if (
            self._scheduled is not None
            and phase >= Phase.STAGED
            and not await self.is_not_pending(self._scheduled.armed)
        ):
            with suppress(DeviceRefused):  # Whether it is armed still is asked next.
                await self.privileged(self.format_command(self._scheduled.cancel))
            await self.require_disarmed(self._scheduled.armed, "a scheduled restore")
        await self.unlock()
