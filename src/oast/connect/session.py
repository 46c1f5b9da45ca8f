"""A session with a device: what the rest of Oast asks of it, and how it goes on a command line.

A session carries words; what they do to the device is decided by the strategies in `oast.change.methods`.
"""

from __future__ import annotations

import asyncio
import re
from abc import ABC, abstractmethod
from collections.abc import AsyncIterator, Callable, Iterable, Mapping, Sequence
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass
from typing import Protocol

from oast.answer_parsing import parse_if_long
from oast.config import Line
from oast.connect import prompt_reader as dialogue
from oast.connect.capability import Capability
from oast.connect.channel import Transport
from oast.connect.prompt_reader import ANSWERS, TooMuchHeld
from oast.connect.transcript import Transcript
from oast.errors import (
    AuthenticationFailed,
    ConnectionFailed,
    DeviceError,
    DeviceRefused,
    DeviceTimeout,
    ProtocolError,
)
from oast.platforms import Platform, StatePattern
from oast.records import Secret

# How long a device may take to notice that a session ends.
CLOSING_S = 5.0


@dataclass(frozen=True)
class AnswerLimits:
    """What is waited for and taken in for one answer: seconds of silence, seconds in all, bytes, lines, and
    elements of XML."""

    silence_s: float
    at_most_s: float = 300.0
    at_most_bytes: int = 16_000_000
    at_most_lines: int = 50_000
    at_most_elements: int = 50_000


def hold_answer(session: object, size: int, transcript: Transcript) -> None:
    """Count what `session` holds of an unfinished answer. Raises ProtocolError when all answers take too
    much, and this one most."""
    try:
        ANSWERS.hold(session, size)
    except TooMuchHeld:
        transcript.note(f"stopped: all answers together take more than {ANSWERS.at_most} bytes")
        megabytes = ANSWERS.at_most // 1_000_000
        message = (
            f"all answers together take more than {megabytes} MB, and this device's answer is the largest"
        )
        raise ProtocolError(message, hint="read fewer devices at the same time: --parallel") from None


# What the device waits at in the middle of an answer.
ANSWERED = ("pager", "question")


class Session(Protocol):
    """One open session. All methods raise DeviceError; after ConnectionFailed or cancellation only `close` is
    of use."""

    platform: Platform
    transcript: Transcript
    reached_at: str
    """The address of the device at which the session was opened, as the inventory has it; "" where none was
    given."""
    session_id: str
    """By which the device knows the session (RFC 6241, section 8.1); "" where it has no such number."""

    @property
    def capabilities(self) -> frozenset[Capability]:
        """What the device can do."""

    @property
    def level(self) -> str:
        """The level of the prompt at which the device waits; "" before the first."""

    @property
    def addresses(self) -> tuple[str, str]:
        """The device's address and ours, as the connection has them; "" where that is not known."""

    async def listing(self, command: str, *, written_down: bool = True) -> str:
        """The answer to what lists something: a command, or over NETCONF the path of what is read. Proved to
        be whole.

        Leaves the configuration mode first.
        Raises DeviceRefused with the device's words. The log has it only if it is to be `written_down`.
        """

    async def probe(self, command: str, inputs: Mapping[str, str]) -> str:
        """The answer to what is tried out, as a ping: `inputs` go into the places of the command that have
        their names, or over NETCONF into the operation. Raises DeviceRefused."""

    async def read_running(self) -> str:
        """The text of the running configuration. Leaves the configuration mode first."""

    async def read_startup(self) -> str:
        """The text of the configuration that the device starts with. Leaves the configuration mode first."""

    async def gain_privilege(self) -> None:
        """Obtain the right to change the device. Raises AuthenticationFailed."""

    async def leave_editing(self) -> None:
        """End editing, where the session is editing."""

    async def close(self) -> None:
        """End the session. Never raises."""


async def close_sessions(sessions: Iterable[Session], within_s: float = CLOSING_S) -> None:
    """Close sessions side by side. One that has not closed within `within_s` seconds is left to the operating
    system: a device that does not notice must not delay the others."""

    async def close(session: Session) -> None:
        with suppress(TimeoutError, DeviceError):
            async with asyncio.timeout(within_s):
                await session.close()

    await asyncio.gather(*(close(session) for session in sessions))


class CommandLine(Session, Protocol):
    """A session on a command line."""

    async def ask(self, command: str) -> str:
        """The device's answer to one command. Raises DeviceRefused with the device's words."""

    async def shown(self, state: StatePattern) -> re.Match[str] | None:
        """The line in which the device shows that something is so."""

    async def shows(self, state: StatePattern) -> bool:
        """Whether the device shows that something is so."""

    async def send(self, lines: Sequence[Line], sent: Callable[[int], None] = lambda number: None) -> None:
        """Execute lines, as many in flight as the platform allows; `sent` is called with the number of
        answered lines.

        Raises DeviceRefused for the first refused line, with its number; the lines in flight after it were
        sent all the same.
        """


def offered_by(platform: Platform) -> frozenset[Capability]:
    """What a device on a command line can do, as its platform declares it."""
    offered = {
        Capability.CANDIDATE: platform.candidate is not None,
        Capability.REVERT_TIMER: any((platform.timer, platform.candidate, platform.file)),
        Capability.LOCK: platform.dialect.lock is not None,
        Capability.VALIDATE: bool(
            (platform.candidate and platform.candidate.validate) or (platform.file and platform.file.check)
        ),
        Capability.STARTUP: platform.dialect.startup is not None,
        Capability.WRITE_STARTUP: platform.dialect.write_startup is not None,
    }
    return frozenset(capability for capability, there in offered.items() if there)


class CliSessionBase(ABC):
    """What both kinds of command line do with a single command."""

    platform: Platform
    reached_at = ""
    session_id = ""

    @abstractmethod
    async def _do(self, line: Line, *, number: int | None = None, log_answer: bool = True) -> str:
        """The device's answer to one line. Raises DeviceRefused."""

    @abstractmethod
    async def listing(self, command: str, *, written_down: bool = True) -> str:
        """The whole answer to what lists something."""

    async def probe(self, command: str, inputs: Mapping[str, str]) -> str:
        return await self.listing(command.format_map(inputs))

    @property
    def capabilities(self) -> frozenset[Capability]:
        return offered_by(self.platform)

    async def ask(self, command: str) -> str:
        return await self._do(Line((command,)))

    async def shown(self, state: StatePattern) -> re.Match[str] | None:
        told = await self.ask(state.command)
        return next(
            (match for line in told.split("\n") if (match := re.fullmatch(state.pattern, line.strip()))), None
        )

    async def shows(self, state: StatePattern) -> bool:
        return await self.shown(state) is not None

    async def read_running(self) -> str:
        return await self.listing(self.platform.dialect.running, written_down=False)

    async def read_startup(self) -> str:
        if self.platform.dialect.startup is None:
            raise ProtocolError("the platform does not say how to read startup")
        return await self.listing(self.platform.dialect.startup, written_down=False)


class CommandLineSession(CliSessionBase):
    """A session on a command line that a platform's dialect describes; `limits` bound each answer."""

    def __init__(
        self,
        transport: Transport[str],
        platform: Platform,
        limits: AnswerLimits,
        privilege_passwords: Sequence[Secret],
        transcript: Transcript,
    ) -> None:
        self.platform = platform
        self._transport = transport
        self._dialect = platform.dialect
        self._limits = limits
        self._passwords = privilege_passwords
        self.transcript = self._transcript = transcript
        self._reader = dialogue.PromptReader(platform.dialect)
        self._level = ""

    async def start(self) -> None:
        """Wait for the first prompt, and switch paging off."""
        await self._wait("the first prompt")
        self._reader.take()
        for command in self._dialect.prepare:
            await self.ask(command)

    # --- the contract
    # ---------------------------------------------------------------------------------------------

    @property
    def level(self) -> str:
        return self._level

    @property
    def addresses(self) -> tuple[str, str]:
        return self._transport.addresses

    async def send(self, lines: Sequence[Line], sent: Callable[[int], None] = lambda number: None) -> None:
        # Text over several lines goes alone: the device answers it once. So does what it may ask something
        # about.
        alone = [
            any("\n" in part for part in line.parts if isinstance(part, str))
            or self._may_be_asked(line.masked.strip())
            for line in lines
        ]
        start = 0
        while start < len(lines):
            end = start + 1
            while (
                end < min(len(lines), start + self._dialect.in_flight) and not alone[start] and not alone[end]
            ):
                end += 1
            if end == start + 1:
                await self._do(lines[start], number=start)
            else:
                await self._together(lines[start:end], start)
            start = end
            sent(start)

    async def gain_privilege(self) -> None:
        if self._level in self._dialect.privileged or self._dialect.privilege_command is None:
            return
        for password in (*self._passwords,) or (None,):
            await self._raise(self._dialect.privilege_command, password)
            if self._level in self._dialect.privileged:
                return
        raise AuthenticationFailed(
            "the device rejected the privilege password",
            hint="check 'privilege_password' in oast.toml",
        )

    async def _raise(self, command: str, password: Secret | None) -> None:
        self._reader.command = command
        self._write(command)
        self._transcript.sent(command)
        stop = await self._wait("the answer to " + command)
        self._reader.take()
        if stop.kind == "password":
            if password is None:
                raise AuthenticationFailed(
                    "the device asks for its privilege password",
                    hint='set privilege_password = { secret = "NAME" } below [connection] in oast.toml',
                )
            self.transcript.masking.add(password)
            self._write(password.reveal())
            self._transcript.sent("(the privilege password)")
            await self._wait("the privileged prompt")
            self._reader.take()

    async def leave_editing(self) -> None:
        # There may be several levels in which one edits, one inside the other.
        for _ in self._dialect.edit_levels:
            if self._level not in self._dialect.edit_levels:
                return
            for command in self._dialect.leave_edit:
                await self.ask(command)
        if self._level in self._dialect.edit_levels:
            raise ProtocolError(
                f"the device is still at the level '{self._level}' after the command that ends editing"
            )

    async def close(self) -> None:
        ANSWERS.release(self)
        self._reader.take()
        self._transcript.note("session closed")
        try:
            await asyncio.shield(self._transport.close())
        except OSError:
            pass

    # --- how it goes on a command line
    # ------------------------------------------------------------------------------

    async def listing(self, command: str, *, written_down: bool = True) -> str:
        # A device may pause behind a line that looks like its prompt, so an empty line goes with the command:
        # only when that is answered as well, with nothing in between, has everything arrived.
        await self.leave_editing()
        line = Line((command,))
        # With paging on, the pager would take the empty line for its answer.
        asked = (not self._dialect.pagers or bool(self._dialect.prepare)) and not self._may_be_asked(command)
        self._transcript.sent(command)
        self._reader.command = command
        self._write(f"{command}\n" if asked else command)
        awaited = f"the end of '{command}'"
        async with self._deadline(awaited):
            while True:
                stop = await self._next(awaited, answer=not asked)
                if stop.kind == "password":
                    raise ProtocolError(f"the device asks for a password after '{command}'")
                if stop.kind in ANSWERED:
                    asked = False
                    continue
                whole = self._reader.whole()
                if whole is not None:
                    return await self._answer(whole[0], line, whole[1], None, log_answer=written_down)
                if not asked:
                    asked = True
                    self._write("")

    def _may_be_asked(self, command: str) -> bool:
        """Whether the device may ask something before it has done `command`: what is typed ahead would be the
        answer."""
        return any(dialogue.question_applies(question, command) for question in self._dialect.questions)

    def _write(self, line: str) -> None:
        self._transport.write(line + "\n")

    def _reveal(self, line: Line) -> str:
        """A line as it is sent; the secrets in it are hidden in everything that is written down
        from now on."""
        for secret in line.secrets:
            self._transcript.masking.add(secret)
        return line.written()

    async def _do(self, line: Line, *, number: int | None = None, log_answer: bool = True) -> str:
        masked = line.masked.strip()
        self._transcript.sent(line.masked)
        self._reader.command = masked
        self._write(self._reveal(line))
        stop = await self._wait(f"the answer to '{masked}'")
        if stop.kind == "password":
            raise ProtocolError(f"the device asks for a password after '{masked}'")
        return await self._answer(self._reader.take(), line, stop.prompt, number, log_answer=log_answer)

    async def _together(self, lines: Sequence[Line], first: int) -> None:
        """Send lines without waiting in between, and read their answers."""
        self._reader.command = ""
        self._reader.counts_prompts = True
        for line in lines:
            self._transcript.sent(line.masked)
        self._write("\n".join(self._reveal(line) for line in lines))
        answered: list[str] | None = None
        while answered is None:
            stop = await self._wait(lines)
            if stop.kind == "password":
                raise ProtocolError(f"the device asks for a password after '{lines[0].masked.strip()}'")
            answered = self._reader.answers(len(lines))
        self._reader.counts_prompts = False
        for number, (line, text) in enumerate(zip(lines, answered, strict=True), first):
            prompt = stop.prompt if number == first + len(lines) - 1 else self._reader.prompt_of(text)
            await self._answer(text, line, prompt, number, log_answer=True)

    async def _answer(
        self, text: str, line: Line, prompt: str, number: int | None, *, log_answer: bool
    ) -> str:
        """The device's own words to one line. Raises DeviceRefused when they say no."""
        ANSWERS.release(self)
        told = await parse_if_long((text,), dialogue.clean_answer, text, line.written(), prompt)
        self._transcript.received(told if log_answer else f"({told.count(chr(10))} lines, not logged)")
        # The answer is returned unchanged, as a reading may contain the word of a secret. Messages about it
        # are masked.
        wrong = await parse_if_long((told,), dialogue.error_in, told, self._dialect, line.masked.strip())
        if wrong is not None:
            masked, wrong = line.masked.strip(), self._transcript.masking.hide(wrong)
            raise DeviceRefused(
                f"the device rejected '{masked}': {wrong}", statement=masked, answer=wrong, number=number
            )
        return told

    def _what(self, awaited: str | Sequence[Line]) -> str:
        """What was waited for; of lines in flight, the first without an answer."""
        if isinstance(awaited, str):
            return awaited
        return f"the answer to '{awaited[min(self._reader.answered, len(awaited) - 1)].masked.strip()}'"

    async def _wait(self, awaited: str | Sequence[Line]) -> dialogue.PromptEvent:
        """Until the device waits for input; pages are turned on the way. Raises ConnectionFailed,
        DeviceTimeout."""
        async with self._deadline(awaited):
            while True:
                stop = await self._next(awaited)
                if stop.kind not in ANSWERED:
                    return stop

    async def _next(self, awaited: str | Sequence[Line], *, answer: bool = True) -> dialogue.PromptEvent:
        """Until the device waits for input or has shown a page. That gets its `answer`, unless an empty line
        is on its way."""
        try:
            while True:
                async with asyncio.timeout(self._limits.silence_s):
                    arrived = await self._transport.read()
                if not arrived:
                    self._transcript.note("the connection ended")
                    raise ConnectionFailed(
                        f"the device closed the session while Oast waited for {self._what(awaited)}"
                    )
                stop = self._reader.feed(arrived)
                self._need_bounded(awaited)
                if stop is None:
                    continue
                if stop.kind == "question":
                    self._transcript.note(f"question: {stop.prompt!r}, answer: {stop.answer!r}")
                    self._write(stop.answer)
                elif stop.kind == "pager":
                    if answer or stop.answer.strip():
                        self._transport.write(stop.answer)
                elif stop.kind == "prompt":
                    self._level = stop.level
                return stop
        except TimeoutError:
            last = self._transcript.masking.hide(self._reader.so_far())[-120:]
            self._transcript.note(f"nothing for {self._limits.silence_s:g} s; last: {last!r}")
            passed = DeviceTimeout(
                f"no answer within {self._limits.silence_s:g} s (waiting for {self._what(awaited)})"
            )
            passed.last = last
            raise passed from None

    def _need_bounded(self, awaited: str | Sequence[Line]) -> None:
        """However much a device sends, so much of an answer is taken in. Raises ProtocolError."""
        limits, reader = self._limits, self._reader
        for what, number, most in (
            ("bytes", reader.size, limits.at_most_bytes),
            ("lines", reader.lines, limits.at_most_lines),
        ):
            if number > most:
                self._transcript.note(f"more than {most} {what}")
                message = f"the device sent too much: more than {most} {what} in {self._what(awaited)}"
                raise ProtocolError(message, hint=f"allow more with max_answer_{what} in oast.toml")
        hold_answer(self, reader.size, self._transcript)

    @asynccontextmanager
    async def _deadline(self, awaited: str | Sequence[Line]) -> AsyncIterator[None]:
        """However little a device sends at a time, its answer ends. Raises DeviceTimeout."""
        try:
            async with asyncio.timeout(self._limits.at_most_s):
                yield
        except TimeoutError:
            self._transcript.note(f"not finished after {self._limits.at_most_s:g} s")
            message = (
                f"no complete answer within {self._limits.at_most_s:g} s (waiting for {self._what(awaited)})"
            )
            raise DeviceTimeout(message, hint="allow more time with max_answer_s in oast.toml") from None
