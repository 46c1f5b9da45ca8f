"""What a platform definition says, as plain records. Commands are templates with {…} for what varies; patterns are regular expressions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from oast.platforms.grammar import Grammar


@dataclass(frozen=True, slots=True)
class Dialect:
    """How a session on the command line goes.

    `prompts` are by level; at one of the `privileged` levels a session may change the device. `in_flight` is how many lines of
    a configuration may be sent before the first is answered.
    """

    prompts: Mapping[str, str]
    running: str
    privileged: frozenset[str] = frozenset()
    errors: tuple[str, ...] = ()
    prepare: tuple[str, ...] = ()
    pager_prompt: str | None = None
    pager_answer: str = " "
    raise_command: str | None = None
    raise_password: str | None = None
    leave: str | None = None
    startup: str | None = None
    save: str | None = None
    enter: tuple[str, ...] = ()
    leave_edit: tuple[str, ...] = ()
    edit_level: str | None = None
    lock: str | None = None
    unlock: str | None = None
    in_flight: int = 1


@dataclass(frozen=True, slots=True)
class Shown:
    """How a device shows that something is so: a command, and a pattern that a line of its answer matches."""

    command: str
    pattern: str


@dataclass(frozen=True, slots=True)
class TimerCommands:
    """A revert timer that is armed before the first line: unless confirmed in time, running goes back to what it was."""

    arm: str
    confirm: str
    revert: str
    armed: Shown | None = None


@dataclass(frozen=True, slots=True)
class CandidateCommands:
    """A candidate that takes effect by a commit that must be confirmed (RFC 6241, section 8.4)."""

    commit: str
    confirm: str
    cancel: str
    validate: str | None = None
    discard: str | None = None
    pending: Shown | None = None


@dataclass(frozen=True, slots=True)
class FileCommands:
    """A configuration that is one file, applied under the timer of a daemon. `put` writes {text} to {path}, up to a line {end}."""

    path: str
    beside: str
    put: str
    apply: str
    confirm: str
    cancel: str
    check: str | None = None
    pending: Shown | None = None


@dataclass(frozen=True, slots=True)
class ScheduledCommands:
    """A restart or restore of the device's own that Oast arms before editing, where there is no better way back."""

    arm: str
    cancel: str
    armed: Shown


@dataclass(frozen=True, slots=True)
class EditSpelling:
    """How one edit is written for this platform, where its statement does not say."""

    comment: str = "#"
    indent: int = 2
    remove: str = "remove {identity}"
    insert_before: str | None = None
    insert_last: str | None = None
    remove_unknown: str | None = None
    set: str = "{line}"


@dataclass(frozen=True, slots=True)
class ReadingDefinition:
    """A command whose answer is a table: heading of a column to name of a field.

    `intervals` are the statements that say, in seconds, how long a peer's silence or a change takes to show in it.
    """

    command: str
    columns: Mapping[str, str]
    intervals: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Platform:
    """Everything Oast knows of a kind of device. At most one of `timer`, `candidate` and `file` is declared."""

    name: str
    syntax: str
    transport: str
    grammar: Grammar
    spelling: EditSpelling
    dialect: Dialect
    timer: TimerCommands | None = None
    candidate: CandidateCommands | None = None
    file: FileCommands | None = None
    scheduled: ScheduledCommands | None = None
    readings: Mapping[str, ReadingDefinition] = field(default_factory=dict)
    roles: Mapping[str, str] = field(default_factory=dict)
