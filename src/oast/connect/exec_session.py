"""Devices without a session on a command line: each command is run by itself, on a channel of its own (RFC
4254, section 6.5)."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from typing import Protocol

from oast.answer_parsing import parse_if_long
from oast.config import Line
from oast.connect import prompt_reader as dialogue
from oast.connect.prompt_reader import ANSWERS
from oast.connect.session import AnswerLimits, CliSessionBase, hold_answer
from oast.connect.transcript import Transcript
from oast.errors import ConnectionFailed, DeviceRefused, DeviceTimeout, ProtocolError
from oast.platforms import Platform


class ExecCommand(Protocol):
    """A command that runs. `status` is None until it has ended, and when it ended without one; `complaints`
    is what it said on stderr."""

    status: int | None

    @property
    def complaints(self) -> str: ...

    async def read(self) -> str:
        """Something of what it says; "" when it has ended."""

    def abandon(self) -> None:
        """End the command: its answer is not needed."""


class ExecTransport(Protocol):
    """A connection that takes commands."""

    @property
    def addresses(self) -> tuple[str, str]: ...

    async def run(self, command: str) -> ExecCommand:
        """Start a command. Raises ConnectionFailed."""

    async def close(self) -> None:
        """End the connection. Never raises."""


class ExecSession(CliSessionBase):
    """What a session is, for a device that takes one command at a time and remembers nothing of the one
    before.

    A command was carried out when it ends with the exit status 0 and says none of the platform's errors. Its
    answer is whole when there is a status at all: a channel that ends without one was cut.
    """

    level = ""

    def __init__(
        self, commands: ExecTransport, platform: Platform, limits: AnswerLimits, transcript: Transcript
    ) -> None:
        self.platform = platform
        self.transcript = transcript
        self._commands = commands
        self._limits = limits

    async def start(self) -> None:
        """There is nothing to wait for."""

    @property
    def addresses(self) -> tuple[str, str]:
        return self._commands.addresses

    async def send(self, lines: Sequence[Line], sent: Callable[[int], None] = lambda number: None) -> None:
        for number, line in enumerate(lines):
            await self._do(line, number=number)
            sent(number + 1)

    async def listing(self, command: str, *, written_down: bool = True) -> str:
        return await self._do(Line((command,)), log_answer=written_down)

    async def gain_privilege(self) -> None:
        """There are no levels."""

    async def leave_editing(self) -> None:
        """Nothing is open between two commands."""

    async def close(self) -> None:
        self.transcript.note("connection closed")
        try:
            await asyncio.shield(self._commands.close())
        except OSError:
            pass

    async def _do(self, line: Line, *, number: int | None = None, log_answer: bool = True) -> str:
        masked = line.masked.strip()
        for secret in line.secrets:
            self.transcript.masking.add(secret)
        self.transcript.sent(line.masked)
        command = await self._commands.run(line.written())
        try:
            said = await self._answer(command, masked)
        except BaseException:
            command.abandon()
            raise
        finally:
            ANSWERS.release(self)
        told = await parse_if_long((said,), dialogue.as_on_screen, said)
        self.transcript.received(told if log_answer else f"({told.count(chr(10))} lines, not logged)")
        if command.status is None:
            self.transcript.note("the command ended without an exit status")
            raise ConnectionFailed(
                f"the device ended '{masked}' without an exit status; whether it took effect is unknown"
            )
        wrong = await parse_if_long((told,), dialogue.error_in, told, self.platform.dialect, masked)
        if wrong is None and command.status != 0:
            last = next(
                (
                    text
                    for text in reversed(dialogue.as_on_screen(command.complaints or said).split("\n"))
                    if text.strip()
                ),
                "",
            )
            wrong = last.strip() or f"exit status {command.status}"
        if wrong is not None:
            shown, wrong = line.masked.strip(), self.transcript.masking.hide(wrong)
            raise DeviceRefused(
                f"the device rejected '{shown}': {wrong}", statement=shown, answer=wrong, number=number
            )
        return told

    async def _answer(self, command: ExecCommand, shown: str) -> str:
        """All that a command says, within the limits. Raises DeviceTimeout, ProtocolError."""
        chunks: list[str] = []
        size = lines = 0
        limits = self._limits
        try:
            async with asyncio.timeout(limits.at_most_s) as whole:
                while True:
                    async with asyncio.timeout(limits.silence_s):
                        arrived = await command.read()
                    if not arrived:
                        return "".join(chunks)
                    chunks.append(arrived)
                    size, lines = size + len(arrived), lines + arrived.count("\n")
                    hold_answer(self, size, self.transcript)
                    for found, most, what in (
                        (size, limits.at_most_bytes, "bytes"),
                        (lines, limits.at_most_lines, "lines"),
                    ):
                        if found > most:
                            message = (
                                f"the device sent too much: more than {most} {what} in the answer to"
                                f" '{shown}'"
                            )
                            raise ProtocolError(
                                message, hint=f"allow more with max_answer_{what} in oast.toml"
                            )
        except TimeoutError:
            waited, setting = (
                (limits.at_most_s, "max_answer_s")
                if whole.expired()
                else (limits.silence_s, "command_timeout_s")
            )
            self.transcript.note(f"not finished after {waited:g} s")
            message = f"the answer to '{shown}' did not end within {waited:g} s"
            raise DeviceTimeout(message, hint=f"allow more time with {setting} in oast.toml") from None
