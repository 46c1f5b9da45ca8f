"""What every way of delivery does, in the order in which it is asked to."""

from __future__ import annotations

import math
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from typing import Protocol

from oast.change import Phase, RollbackMethod
from oast.change.plan import Comparison, inverse_edits
from oast.config import (
    IndentedSyntax,
    Line,
    Node,
    NoDependencyOrder,
    apply_edits,
    commands_of,
    format_line,
    in_dependency_order,
    read_tree,
    require_known_secrets,
)
from oast.connect import Capability, CommandLine
from oast.errors import DeviceError, DeviceRefused, ProtocolError, RollbackLeftover
from oast.platforms import StatePattern
from oast.records import Secret, Value


async def _ignore(phase: Phase) -> None:
    return


@dataclass(frozen=True)
class ChangeRequest:
    """One change: the comparison it comes from, the syntax of the device, and the callbacks that report
    progress.

    `token` is unique to this delivery. `reached` is awaited before anything is sent that makes a phase
    possible, so that the journal is never behind the device. `on_phase_reset` is awaited when the device
    refused exactly that, so that nothing of it is in effect.
    """

    comparison: Comparison
    syntax: IndentedSyntax
    reached: Callable[[Phase], Awaitable[None]]
    sent: Callable[[int], None]
    token: str = ""
    on_phase_reset: Callable[[Phase], Awaitable[None]] = _ignore


class DeliveryMethod(Protocol):
    """How one change is delivered to one device, over one session. All methods raise DeviceError.

    After a session is lost, another instance over a new session may `cancel`, `confirm` and `save` what the
    first one began. If it `is_session_bound`, the device rolls back when the session ends in which the change
    was applied.
    """

    rollback_method: RollbackMethod

    @property
    def is_session_bound(self) -> bool:
        """Whether it is."""

    async def check_nothing_pending(self) -> None:
        """Require that no foreign change is in progress. Changes nothing on the device. Raises
        DeviceError."""

    async def stage(self) -> None:
        """Prepare the change; nothing of it takes effect."""

    async def validate(self) -> None:
        """Have the device check what was staged, where it can."""

    async def apply(self, timer_s: float) -> None:
        """Apply the change, with the rollback armed first. A device with a revert timer rolls back unless the
        change is confirmed within `timer_s` seconds."""

    async def confirm(self) -> None:
        """Keep the change."""

    async def is_waiting(self) -> bool | None:
        """Return whether this delivery still waits to be confirmed, and would be rolled back by the device;
        None where that is unknown. Changes nothing."""

    @property
    def shows_pending(self) -> bool:
        """Whether the device shows that this delivery still waits to be confirmed. Then an extension that was
        taken for a confirmation is noticed at once."""

    async def extend(self, timer_s: float) -> float | None:
        """Restart the timer of an applied change: the device then waits `timer_s` from now.

        Returns the seconds that it now waits, as far as it shows them; None where the platform declares no
        such command. Raises DeviceRefused when the device refuses, and the former timer still runs;
        ProtocolError when nothing waits any more.
        """

    async def cancel(self, phase: Phase) -> None:
        """Roll back, as far as a delivery that has reached `phase` requires it."""

    async def undo(self) -> None:
        """Roll back with inverse edits what the device still runs of the change, after its own rollback did
        nothing.

        Called only when nothing of this delivery is pending any more. Raises DeviceError; nothing may be
        taken from its success, the configuration is read again.
        """

    async def release(self, session_id: str) -> None:
        """End a lost session of this delivery, `session_id`, that the device may still believe in, and so
        release its locks."""

    async def clean_up(self) -> None:
        """Remove what is left on the device after its own rollback, and would block later changes."""

    async def save(self) -> None:
        """Make what runs what the device starts with."""


@dataclass(frozen=True)
class PendingConfirm:
    """A running timer or a pending commit: its owner and its name, where the device shows them. `ours` is
    None where the owner is unknown."""

    owner: str | None
    token: str | None
    is_ours: bool | None
    left_s: float | None = None
    """How long the device says that it still waits."""

    @property
    def owner_text(self) -> str:
        """` (by ada, as trial)`, or nothing."""
        parts = [f"by {self.owner}"] * bool(self.owner) + [f"as {self.token}"] * bool(self.token)
        return f" ({', '.join(parts)})" if parts else ""


class CliDeliveryMethod:
    """What the ways on a command line have in common: privilege, the lock, saving."""

    is_session_bound = False

    def __init__(self, session: CommandLine, work: ChangeRequest) -> None:
        self.session = session
        self.work = work
        self.dialect = session.platform.dialect

    async def lock(self) -> None:
        await self.session.gain_privilege()
        if self.dialect.lock is not None:
            await self.session.ask(self.dialect.lock)

    async def unlock(self) -> None:
        if self.dialect.unlock is not None:
            try:
                await self.session.ask(self.dialect.unlock)
            except DeviceRefused:
                pass  # A lock ends with its session at the latest.

    async def clean_up(self) -> None:
        return

    async def release(self, session_id: str) -> None:
        return

    async def enter(self) -> None:
        for command in self.dialect.enter:
            await self.session.ask(command)

    def format_command(self, command: str, timer_s: float | None = None) -> str:
        """A command of the rollback, with this delivery's token and the time."""
        return command.format(token=self.work.token, **({} if timer_s is None else time_fields(timer_s)))

    async def pending_confirm(self, shown: StatePattern | None) -> PendingConfirm | None:
        """What the device shows that waits to be confirmed; None when nothing does, or it cannot show it."""
        match = await self.session.shown(shown) if shown is not None else None
        if match is None:
            return None
        said = match.groupdict()
        named = "token" in match.re.groupindex
        is_ours = said.get("token") == self.work.token if named else None
        left = said.get("left")
        return PendingConfirm(
            said.get("owner"), said.get("token"), is_ours, float(left) if left and left.isdecimal() else None
        )

    async def require_nothing_pending(self, shown: StatePattern | None, what: str) -> None:
        """Require that nothing is pending: before this delivery begins, it would be foreign. Raises
        DeviceError."""
        pending_confirm = await self.pending_confirm(shown)
        if pending_confirm is not None:
            message = (
                f"{what}{pending_confirm.owner_text}, started by another session; nothing was sent"
                " to the device"
            )
            raise DeviceError(message, hint="wait until that change is confirmed or rolled back")

    async def arm(self, command: str, timer_s: float, armed: StatePattern | None, what: str) -> None:
        """Arm the rollback, and check that it runs and belongs to this delivery. Raises DeviceError."""
        await self.work.reached(Phase.STAGED)
        try:
            await self.session.ask(self.format_command(command, timer_s))
        except DeviceRefused:
            # Whatever runs there is not ours: nothing is sent that would stop it.
            await self.work.on_phase_reset(Phase.UNTOUCHED)
            raise
        if armed is None:
            return
        pending_confirm = await self.pending_confirm(armed)
        if pending_confirm is None:
            raise ProtocolError(f"the device accepted the command for {what}, but does not show it as active")
        if pending_confirm.is_ours is False:
            await self.work.on_phase_reset(Phase.UNTOUCHED)
            raise DeviceError(
                (
                    f"{what} belongs to another session{pending_confirm.owner_text}; nothing was sent to the"
                    " device"
                ),
                hint="wait until that change is confirmed or rolled back",
            )

    async def extended(self, command: str | None, timer_s: float, shown: StatePattern | None) -> float | None:
        """`extend`, by the platform's `command`; what is pending is `shown`."""
        if command is None:
            return None
        await self.session.ask(self.format_command(command, timer_s))
        if shown is None:
            return timer_s
        pending_confirm = await self.pending_confirm(shown)
        if pending_confirm is None or pending_confirm.is_ours is False:
            raise ProtocolError(
                "the device accepted the command that extends the timer, but does not show a running timer"
            )
        return timer_s if pending_confirm.left_s is None else min(timer_s, pending_confirm.left_s)

    async def is_not_pending(self, shown: StatePattern | None) -> bool:
        """Return whether there is nothing to stop: this delivery no longer waits, or a foreign change does.
        False where the device cannot show it."""
        if shown is None or "(?P<token>" not in shown.pattern:
            return False
        pending_confirm = await self.pending_confirm(shown)
        return pending_confirm is None or pending_confirm.is_ours is False

    async def enter_lines(self) -> None:
        """Send the change where a line takes effect at once."""
        await self.enter()
        await self.work.reached(Phase.APPLYING)
        await self.session.send([command.line for command in self.work.comparison.commands], self.work.sent)
        await self.session.leave_editing()
        await self.unlock()

    async def privileged(self, command: str) -> None:
        """A command outside the configuration mode."""
        await self.session.leave_editing()
        await self.session.gain_privilege()
        await self.session.ask(command)

    async def is_confirm_pending(self, shown: StatePattern | None) -> bool | None:
        """`is_waiting`, by what the device shows."""
        if shown is None:
            return None
        await self.session.leave_editing()
        await self.session.gain_privilege()
        pending_confirm = await self.pending_confirm(shown)
        return pending_confirm is not None and pending_confirm.is_ours is not False

    async def require_disarmed(self, armed: StatePattern | None, what: str) -> None:
        """Require that nothing restores the configuration later, after a command to stop it. Raises
        RollbackLeftover."""
        pending_confirm = await self.pending_confirm(armed)
        if pending_confirm is not None and pending_confirm.is_ours is not False:
            message = (
                f"{what} is still armed, although Oast canceled it; it will restore this configuration later"
            )
            raise RollbackLeftover(
                message, hint=f"cancel {what} on the device before changing anything else there"
            )

    def inverse_lines(self, running: Node) -> list[Line]:
        """The inverse edits as commands, in dependency order. Raises DeviceError when no order has valid
        steps only."""
        try:
            ordered = in_dependency_order(inverse_edits(self.work.comparison, running), running=running)
        except NoDependencyOrder as circle:
            raise DeviceError(f"inverse commands are impossible: {circle}") from None
        return [command.line for command in commands_of(ordered, self.work.comparison.intent.platform)]

    async def send_inverse(self) -> None:
        """Send the inverse commands of whatever the device runs of the change now."""
        lines = self.inverse_lines(await read_tree(self.work.syntax, await self.session.read_running()))
        if lines:
            await self.session.gain_privilege()
            await self.enter()
            await self.session.send(lines)
            await self.session.leave_editing()

    async def undo(self) -> None:
        await self.session.leave_editing()
        await self.session.gain_privilege()
        await self.send_inverse()
        await self.unlock()

    async def require_confirmed(self, armed: StatePattern | None) -> None:
        """Check that a timer or commit has really stopped. Raises ProtocolError."""
        pending_confirm = await self.pending_confirm(armed)
        if pending_confirm is not None and pending_confirm.is_ours is not False:
            raise ProtocolError("the device accepted the confirmation, but still shows a pending rollback")

    def target_config(self) -> list[Value]:
        """The whole configuration as the change makes it."""
        comparison = self.work.comparison
        tree = apply_edits(comparison.edits, comparison.running)
        parts: list[Value] = []
        for line, _ in self.work.syntax.printed(tree):
            parts.extend((*line.parts, "\n"))
        return parts

    async def put(self, command: str, text: list[Value], path: str = "") -> None:
        """Send a whole text by a command that takes {text} up to a line {end}."""
        require_known_secrets(part for part in text if isinstance(part, Secret))
        lines = "".join(part for part in text if isinstance(part, str)).split("\n")
        # It ends with a line that the text does not have.
        end = "END"
        while end in lines:
            end += "_"
        line = format_line(command, {"path": (path,), "text": tuple(text), "end": (end,)})
        await self.session.send([Line(tuple(part for part in line.parts if part != ""))])

    async def save(self) -> None:
        if self.dialect.save is not None:
            await self.privileged(self.dialect.save)
        if Capability.STARTUP in self.session.capabilities:
            startup, running = await self.session.read_startup(), await self.session.read_running()
            syntax = self.work.syntax
            if startup != running and await read_tree(syntax, startup) != await read_tree(syntax, running):
                raise ProtocolError(
                    "the device accepted the command to save, but its startup configuration differs from"
                    " running"
                )


def time_fields(seconds: float) -> Mapping[str, int]:
    """What a command may say of a time: whole seconds, or whole minutes, both rounded up."""
    return {"seconds": math.ceil(seconds), "minutes": math.ceil(seconds / 60)}
