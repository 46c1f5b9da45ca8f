"""Platforms being written: how a saved listing is understood, and what of a platform can be tried on a device
without changing it."""

from __future__ import annotations

import difflib
import re
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import cast

from oast.config import (
    TAB,
    IndentedSyntax,
    Node,
    TextProblem,
    accept_listed,
    canonical,
    difference,
    secrets_below,
    tree_as_listed,
)
from oast.connect import Capability, CommandLine, Connector, Session
from oast.errors import DeviceError, DeviceRefused, DeviceTimeout, ProtocolError
from oast.estate import Device
from oast.platforms import READINGS, Platform, StatePattern
from oast.readings import read_readings, show_value


@dataclass(frozen=True)
class ParsedLine:
    """A line of a listing (from 1) and the statements that it was understood as, outermost first; secrets are
    fingerprints."""

    number: int
    statements: tuple[str, ...]
    known: bool


@dataclass(frozen=True)
class ParseReport:
    """How a platform reads a listing. `lines` are those that hold a statement, `problems` those that are not
    understood.

    `lost` is what is not the same when the listing is printed and read again; nothing, when the platform is
    right. `different` counts the lines that are printed in other words than they were listed in, comments and
    order included.
    """

    lines: tuple[ParsedLine, ...]
    problems: tuple[TextProblem, ...]
    lost: tuple[str, ...]
    different: int = 0

    @property
    def known(self) -> int:
        return sum(line.known for line in self.lines)


def parse_report(syntax: IndentedSyntax, text: str) -> ParseReport:
    """Return how `text` is parsed, line by line. Raises ProtocolError when the text is not a
    configuration."""
    as_listed = text
    # A device may indent with tabs, which is a mistake in a template only.
    text = re.sub(r"(?m)^[ \t]+", lambda margin: margin[0].expandtabs(TAB), text)
    parsed = syntax.parse(text)
    printed = syntax.written(accept_listed(parsed))
    again = syntax.parse(printed)
    edits = difference(canonical(parsed.tree), canonical(again.tree))
    lost = tuple(" / ".join((*(node.text for node in edit.outer), edit.node.text)) for edit in edits)
    by_line: dict[int, ParsedLine] = {}
    for number, path in syntax.lines_of(text):
        nodes = _nodes_at(parsed.tree, path)
        # The last statement of a line that is several is the one it is about.
        by_line[number] = ParsedLine(
            number, tuple(n.text for n in nodes), all(n.statement.rule.known for n in nodes) and bool(nodes)
        )
    lines = tuple(by_line[number] for number in sorted(by_line))
    delta = difflib.unified_diff(as_listed.splitlines(), printed.splitlines(), lineterm="", n=0)
    different = sum(1 for line in list(delta)[2:] if line.startswith("-"))
    return ParseReport(lines, parsed.problems, lost, max(different, int(as_listed != printed)))


def _nodes_at(tree: Node, path: tuple[str, ...]) -> list[Node]:
    nodes: list[Node] = []
    for identity in path:
        node = (nodes[-1] if nodes else tree).children.get(identity)
        if node is None:
            break
        nodes.append(node)
    return nodes


@dataclass(frozen=True)
class ProbeStep:
    """One thing that was tried: what, whether the device did as the platform says, and what was seen; then
    the likely fix."""

    what: str
    passed: bool
    saw: str
    hint: str | None = None


async def probe_platform(
    connector: Connector, device: Device, platform: Platform, syntax: IndentedSyntax, log: Path
) -> AsyncIterator[ProbeStep]:
    """Everything of `platform` that `device` can show without being changed, one after the other; ends where
    the session does.

    The transcript goes to `log` when something fails. Never raises DeviceError.
    """
    what = "connect, log in, and " + (
        "exchange hellos"
        if platform.netconf is not None
        else "get ready for commands"
        if platform.dialect.one_shot
        else "wait for the first prompt"
    )
    try:
        async with connector.session(device, platform, log) as session:
            offered = ", ".join(sorted(session.capabilities)) or "nothing"
            at = (
                f"capabilities: {offered}"
                if platform.netconf is not None
                else "logged in"
                if platform.dialect.one_shot
                else f"level '{session.level}'"
            )
            yield ProbeStep(what, True, at)
            for what, trial in _trials(session, platform, syntax, device.address):
                try:
                    yield ProbeStep(what, True, await trial())
                except _NotAsSaid as different:
                    yield ProbeStep(what, False, str(different), different.hint)
            session.transcript.write(log)
    except DeviceTimeout as late:
        hint = (
            f"no prompt of the platform matches the end of the output: {late.last!r}"
            if late.last
            else late.hint
        )
        yield ProbeStep(what, False, late.message, hint)
    except DeviceError as error:
        yield ProbeStep(what, False, error.message, error.hint)


class _NotAsSaid(Exception):
    """The session goes on, but the device does not do what the platform says."""

    def __init__(self, message: str, hint: str | None = None) -> None:
        super().__init__(message)
        self.hint = hint


def _trials(
    session: Session, platform: Platform, syntax: IndentedSyntax, address: str
) -> Iterator[tuple[str, Callable[[], Awaitable[str]]]]:
    dialect = platform.dialect

    async def running() -> str:
        return _counted(syntax, await session.read_running())

    async def privilege() -> str:
        await session.gain_privilege()
        return f"level '{session.level}'"

    async def startup() -> str:
        return _counted(syntax, await session.read_startup())

    if platform.netconf is not None:
        yield "read running: get-config", running
        if Capability.STARTUP in session.capabilities:
            yield "read startup: get-config", startup
    else:
        yield f"read running: {dialect.running}", running
    if platform.file is not None and platform.file.check is not None:
        for copy in ("an unchanged", "an edited"):
            what = (
                f"check {copy} copy of {platform.file.path}:"
                f" {platform.file.check.format(path=platform.file.beside)}"
            )
            yield (
                what,
                partial(
                    _checked_copy, cast(CommandLine, session), platform, syntax, is_edited=copy == "an edited"
                ),
            )
    if dialect.privilege_command is not None:
        yield f"enter privileged mode: {dialect.privilege_command}", privilege
    if dialect.startup is not None:
        yield f"read startup: {dialect.startup}", startup
    for way, state in _shown(platform):
        yield (
            f"check for a pending {way}: {state.command}",
            partial(_state, cast(CommandLine, session), state),
        )
    for name, reading in platform.readings.items():
        asks = READINGS[name].asks if name in READINGS else None
        # A reading that needs a destination is tried with the device's own address.
        about = (
            reading.command
            if reading.statements is None
            else f"'{reading.statements}' of the running configuration"
        )
        if asks is not None:
            about = (
                about.replace(f"{{{asks}}}", address) if platform.netconf is None else f"{about} {address}"
            )
        yield (
            f"reading {name}: {about}",
            partial(_reading, session, platform, name if asks is None else f"{name} {address}"),
        )


def _counted(syntax: IndentedSyntax, text: str) -> str:
    """Return how much of a listing is understood. Raises _NotAsSaid when not all of it is, or when printing
    it gives another text."""
    found = parse_report(syntax, text)
    if not found.lines and not text.strip():
        return "the configuration is empty"
    if not found.lines:
        raise _NotAsSaid("the output has no statement", "check that this command lists the configuration")
    said = f"{len(found.lines)} {'line' if len(found.lines) == 1 else 'lines'}, {found.known} understood"
    if found.lost:
        raise _NotAsSaid(
            f"{said}; not the same after printing and reading it again: {found.lost[0]}",
            "check how this statement is written",
        )
    if found.problems:
        first = found.problems[0]
        raise _NotAsSaid(f"{said}; line {first.line}: {first.message}", first.hint)
    return said


async def _checked_copy(
    session: CommandLine, platform: Platform, syntax: IndentedSyntax, *, is_edited: bool
) -> str:
    """Write a copy of the file beside it, have the device check it, and remove it again. The file itself is
    not touched."""
    file = platform.file
    if file is None or file.check is None:
        return "nothing to check"
    if file.read is not None:
        text = await session.listing(file.read, written_down=False)
    else:
        text = await (
            session.read_startup() if platform.dialect.startup is not None else session.read_running()
        )
    for secret in secrets_below(tree_as_listed(syntax, text)):
        if not secret.is_forgotten:
            session.transcript.masking.add(secret)
    text = text if text.endswith("\n") else f"{text}\n"
    copy = f"{text}{syntax.comment} a copy for checking only\n" if is_edited else text
    end = "END"
    while end in copy.split("\n"):
        end += "_"
    try:
        await session.ask(file.put.format(path=file.beside, text=copy, end=end))
        await session.ask(file.check.format(path=file.beside))
    except DeviceRefused as refused:
        raise _NotAsSaid(refused.message, "check [file] put and check of the platform") from None
    finally:
        if file.remove is not None:
            with suppress(DeviceRefused):
                await session.ask(file.remove.format(path=file.beside))
    return "accepted"


async def _state(session: CommandLine, shown: StatePattern) -> str:
    try:
        return (
            "pending: another session's change is not confirmed yet"
            if await session.shows(shown)
            else "none pending"
        )
    except DeviceRefused as refused:
        raise _NotAsSaid(refused.message) from None


async def _reading(session: Session, platform: Platform, name: str) -> str:
    try:
        found = (await read_readings(session, platform, [name]))[name]
    except (DeviceRefused, ProtocolError) as wrong:
        raise _NotAsSaid(wrong.message, wrong.hint) from None
    first = (
        ", ".join(f"{field} {show_value(value) or '-'}" for field, value in found[0].items()) if found else ""
    )
    return f"{len(found)} {'record' if len(found) == 1 else 'records'}" + (
        f"; the first: {first}" if first else ""
    )


def _shown(platform: Platform) -> Iterator[tuple[str, StatePattern]]:
    ways = (
        ("revert timer", platform.timer.armed if platform.timer is not None else None),
        ("commit", platform.candidate.pending if platform.candidate is not None else None),
        ("file", platform.file.pending if platform.file is not None else None),
        ("scheduled restore", platform.scheduled.armed if platform.scheduled is not None else None),
    )
    yield from ((way, shown) for way, shown in ways if shown is not None)


def not_probed(platform: Platform) -> list[str]:
    """What the platform says that cannot be tried without changing the device."""
    dialect = platform.dialect
    found = [
        ("editing", dialect.enter),
        ("saving", dialect.save),
        ("locking", dialect.lock),
        ("the rollback", next(_shown(platform), None)),
    ]
    return [*(name for name, declared in found if declared), "how a statement is set and removed"]
