"""Intent against running: read many devices, and compute the edits and the commands, by the apply mode."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

from oast.answer_parsing import parse_if_long
from oast.change import INVERSE_COMMANDS, PREVIOUS_STARTUP, RollbackMethod, rollback_method_of
from oast.change.plan.management_access import (
    AccessRisk,
    ManagementMove,
    access_risks,
    interface_by_reading,
    is_ancestor_or_same,
    management_interfaces,
    management_move,
)
from oast.config import (
    Command,
    Counts,
    Edit,
    IndentedSyntax,
    Node,
    NoDependencyOrder,
    RetainedStatement,
    apply_edits,
    commands_of,
    counts,
    difference,
    edit_file,
    in_dependency_order,
    integrity_errors,
    missing_parts,
    read_tree,
    restore_secrets,
    secrets_below,
    secrets_by_fingerprint,
    secrets_in,
    split_removals,
    tree_of_device,
)
from oast.connect import Capability, Connector, Session, SessionAddresses, close_sessions
from oast.errors import DeviceError
from oast.fleet import DeviceEvent, OnEvent, Stage, for_each
from oast.intent import Intent, Interface
from oast.platforms import Platform
from oast.redaction import Masking

Mode = Literal["merge", "replace"]
"""As in RFC 6241, section 7.2: what is owned becomes what was intended, or what was intended is added to it.
"""

Datastore = Literal["running", "startup"]
"""RFC 8342, section 5."""


@dataclass(frozen=True)
class ApplyMode:
    """How much of what is on a device and not intended may go: see `Mode`; with `remove_unknown`, statements
    that the platform's grammar does not know may go as well, where it says how. `into` is what is changed."""

    mode: Mode = "replace"
    remove_unknown: bool = False
    into: Datastore = "running"

    @property
    def into_startup(self) -> bool:
        """Whether what the device runs stays as it is."""
        return self.into == "startup"


DEFAULT_MODE = ApplyMode()


# A text of which less than half is known was not written by this platform, or is not a configuration.
KNOWN_AT_LEAST = 0.5
FEW = 4


# Open sessions that the delivery takes over; the others are opened again.
KEPT_OPEN = 300


# Characters of a listing whose tree is kept.
SMALL = 6000


class RunningConfig:
    """What a device listed, kept small: a thousand trees at once would take most of a gigabyte, and few are
    looked at again."""

    def __init__(self, syntax: IndentedSyntax, text: str, tree: Node, *, loaded: bool = False) -> None:
        """With `loaded`, a long text's tree is kept from the beginning, as after `load`."""
        self._syntax = syntax
        self._is_small = len(text) <= SMALL
        self._tree = tree if self._is_small or loaded else None
        self._packed = zlib.compress(text.encode("utf-8", "surrogatepass"), 1)

    @property
    def text(self) -> str:
        return zlib.decompress(self._packed).decode("utf-8", "surrogatepass")

    @property
    def tree(self) -> Node:
        """Canonical. Raises ProtocolError as it did when it was read first."""
        return tree_of_device(self._syntax, self.text) if self._tree is None else self._tree

    async def load(self) -> Node:
        """Parse a long text once, beside the event loop, and keep its tree until `release`. Raises
        ProtocolError.

        A transaction calls it first: the revert timers of other devices run on while it computes.
        """
        if self._tree is None:
            self._tree = await read_tree(self._syntax, self.text)
        return self._tree

    def release(self) -> None:
        """Keep only the text of a long configuration again."""
        if not self._is_small:
            self._tree = None


class PartialRunningConfig(RunningConfig):
    """What a device ran in the parts that were recorded, where its own text was not kept."""

    def __init__(self, tree: Node) -> None:
        self._tree = tree
        self._is_small = True
        self._packed = b""

    @property
    def text(self) -> str:
        """Raises DeviceError: what stood outside of these parts is not known."""
        raise DeviceError(
            "the configuration from before was not saved completely",
            hint="its backup is missing, or its secrets are masked (mask_backups)",
        )


@dataclass(frozen=True)
class Comparison:
    """One device: its intent, what it runs, and the edits between the two inside what the sections own, in a
    safe order.

    `access_risks` are the edits that may cut management access; `unsaved` is what it runs already and would
    not start with; `spared` is what is not intended and stays all the same. `rollback_method` is how the
    device is rolled back when a delivery fails; `move` is where the change moves the address by which Oast
    reaches it.
    """

    intent: Intent
    listed: RunningConfig
    manner: ApplyMode
    edits: tuple[Edit, ...]
    commands: tuple[Command, ...]
    access_risks: tuple[AccessRisk, ...] = ()
    unsaved: tuple[Edit, ...] = ()
    spared: tuple[RetainedStatement, ...] = ()
    rollback_method: RollbackMethod = INVERSE_COMMANDS
    move: ManagementMove | None = None
    file: FileChange | None = None
    _scoped: tuple[Node, Node] | None = field(default=None, repr=False, compare=False)

    @property
    def scoped(self) -> tuple[Node, Node]:
        """What runs and what is intended, inside what the sections own."""
        if self._scoped is not None:
            return self._scoped
        scope = self.intent.scope
        return scope.within(self.running), scope.within(self.intent.tree)

    @property
    def unknown(self) -> int:
        """The number of statements that the grammar does not know inside the owned configuration. They
        stay."""
        return sum(spared.number for spared in self.spared if spared.unknown)

    @property
    def running_text(self) -> str:
        """What the device listed as its running configuration."""
        return self.listed.text

    @property
    def running(self) -> Node:
        """The same as a canonical tree; a long one is parsed each time unless `listed` is loaded."""
        return self.listed.tree

    @property
    def name(self) -> str:
        return self.intent.device.name

    @property
    def reverse_edits(self) -> tuple[Edit, ...]:
        """The same difference the other way: what would make the intended configuration into the one that
        runs."""
        scope = self.intent.scope
        return tuple(difference(scope.within(self.intent.tree), scope.within(self.running)))

    @property
    def counts(self) -> Counts:
        return counts(self.edits)


@dataclass(frozen=True)
class FileChange:
    """The text of a device's configuration file before and after the change; secrets are fingerprints in
    both."""

    path: str
    before: str
    after: str


def file_change(comparison: Comparison, text: str, syntax: IndentedSyntax) -> FileChange | None:
    """What the change makes of the file whose text is `text`, byte by byte. Raises DeviceError when it cannot
    be edited in place."""
    file = comparison.intent.platform.file
    if file is None or not comparison.edits or comparison.manner.into_startup:
        return None
    new = edit_file(syntax, text, apply_edits(comparison.edits, comparison.running))
    masking = Masking()
    for secret in (*new.secrets, *secrets_below(tree_of_device(syntax, text)), *secrets_in(comparison.edits)):
        if not secret.is_forgotten:
            masking.add(secret)
    return FileChange(file.path, masking.hide(text), masking.hide(new.text))


@dataclass(frozen=True)
class ReadDevice:
    """What was read of a device: the text of what is to be changed (`running`) and, where that is running and
    it was asked for, of startup; how it was reached, and what it can do, where that is known."""

    running: str
    startup: str | None
    route: SessionAddresses
    capabilities: frozenset[Capability] | None = None


def compare(
    intent: Intent,
    read: ReadDevice,
    syntax: IndentedSyntax,
    manner: ApplyMode = DEFAULT_MODE,
    *,
    delivering: bool = False,
) -> Comparison:
    """Compare `intent` with what was read; statements that the grammar does not know stay. For a delivery
    (`delivering`), unsaved changes are listed, as they would be saved too.

    Raises DeviceError when no order of steps is safe, when the device would refuse the result, and when the
    text is not a configuration of the platform.
    """
    running = tree_of_device(syntax, read.running)
    _need_known(running, intent)
    if intent.recorded:
        intent = replace(intent, tree=restore_secrets(intent.tree, secrets_by_fingerprint([running])))
    scoped = intent.scope.within(running), intent.scope.within(intent.tree)
    edits, spared = _between(intent, *scoped, manner)
    _require_integrity(edits, running, manner)
    holders = management_interfaces(intent, running, read.route) if edits else []
    ordered = _ordered(edits, intent.platform, holders, running)
    unsaved: tuple[Edit, ...] = ()
    if read.startup is not None and read.startup != read.running:
        unsaved = _unsaved(tree_of_device(syntax, read.startup), running, ordered if delivering else ())
    risky = tuple(access_risks(intent.platform, holders, ordered, read.route))
    return Comparison(
        intent=intent,
        listed=RunningConfig(syntax, read.running, running),
        manner=manner,
        edits=tuple(ordered),
        commands=tuple(commands_of(ordered, intent.platform)),
        access_risks=risky,
        unsaved=unsaved,
        spared=tuple(spared),
        rollback_method=(
            PREVIOUS_STARTUP
            if manner.into_startup
            else rollback_method_of(intent.platform, read.capabilities)
        ),
        move=(
            management_move(intent, running, apply_edits(ordered, running), read.route)
            if risky and not manner.into_startup
            else None
        ),
        _scoped=scoped if edits and len(read.running) <= SMALL else None,
    )


def _require_integrity(edits: Sequence[Edit], running: Node, manner: ApplyMode) -> None:
    """Refuse a change whose outcome the device would refuse. Raises DeviceError."""
    broken = integrity_errors(edits, running)
    if manner.mode == "merge":
        # Lint checks a whole intent; statements that are only added must be checked against the device.
        broken = [*broken, *missing_parts(edits, running)]
    if broken:
        more = f" (and {len(broken) - 1} more)" if len(broken) > 1 else ""
        raise DeviceError(
            f"the device would reject this: {broken[0].message}{more}; nothing was sent to it",
            hint=broken[0].hint,
        )


def _ordered(
    edits: Sequence[Edit], platform: Platform, holders: Sequence[Interface], running: Node
) -> list[Edit]:
    """The edits in dependency order, those of the management interfaces last. Raises DeviceError."""
    try:
        return in_dependency_order(
            edits,
            lambda edit: any(is_ancestor_or_same(edit.path, holder.path) for holder in holders),
            running,
        )
    except NoDependencyOrder as circle:
        # Where everything takes effect at once, there is nothing in between.
        if not platform.is_atomic:
            raise DeviceError(f"{circle}; nothing was sent to it", hint="deliver it in two steps") from None
        return list(edits)


def _unsaved(startup: Node, running: Node, edits: Sequence[Edit]) -> tuple[Edit, ...]:
    """What runs and would not be started with; without what the change itself brings back to what is started
    with."""
    found = difference(startup, running)
    if not edits:
        return tuple(found)
    after = {(edit.operation, edit.path) for edit in difference(startup, apply_edits(edits, running))}
    return tuple(edit for edit in found if (edit.operation, edit.path) in after)


def comparison_from_record(
    intent: Intent, listed: RunningConfig, manner: ApplyMode, rollback_method: RollbackMethod
) -> Comparison:
    """The comparison of a run that is over: `listed` is what the device ran before."""
    return Comparison(
        intent,
        listed,
        manner,
        tuple(edits_between(intent, listed.tree, manner)),
        (),
        rollback_method=rollback_method,
    )


def _need_known(running: Node, intent: Intent) -> None:
    """Whether what was read is a configuration of the platform at all. Raises DeviceError."""
    every = [node.statement.rule.known for _, node in running.walk()]
    known = sum(every)
    if len(every) >= FEW and known < KNOWN_AT_LEAST * len(every):
        message = (
            f"the platform '{intent.platform.name}' knows only {known} of the {len(every)} statements"
            " that the device lists; nothing was sent"
        )
        raise DeviceError(
            message,
            hint=("check the device's platform in the inventory, or the listing with: oast platform check"),
        )


def edits_between(intent: Intent, running: Node, manner: ApplyMode) -> list[Edit]:
    """The difference inside the intent's scope, without what must stay; with `merge`, without anything it
    would remove."""
    return _edits_and_spared(intent, running, manner)[0]


def inverse_edits(comparison: Comparison, running: Node) -> list[Edit]:
    """The edits inside the change's scope that make `running` what it was before the change."""
    scope = comparison.intent.scope
    # Statements that another session may have added in the meantime, and that the grammar does not know,
    # stay.
    return split_removals(difference(scope.within(running), scope.within(comparison.running)))[0]


def _edits_and_spared(
    intent: Intent, running: Node, manner: ApplyMode
) -> tuple[list[Edit], list[RetainedStatement]]:
    return _between(intent, intent.scope.within(running), intent.scope.within(intent.tree), manner)


def _between(
    intent: Intent, before: Node, after: Node, manner: ApplyMode
) -> tuple[list[Edit], list[RetainedStatement]]:
    edits = difference(before, after)
    remove_unknown = manner.remove_unknown and intent.platform.spelling.remove_unknown is not None
    kept, spared = split_removals(edits, remove_unknown=remove_unknown)
    if manner.mode == "replace":
        return kept, spared
    return [*_removals(intent, before), *(edit for edit in kept if edit.operation != "remove")], spared


def _removals(intent: Intent, before: Node) -> Iterator[Edit]:
    """The edits that remove what is meant to be removed although the change only adds otherwise."""
    for path in intent.removals:
        if any(path != other and path[: len(other)] == other for other in intent.removals):
            continue
        outer: list[Node] = []
        node: Node | None = before
        for identity in path:
            if node is not None and node is not before:
                outer.append(node)
            node = node.children.get(identity) if node is not None else None
        if node is not None:
            yield Edit("remove", tuple(outer), node, None)


def require_startup(session: Session) -> None:
    """Whether the device has a startup of its own, and a way to write it. Raises DeviceError."""
    if Capability.STARTUP not in session.capabilities:
        raise DeviceError(
            "the device has no separate startup configuration",
            hint="deliver to the running configuration",
        )
    if Capability.WRITE_STARTUP not in session.capabilities:
        message = (
            f"the platform '{session.platform.name}' cannot write a startup configuration that differs"
            " from running; nothing was sent"
        )
        raise DeviceError(
            message,
            hint=(
                "[edit] write_startup says how, see docs/platforms.md; or deliver to the"
                " running configuration"
            ),
        )


class DiffRunner:
    """Reads and compares many devices, `parallel` at a time. The transcript of a device that fails goes to
    `logs`.

    With `for_delivery`, sessions with devices that need a delivery stay open in `sessions`: the caller that
    takes one closes it, and `close` closes the rest.
    """

    def __init__(
        self,
        connector: Connector,
        syntax_of: Callable[[Intent], IndentedSyntax],
        parallel: int,
        logs: Path,
        on_event: OnEvent,
        *,
        for_delivery: bool = False,
    ) -> None:
        self._connector = connector
        self._syntax_of = syntax_of
        self._parallel = parallel
        self._logs = logs
        self._on_event = on_event
        self._for_delivery = for_delivery
        self.sessions: dict[str, Session] = {}

    async def compare(
        self, intents: Sequence[Intent], manner: ApplyMode
    ) -> Mapping[str, Comparison | DeviceError]:
        """By device name, in the order of `intents`. After cancellation no session is open."""
        found: dict[str, Comparison | DeviceError] = {}

        def done(intent: Intent, result: Comparison | DeviceError) -> None:
            found[intent.device.name] = result
            self._say(intent, Stage.FAILED if isinstance(result, DeviceError) else Stage.COMPARED)

        try:
            await for_each(intents, lambda intent: self._one(intent, manner), self._parallel, done)
        except BaseException:
            await self.close()
            raise
        return {intent.device.name: found[intent.device.name] for intent in intents}

    async def close(self) -> None:
        """Close the sessions that the delivery did not take."""
        sessions = list(self.sessions.values())
        self.sessions.clear()
        await close_sessions(sessions)

    async def _one(self, intent: Intent, manner: ApplyMode) -> Comparison:
        name = intent.device.name
        self._say(intent, Stage.CONNECTING)
        async with self._connector.session(
            intent.device, intent.platform, self._logs / f"{name}.log"
        ) as session:
            self._say(intent, Stage.READING)
            startup = None
            if manner.into_startup:
                require_startup(session)
                running = await session.read_startup()
            else:
                running = await session.read_running()
                if Capability.STARTUP in session.capabilities:
                    startup = await session.read_startup()
            route = self._connector.route(intent.device, session)
            read = ReadDevice(running, startup, route, session.capabilities)
            compared = await self._compare(intent, read, manner)
            if (
                compared.access_risks
                and route.interface is None
                and not management_interfaces(intent, compared.running, route)
            ):
                # Where the operating system sets the address, only the device's own listing of interfaces
                # tells which has it.
                interface = await interface_by_reading(session, session.reached_at)
                if interface is not None:
                    route = self._connector.route(intent.device, session, interface)
                    compared = await self._compare(intent, replace(read, route=route), manner)
            if intent.platform.file is not None and compared.edits:
                command = intent.platform.file.read
                text = (
                    startup or running
                    if command is None
                    else await session.listing(command, written_down=False)
                )
                changed = await parse_if_long((text,), file_change, compared, text, self._syntax_of(intent))
                compared = replace(compared, file=changed)
            if self._for_delivery and (compared.edits or compared.unsaved) and len(self.sessions) < KEPT_OPEN:
                self.sessions[name] = self._connector.keep(session)
        return compared

    async def _compare(self, intent: Intent, read: ReadDevice, manner: ApplyMode) -> Comparison:
        texts = (read.running, read.startup)
        return await parse_if_long(
            texts, compare, intent, read, self._syntax_of(intent), manner, delivering=self._for_delivery
        )

    def _say(self, intent: Intent, stage: Stage) -> None:
        self._on_event(DeviceEvent(intent.device.name, stage))
