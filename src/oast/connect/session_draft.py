"""What an unknown command line is like, found out in one session: prompts, levels, the pager, and how it
refuses a command.

Sent are empty lines, a word that no device knows, and the commands that the engineer named; nothing else.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from oast.connect.channel import Transport
from oast.connect.prompt_reader import as_on_screen
from oast.connect.transcript import Transcript
from oast.errors import ConnectionFailed, DeviceTimeout
from oast.records import Secret

UNKNOWN_WORD = "oast-asks-for-nothing"
# A device that is silent for so long, in seconds, waits for input.
QUIET_S = 1.0
LONGEST_PAGER = 100
MOST_PAGES = 20_000
# New answers to an empty line until two are the same.
PROMPT_ATTEMPTS = 3
PASSWORD = re.compile(r"(?i)(?:pass(?:word|code|phrase)|secret)")


@dataclass(frozen=True)
class SessionCommands:
    """What the engineer types on such a device: to list what runs, to obtain the right to change, to begin
    and to end editing."""

    running: str | None = None
    obtain: str | None = None
    enter: str | None = None
    leave: str | None = None


@dataclass
class SessionDraft:
    """What was found out. `prompts` are patterns by level; `findings` say how each was found, or why
    something was not."""

    prompts: dict[str, str] = field(default_factory=dict)
    privileged: list[str] = field(default_factory=list)
    password: str | None = None
    pager: str | None = None
    errors: list[str] = field(default_factory=list)
    level: str | None = None
    listing: str | None = None
    findings: list[str] = field(default_factory=list)


async def draft_session(
    transport: Transport[str],
    commands: SessionCommands,
    privilege: Secret | None,
    names: Sequence[str],
    transcript: Transcript,
    silence_s: float,
) -> SessionDraft:
    """Find out what the session at `transport` is like. `names` may stand in a prompt and are of this device
    alone; `silence_s` is how long, in seconds, the first answer may take.

    Changes nothing on the device. Raises DeviceError when nothing can be found out.
    """
    session = _UnknownSession(transport, transcript, silence_s)
    draft = SessionDraft()
    await session.quiet()
    first = await session.prompt()
    draft.prompts["view"] = prompt_pattern(first, names)
    draft.findings.append("the prompt, from two empty lines")
    await _refusal(session, draft)
    if commands.running is not None:
        draft.listing = await session.listing(commands.running, draft)
    level = (
        await _raised(session, draft, commands.obtain, privilege, names)
        if commands.obtain is not None
        else "view"
    )
    if commands.enter is not None and commands.leave is not None:
        await _edited(session, draft, commands.enter, commands.leave, names)
    draft.privileged = [level]
    return draft


async def _refusal(session: _UnknownSession, draft: SessionDraft) -> None:
    answer = [line.strip() for line in (await session.ask(UNKNOWN_WORD)).split("\n") if line.strip()]
    said = next((line for line in answer if set(line) - set("^ ")), None)
    if said is None:
        draft.findings.append("no error pattern: the device does not answer an unknown command")
        return
    draft.errors.append(error_pattern(said))
    draft.findings.append("the error pattern, from an unknown command")


async def _raised(
    session: _UnknownSession,
    draft: SessionDraft,
    command: str,
    privilege: Secret | None,
    names: Sequence[str],
) -> str:
    said = await session.ask(command, until_prompt=False)
    last = said.rpartition("\n")[2].rstrip("\r")
    if PASSWORD.search(last):
        draft.password = escaped(last)
        if privilege is None:
            draft.findings.append(
                "no second level: it asks for a password, and privilege_password is not set in oast.toml"
            )
            await session.ask("", until_prompt=False)
            return "view"
        await session.secret(privilege)
    pattern = prompt_pattern(await session.prompt(), names)
    if pattern == draft.prompts["view"]:
        draft.findings.append(f"no second level: the prompt is the same after '{command}'")
        return "view"
    draft.prompts["full"] = pattern
    draft.findings.append(f"the level 'full', from the prompt after '{command}'")
    return "full"


async def _edited(
    session: _UnknownSession, draft: SessionDraft, enter: str, leave: str, names: Sequence[str]
) -> None:
    before = session.last_prompt
    await session.ask(enter, until_prompt=False)
    pattern = prompt_pattern(await session.prompt(), names)
    known = next((level for level, one in draft.prompts.items() if one == pattern), None)
    draft.level = known or "edit"
    draft.prompts[draft.level] = pattern
    draft.findings.append(f"the level '{draft.level}' while editing, from the prompt after '{enter}'")
    await session.ask(leave, until_prompt=False)
    if await session.prompt() != before:
        draft.findings.append(f"'{leave}' does not return to the prompt before '{enter}'")


class _UnknownSession:
    """A session in which nothing is known of the other end: what it waits for shows by its silence."""

    def __init__(self, transport: Transport[str], transcript: Transcript, silence_s: float) -> None:
        self._transport = transport
        self._transcript = transcript
        self._silence_s = silence_s
        self.last_prompt = ""

    async def quiet(self, *, end: str = "", first_s: float | None = None) -> str:
        """What arrives until the device is silent, or ends with the prompt `end`. Raises DeviceError."""
        text = ""
        while True:
            if end and as_on_screen(text).endswith(end):
                return text
            wait_s = (self._silence_s if first_s is None else first_s) if not text else QUIET_S
            try:
                async with asyncio.timeout(wait_s):
                    more = await self._transport.read()
            except TimeoutError:
                if not text and first_s is None:
                    raise DeviceTimeout(
                        f"the device was silent for {wait_s:g} s", hint="allow more time with --timeout"
                    ) from None
                return text
            if not more:
                self._transcript.received(as_on_screen(text))
                raise ConnectionFailed("the device ended the session", hint="see the transcript")
            text += more

    async def ask(self, command: str, *, until_prompt: bool = True) -> str:
        """The answer to a command, without its echo and the prompt. Raises DeviceError."""
        self._transcript.sent(command)
        self._transport.write(f"{command}\n")
        text = as_on_screen(await self.quiet(end=self.last_prompt if until_prompt else ""))
        self._transcript.received(text)
        return self._without(text, command)

    async def secret(self, secret: Secret) -> None:
        self._transcript.masking.add(secret)
        self._transcript.note("the privilege password")
        self._transport.write(f"{secret.reveal()}\n")
        self._transcript.received(as_on_screen(await self.quiet()))

    async def prompt(self) -> str:
        """What comes after an empty line, twice the same; it may be several lines. Raises DeviceError."""
        self.last_prompt = ""
        before = await self._empty("")
        for _ in range(PROMPT_ATTEMPTS):
            again = await self._empty(before)
            if again == before and again.strip():
                self.last_prompt = again
                return again
            before = again
        raise ConnectionFailed("no prompt: the answers to two empty lines differ", hint="see the transcript")

    async def _empty(self, expected: str) -> str:
        """What comes after an empty line; not waited for any longer once it ends as `expected`."""
        self._transcript.sent("")
        self._transport.write("\n")
        text = as_on_screen(await self.quiet(end=expected))
        self._transcript.received(text)
        return self._without(text, "").strip("\r\n")

    async def listing(self, command: str, draft: SessionDraft) -> str:
        """A listing page by page. Raises DeviceError."""
        self._transcript.sent(command)
        self._transport.write(f"{command}\n")
        pages: list[str] = []
        for _ in range(MOST_PAGES):
            text = as_on_screen(await self.quiet(end=self.last_prompt))
            if text.endswith(self.last_prompt):
                pages.append(text.removesuffix(self.last_prompt))
                break
            last = text.rpartition("\n")[2]
            if not last.strip() or len(last) > LONGEST_PAGER:
                raise ConnectionFailed(
                    f"'{command}' ended with neither the prompt nor a pager", hint="see the transcript"
                )
            if draft.pager is None:
                draft.pager = escaped(last.strip())
                draft.findings.append(f"the pager, from the answer to '{command}'")
            pages.append(text.removesuffix(last))
            self._transport.write(" ")
        listing = self._without("".join(pages), command)
        self._transcript.note(f"{listing.count(chr(10))} lines, not logged")
        draft.findings.append(f"the configuration, from '{command}'")
        return listing

    def _without(self, text: str, command: str) -> str:
        """Without the echo of the command, and without the prompt behind it."""
        lines = text.removesuffix(self.last_prompt or "\0").split("\n")
        if lines and lines[0].strip() in (command.strip(), ""):
            lines = lines[1:]
        return "\n".join(lines)


def escaped(text: str) -> str:
    """A pattern for a text in which numbers differ."""
    return re.sub(r"[0-9]+", "[0-9]+", re.sub(r"([][\\.^$*+?{}|()])", r"\\\1", text))


def prompt_pattern(prompt: str, names: Sequence[str]) -> str:
    """A pattern for a prompt, in which the device's own name may be any other."""
    pattern = escaped(prompt).replace("\n", "\\n")
    for name in sorted((name for name in names if name), key=len, reverse=True):
        if re.search(rf"(?<![\w.-]){re.escape(name)}(?![\w-])", prompt):
            return pattern.replace(escaped(name), r"\S+", 1)
    return pattern


def error_pattern(line: str) -> str:
    """A pattern for a line that refuses a command: up to its first colon it is always the same."""
    head, colon, rest = line.partition(":")
    if colon and rest.strip() and UNKNOWN_WORD not in head:
        return f"{escaped(head)}: ?(?P<message>.*)"
    whole = escaped(line).replace(escaped(UNKNOWN_WORD), ".*")
    return f"(?P<message>{whole})"
