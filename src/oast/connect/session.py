"""A session with a device: what the rest of Oast asks of it, and how it goes on a command line.

Every platform keeps this contract: `begin` arms the way back before anything changes; after it, losing the session
or calling `revert` brings back what was running before, unless `confirm` was called.
"""

from __future__ import annotations

import asyncio
import math
from typing import Protocol

from oast.config.commands import Command
from oast.connect import dialogue
from oast.connect.transcript import Transcript
from oast.connect.transport import Transport
from oast.errors import AuthenticationFailed, ConnectionFailed, DeadlinePassed, DeviceRefused, ProtocolError
from oast.platforms.definition import Platform
from oast.records import Secret


class Session(Protocol):
    """One open session. All methods raise DeviceError; after ConnectionFailed or cancellation only `close` is of use."""

    async def ask(self, command: str) -> str:
        """The device's answer to a command that changes nothing."""

    async def read_running(self) -> str:
        """The text of the running configuration."""

    async def gain_privilege(self) -> None:
        """Obtain the right to change the device. Raises AuthenticationFailed."""

    async def begin(self, revert_timer_s: float) -> None:
        """Arm the revert timer, then open the configuration for editing, excluding others."""

    async def send(self, command: Command) -> None:
        """Carry out one line. Raises DeviceRefused with the device's words."""

    async def finish(self) -> None:
        """End editing; the timer runs on."""

    async def confirm(self) -> None:
        """Keep what was changed. Raises DeviceRefused when the timer is not armed."""

    async def revert(self) -> None:
        """Go back at once. Raises DeviceRefused when the timer is not armed."""

    async def save(self) -> None:
        """Make running what the device starts with."""

    async def close(self) -> None:
        """End the session. Never raises."""


class CommandLineSession:
    """A session on a command line that a platform's dialect describes. `command_timeout_s` bounds each answer."""

    def __init__(
        self,
        transport: Transport,
        platform: Platform,
        command_timeout_s: float,
        privilege_password: Secret | None,
        transcript: Transcript,
    ) -> None:
        self._transport = transport
        self._dialect = dialect = platform.dialect
        self._timer = platform.timer
        self._timeout_s = command_timeout_s
        self._password = privilege_password
        self._transcript = transcript
        self._reader = dialogue.Reader(dialect)
        self._level = ""
        self._prompt = ""

    async def start(self) -> None:
        """Wait for the first prompt, and switch paging off."""
        await self._wait("the first prompt")
        for command in self._dialect.prepare:
            await self.ask(command)

    # --- the contract ---------------------------------------------------------------------------------------------

    async def ask(self, command: str) -> str:
        return await self._do(command)

    async def read_running(self) -> str:
        return await self._do(self._dialect.running, log_answer=False)

    async def begin(self, revert_timer_s: float) -> None:
        await self.gain_privilege()
        if self._timer is not None:
            seconds = math.ceil(revert_timer_s)
            await self._do(self._timer.arm.format(seconds=seconds, minutes=math.ceil(seconds / 60)))
        for command in self._dialect.enter:
            await self._do(command)

    async def send(self, command: Command) -> None:
        await self._do(command.line.written(), shown=command.masked, hides=command.line.secrets)

    async def finish(self) -> None:
        for command in self._dialect.leave_edit:
            await self._do(command)

    async def confirm(self) -> None:
        await self._privileged(self._timer.confirm if self._timer is not None else None)

    async def revert(self) -> None:
        await self._privileged(self._timer.revert if self._timer is not None else None)

    async def save(self) -> None:
        await self._privileged(self._dialect.save)

    async def close(self) -> None:
        self._transcript.note("session closed")
        try:
            await asyncio.shield(self._transport.close())
        except OSError:
            pass

    # --- how it goes on a command line ------------------------------------------------------------------------------

    async def _privileged(self, command: str | None) -> None:
        if command is None:
            return
        if self._level == self._dialect.edit_level:
            await self.finish()
        await self.gain_privilege()
        await self._do(command)

    async def gain_privilege(self) -> None:
        if self._level in self._dialect.privileged or self._dialect.raise_command is None:
            return
        self._write(self._dialect.raise_command)
        self._transcript.sent(self._dialect.raise_command)
        stop, _ = await self._wait("the answer to " + self._dialect.raise_command)
        if stop.kind == "password":
            if self._password is None:
                raise AuthenticationFailed(
                    "the device asks for its privilege password",
                    hint='set privilege_password = { secret = "NAME" } below [connection] in oast.toml',
                )
            self._write(self._password.reveal())
            self._transcript.sent("(the privilege password)")
            await self._wait("the privileged prompt")
        if self._level not in self._dialect.privileged:
            raise AuthenticationFailed(
                "the device does not accept the privilege password", hint="look at 'privilege_password' in oast.toml"
            )

    def _write(self, line: str) -> None:
        self._transport.write(line + "\n")

    async def _do(self, command: str, *, shown: str | None = None, hides: tuple[Secret, ...] = (), log_answer: bool = True) -> str:
        shown = command if shown is None else shown
        self._transcript.sent(shown)
        self._write(command)
        stop, text = await self._wait(f"the answer to '{shown.strip()}'")
        if stop.kind == "password":
            raise ProtocolError(f"the device asks for a password after '{shown.strip()}'")
        told = dialogue.answer(text, command, stop.prompt)
        for secret in hides:
            told = told.replace(secret.reveal(), str(secret))
        self._transcript.received(told if log_answer else f"({told.count(chr(10))} lines, not written down)")
        wrong = dialogue.error_in(told, self._dialect)
        if wrong is not None:
            raise DeviceRefused(f"the device refused '{shown.strip()}': {wrong}", statement=shown.strip(), answer=wrong)
        return told

    async def _wait(self, what: str) -> tuple[dialogue.Stop, str]:
        """Until the device waits for input; pages are turned on the way. Raises ConnectionFailed, DeadlinePassed."""
        try:
            while True:
                async with asyncio.timeout(self._timeout_s):
                    arrived = await self._transport.read()
                if not arrived:
                    self._transcript.note("the connection ended")
                    raise ConnectionFailed(f"the device closed the session while Oast waited for {what}")
                stop = self._reader.feed(arrived)
                if stop is None:
                    continue
                if stop.kind == "pager":
                    self._transport.write(self._dialect.pager_answer)
                    continue
                if stop.kind == "prompt":
                    self._level, self._prompt = stop.level, stop.prompt
                return stop, self._reader.take()
        except TimeoutError:
            self._transcript.note(f"nothing for {self._timeout_s:g} s; last: {self._reader.so_far()!r}")
            raise DeadlinePassed(f"no answer within {self._timeout_s:g} s: waited for {what}") from None
