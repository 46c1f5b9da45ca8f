"""What a platform definition says, as plain records. Commands are templates with {…} for what varies;
patterns are regular expressions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from oast.platforms.grammar import Grammar
from oast.platforms.reading_schema import FieldType
from oast.platforms.statements import Module


@dataclass(frozen=True, slots=True)
class PromptAnswer:
    """What a device asks: where what it sent ends with `prompt`, `answer` is typed; with `command`, only
    behind one that fits."""

    prompt: str
    answer: str
    command: str | None = None


@dataclass(frozen=True, slots=True)
class ErrorPattern:
    """Lines that mean no, and only as the answer to a command that fits `command`."""

    command: str
    patterns: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class CliDialect:
    """How a command-line session works.

    `prompts` are by level; at one of the `privileged` levels a session may change the device. `in_flight` is
    how many lines of a configuration may be sent before the first is answered. `pagers` are answered with a
    key, `questions` with a line. Lines that match `warnings` are not errors, whatever else they match. At one
    of `edit_levels` the session edits. Where commands are `one_shot`, there is no session: each runs on its
    own, and there are no prompts. `write_startup` writes {text} to startup, up to a line {end}. A command
    that fully matches one of `read_only` changes nothing.
    """

    prompts: Mapping[str, str]
    running: str
    privileged: frozenset[str] = frozenset()
    errors: tuple[str, ...] = ()
    prepare: tuple[str, ...] = ()
    pagers: tuple[PromptAnswer, ...] = ()
    questions: tuple[PromptAnswer, ...] = ()
    warnings: tuple[str, ...] = ()
    refusals: tuple[ErrorPattern, ...] = ()
    privilege_command: str | None = None
    raise_password: str | None = None
    leave: str | None = None
    startup: str | None = None
    write_startup: str | None = None
    save: str | None = None
    enter: tuple[str, ...] = ()
    leave_edit: tuple[str, ...] = ()
    edit_levels: frozenset[str] = frozenset()
    lock: str | None = None
    unlock: str | None = None
    in_flight: int = 1
    one_shot: bool = False
    read_only: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class StatePattern:
    """How a device shows that something is so: a command, and a pattern that a line of its answer matches."""

    command: str
    pattern: str


@dataclass(frozen=True, slots=True)
class TimerCommands:
    """A revert timer that is armed before the first line: unless confirmed in time, the device restores
    running."""

    arm: str
    confirm: str
    revert: str
    armed: StatePattern | None = None
    extend: str | None = None


@dataclass(frozen=True, slots=True)
class CandidateCommands:
    """A candidate that takes effect by a commit that must be confirmed (RFC 6241, section 8.4)."""

    commit: str
    confirm: str
    cancel: str
    validate: str | None = None
    discard: str | None = None
    pending: StatePattern | None = None
    extend: str | None = None


@dataclass(frozen=True, slots=True)
class FileCommands:
    """A configuration that is one file, applied under the timer of a daemon. `put` writes {text} to {path},
    up to a line {end}.

    With `is_own_timer`, the daemon can do no more than reload, and the timer is a process that Oast starts on
    the host. `remove` deletes the file at {path}, which was put `beside` the other one; `read` lists the file
    at `path`, where that is not what the device starts with.
    """

    path: str
    beside: str
    put: str
    apply: str
    confirm: str
    cancel: str
    check: str | None = None
    pending: StatePattern | None = None
    is_own_timer: bool = False
    remove: str | None = None
    read: str | None = None
    extend: str | None = None


@dataclass(frozen=True, slots=True)
class ScheduledCommands:
    """A restart or restore of the device that Oast schedules before editing, where there is no better
    rollback method."""

    arm: str
    cancel: str
    armed: StatePattern
    extend: str | None = None


@dataclass(frozen=True, slots=True)
class Netconf:
    """How a device is spoken to over NETCONF (RFC 6241). `read` are the statements at the top of which the
    configuration is read; `needs` are the capabilities that its hello has to offer. With `validate`, a
    candidate is validated before it is committed. Between two questions to a device that is waited for there
    are `poll_s` seconds at least. `replies_without_id`: a reply without a message-id counts as the answer,
    against RFC 6241, section 4.2, for a server that leaves it out.
    """

    read: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()
    validate: bool = True
    poll_s: float = 1.0
    replies_without_id: bool = False


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
    ignore: tuple[str, ...] = ()
    """Patterns of whole lines that only frame a listing."""


@dataclass(frozen=True, slots=True)
class DerivedField:
    """A field made of another: what the group of `pattern` matches there (all of it without one), then what
    `values` say for that."""

    source: str
    pattern: str | None = None
    values: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ReadingDefinition:
    """A command, and how its answer becomes records: one of five forms.

    A table: `columns` are heading to field, headings of `right` stand at the right of their numbers, lines
    that fit `skip` are no rows, and where the table `continues` a row without its first cell belongs to the
    one above. JSON: at `records` (JMESPath) stands a list, or a mapping whose keys become the field `key`;
    `picks` are field to JMESPath. Blocks: `patterns` are field to a pattern whose group is the value, and a
    line that fits `begins` begins a record. `intervals` are the statements that say, in seconds, how long a
    peer's silence or a change takes to show in it. XML: each element that `elements` (XPath) finds is a
    record, and `xpaths` are field to XPath from there; names are written with their module's name before
    them. What a device shows nowhere but in its running configuration has no command: each of the
    `statements` is a record, and `leaves` are field to the leaf below it, "" for its own value. `types` are
    the fields' types.
    """

    command: str
    columns: Mapping[str, str] = field(default_factory=dict)
    intervals: tuple[str, ...] = ()
    right: frozenset[str] = frozenset()
    skip: tuple[str, ...] = ()
    continues: bool = False
    records: str | None = None
    key: str | None = None
    picks: Mapping[str, str] = field(default_factory=dict)
    begins: str | None = None
    patterns: Mapping[str, str] = field(default_factory=dict)
    derived: Mapping[str, DerivedField] = field(default_factory=dict)
    elements: str | None = None
    xpaths: Mapping[str, str] = field(default_factory=dict)
    namespaces: Mapping[str, str] = field(default_factory=dict)
    statements: str | None = None
    leaves: Mapping[str, str] = field(default_factory=dict)
    types: Mapping[str, FieldType] = field(default_factory=dict)

    @property
    def fields(self) -> tuple[str, ...]:
        """The fields of a record."""
        key = (self.key,) if self.key is not None else ()
        return tuple(
            dict.fromkeys(
                (
                    *self.columns.values(),
                    *key,
                    *self.picks,
                    *self.patterns,
                    *self.xpaths,
                    *self.leaves,
                    *self.derived,
                )
            )
        )


@dataclass(frozen=True, slots=True)
class Platform:
    """Everything Oast knows of a kind of device. At most one of `timer`, `candidate`, `file` and `netconf` is
    declared.

    `modules` are the YANG modules that its names belong to, by their names.
    """

    name: str
    syntax: str
    transport: str
    grammar: Grammar
    spelling: EditSpelling
    dialect: CliDialect
    timer: TimerCommands | None = None
    candidate: CandidateCommands | None = None
    file: FileCommands | None = None
    scheduled: ScheduledCommands | None = None
    netconf: Netconf | None = None
    modules: Mapping[str, Module] = field(default_factory=dict)
    readings: Mapping[str, ReadingDefinition] = field(default_factory=dict)
    roles: Mapping[str, str] = field(default_factory=dict)

    @property
    def by_structure(self) -> bool:
        """Return whether there is no grammar: every line is known by its words alone."""
        return any(rule.structural for rule in self.grammar.root.children.values())

    @property
    def is_atomic(self) -> bool:
        """Whether a change takes effect as a whole, so that nothing is ever in between."""
        return any((self.candidate, self.file, self.netconf))
