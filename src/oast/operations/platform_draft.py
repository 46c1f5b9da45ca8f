"""A platform's file, drafted from a saved listing and, if there is one, a session with a device; every guess
is marked as one."""

from __future__ import annotations

import re
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from oast.config import syntax_of
from oast.connect import Connector, SessionCommands, SessionDraft, Transcript, draft_session
from oast.errors import EstateError
from oast.estate import Device
from oast.operations.platforms import ParseReport, parse_report
from oast.platforms import (
    DraftStatement,
    Platform,
    Writing,
    draft_lines,
    load_platform,
    roles_of,
    statements_of,
    writing_of,
)
from oast.records import Fingerprints

# A statement that does not fit its own lines is left out, and the rest is tried again; so often at most.
ATTEMPTS = 50
NO_COMMANDS = SessionCommands()


@dataclass(frozen=True)
class PlatformDraft:
    """The text of a platform's file, how it reads the listing, and the statements that were given up as they
    did not fit it."""

    text: str
    writing: Writing
    understanding: ParseReport
    statements: tuple[DraftStatement, ...]
    given_up: tuple[DraftStatement, ...]


def draft_platform(
    name: str,
    listing: str,
    fingerprints: Fingerprints,
    session: SessionDraft | None = None,
    commands: SessionCommands = NO_COMMANDS,
    syntax: str | None = None,
) -> PlatformDraft:
    """A platform called `name` that reads `listing`. Statements that do not read their own lines back are
    given up.

    Raises EstateError when not even a file without a grammar reads it.
    """
    writing = writing_of(listing, syntax)
    statements = statements_of(draft_lines(listing, writing))
    given_up: list[DraftStatement] = []
    for _ in range(ATTEMPTS):
        text = _file(name, writing, statements, session, commands)
        try:
            platform = _loaded(text, name, fingerprints)
        except EstateError as error:
            wrong = _wrong_in_file(error, text, statements)
            if not wrong:
                given_up += statements
                break
        else:
            found = parse_report(syntax_of(platform), listing)
            wrong = _wrong_in_listing(found, statements)
            if not wrong:
                return PlatformDraft(text, writing, found, tuple(statements), tuple(given_up))
        given_up += wrong
        gone = {one.path for one in wrong}
        statements = [
            one
            for one in statements
            if not any(one.path == path or one.path.startswith(f"{path}/") for path in gone)
        ]
    text = _file(name, writing, [], session, commands)
    return PlatformDraft(
        text,
        writing,
        parse_report(syntax_of(_loaded(text, name, fingerprints)), listing),
        (),
        tuple(given_up),
    )


async def draft_of_device(
    connector: Connector,
    device: Device,
    commands: SessionCommands,
    names: Sequence[str],
    log: Path,
    silence_s: float,
) -> SessionDraft:
    """What a session with `device` is like; the transcript goes to `log`. Changes nothing there. Raises
    DeviceError."""
    transcript = Transcript(time.monotonic, device.name)
    try:
        transport, privilege = await connector.bare(device, transcript)
        try:
            return await draft_session(
                transport, commands, privilege, (device.name, *names), transcript, silence_s
            )
        finally:
            await transport.close()
    finally:
        transcript.write(log)


def possible_names(listing: str) -> list[str]:
    """Words of a listing that may be the device's name: the only value of a short line at the left edge."""
    lines = [line.split() for line in listing.splitlines() if line and not line[0].isspace()]
    return [
        words[-1].strip('";')
        for words in lines
        if 2 <= len(words) <= 3 and re.fullmatch(r'"?[A-Za-z][\w.-]*"?;?', words[-1])
    ]


def _loaded(text: str, name: str, fingerprints: Fingerprints) -> Platform:
    with tempfile.TemporaryDirectory(prefix="oast-draft-") as folder:
        path = Path(folder) / f"{name}.toml"
        path.write_text(text, encoding="utf-8")
        return load_platform(path, fingerprints, path.name)


def _wrong_in_file(
    error: EstateError, text: str, statements: Sequence[DraftStatement]
) -> list[DraftStatement]:
    """The statements in whose lines of the file something is wrong."""
    lines = text.split("\n")
    numbers = {
        problem.place.line for problem in error.problems() if problem.place is not None and problem.place.line
    }
    return [
        one
        for one in statements
        if any(lines[number - 1].startswith(one.text) for number in numbers if number <= len(lines))
    ]


def _wrong_in_listing(found: ParseReport, statements: Sequence[DraftStatement]) -> list[DraftStatement]:
    """The statements that do not understand the lines that they were guessed from, or print
    something else."""
    problems = {problem.line for problem in found.problems}
    innermost = [one for one in statements if problems.intersection(one.lines)]
    innermost = [
        one for one in innermost if not any(other.path.startswith(f"{one.path}/") for other in innermost)
    ]
    if innermost or not found.lost:
        return innermost
    lost = {part.split(" ")[0] for text in found.lost for part in text.split(" / ")[-1:]}
    return [one for one in statements if one.path.rpartition("/")[2].split(" ")[0] in lost]


def _file(
    name: str,
    writing: Writing,
    statements: Sequence[DraftStatement],
    session: SessionDraft | None,
    commands: SessionCommands,
) -> str:
    return "".join(
        f"{line}\n"
        for line in (
            *_head(name, writing),
            *_session(session),
            *_edit(session, commands),
            *_grammar(statements),
        )
    )


def _head(name: str, writing: Writing) -> list[str]:
    sign = f"guess from {writing.comments} lines" if writing.comments else "default; none was found"
    lines = [
        (
            f"# How Oast talks to {name}: a draft. Check every line marked 'guess'. Reference:"
            " docs/platforms.md."
        ),
        (
            "# `oast platform check` shows how this file reads a saved configuration; `oast platform try`"
            " tests it on a device."
        ),
        "format = 2",
        "",
        "[platform]",
        f'name = "{name}"',
        f'syntax = "{writing.syntax}"    # guess',
        f"comment = {_text(writing.comment)}    # {sign}",
        f"indent = {writing.indent}    # guess",
    ]
    if not writing.quotes:
        lines.append("quotes = false    # guess: a line has a single double quote")
    if writing.ignore:
        lines.append(
            f"ignore = [{', '.join(map(_pattern, writing.ignore))}]    # guess: lines around the"
            " configuration"
        )
    if writing.syntax == "indented":
        lines.append(
            'remove = "remove {identity}"    # unknown from a configuration: how a statement is removed'
        )
    else:
        lines.append('set = "set {line}"    # unknown from a configuration: how a statement is set')
        lines.append(
            'remove = "remove {identity}"    # unknown from a configuration: how a statement is removed'
        )
    return lines


def _session(session: SessionDraft | None) -> list[str]:
    lines = ["", "[session]"]
    if session is None:
        return [
            *lines,
            ("# Unknown without a session (--on): a pattern per level, matched at the end of the output."),
            r"prompts = { view = '\S+> ?', full = '\S+# ?' }",
            'privileged = ["full"]    # levels in which the device can be changed',
            "errors = ['error: (?P<message>.*)']    # lines that report an error",
        ]
    lines.append(
        f"prompts = {{ {', '.join(f'{level} = {_pattern(one)}' for level, one in session.prompts.items())} }}"
        "    # guess"
    )
    lines.append(
        f"privileged = [{', '.join(map(_text, session.privileged))}]    # guess: levels in which the"
        " device can be changed"
    )
    if session.pager is not None:
        lines.append(f'pager = {{ prompt = {_pattern(session.pager)}, answer = " " }}    # guess')
    if session.errors:
        lines.append(
            f"errors = [{', '.join(map(_pattern, session.errors))}]    # guess: lines that report an error"
        )
    return lines


def _edit(session: SessionDraft | None, commands: SessionCommands) -> list[str]:
    lines = []
    if session is not None and commands.obtain is not None and "full" in session.prompts:
        password = f", password = {_pattern(session.password)}" if session.password is not None else ""
        lines.append(f"privilege = {{ command = {_text(commands.obtain)}{password} }}")
    running = commands.running
    lines += [
        "",
        "[edit]",
        f"running = {_text(running or 'COMMAND')}"
        + ("" if running else ("    # lists the running configuration")),
    ]
    if (
        session is not None
        and session.level is not None
        and commands.enter is not None
        and commands.leave is not None
    ):
        lines += [
            f"enter = {_text(commands.enter)}",
            f'level = "{session.level}"    # guess',
            f"leave = {_text(commands.leave)}",
        ]
    else:
        lines += [
            '# enter = "COMMAND"    # how editing starts and ends, and the prompt\'s level in between',
            '# leave = "COMMAND"',
        ]
    return [
        *lines,
        '# startup = "COMMAND"    # lists the startup configuration',
        '# save = "COMMAND"',
        *_ROLLBACK,
    ]


_ROLLBACK = (
    "",
    (
        "# Rollback, where the device has one: [timer], [candidate], [file] or [scheduled]; see"
        " docs/platforms.md."
    ),
)


def _grammar(statements: Sequence[DraftStatement]) -> list[str]:
    if not statements:
        return ["", "# No grammar could be guessed: lines are compared by their words."]
    lines = [
        "",
        (
            "# Guessed from the configuration: names, types and keys. A `leaf` may be a `leaf-list`; a"
            " choice of words may need a type."
        ),
    ]
    lines += ["[statements]", *(one.text for one in statements)]
    roles = roles_of(statements)
    if roles:
        lines += ["", "# Roles: the statements that checks and safety rules need to know.", "[roles]"]
        lines += [f"{role} = {_text(path)}    # guess" for role, path in roles.items()]
    return lines


def _text(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def _pattern(text: str) -> str:
    return f"'{text}'" if "'" not in text else _text(text)
