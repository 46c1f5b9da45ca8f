"""Intent against running: read many devices, and work out what would change and how it would be said."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from oast.config.commands import Command, commands
from oast.config.difference import Edit, difference
from oast.config.indented import IndentedSyntax
from oast.config.order import NoSafeOrder, in_safe_order
from oast.config.tree import Node, canonical
from oast.config.view import Counts, counts
from oast.connect.connector import Connector
from oast.errors import DeviceError
from oast.fleet.many import for_each
from oast.intent.intent import Intent
from oast.intent.roles import addresses, interfaces

Mode = Literal["merge", "replace"]
"""As in RFC 6241, section 7.2: what is owned becomes what was intended, or what was intended is added to it."""


@dataclass(frozen=True)
class Comparison:
    """One device: its intent, what it runs, and the edits between the two inside what the sections own."""

    intent: Intent
    running_text: str
    running: Node
    mode: Mode
    edits: tuple[Edit, ...]
    commands: tuple[Command, ...]

    @property
    def name(self) -> str:
        return self.intent.device.name

    @property
    def away_from_intent(self) -> tuple[Edit, ...]:
        """The same difference the other way: what would make the intended configuration into the one that runs."""
        scope = self.intent.scope
        return tuple(difference(scope.within(self.intent.tree), scope.within(self.running)))

    @property
    def counts(self) -> Counts:
        return counts(self.edits)


def compare(intent: Intent, running_text: str, syntax: IndentedSyntax, mode: Mode = "replace") -> Comparison:
    """Compare `intent` with the text of a running configuration; statements the grammar does not know stay untouched.

    Raises DeviceError when no order of steps is safe.
    """
    running = canonical(syntax.parse(running_text).tree)
    edits = edits_between(intent, running, mode)
    try:
        ordered = in_safe_order(edits, _path_to(intent, running), running)
    except NoSafeOrder as circle:
        raise DeviceError(f"{circle}: it was not touched", hint="deliver it in two steps") from None
    return Comparison(intent, running_text, running, mode, tuple(ordered), tuple(commands(ordered, intent.platform)))


def edits_between(intent: Intent, running: Node, mode: Mode) -> list[Edit]:
    """The difference inside the intent's scope; with `merge`, without what it would remove."""
    edits = difference(intent.scope.within(running), intent.scope.within(intent.tree))
    return edits if mode == "replace" else [edit for edit in edits if edit.operation != "remove"]


def _path_to(intent: Intent, running: Node) -> Callable[[Edit], bool]:
    """Whether an edit touches the interface through which Oast reaches the device: such edits go last."""
    try:
        address = ipaddress.ip_address(intent.device.address)
    except ValueError:
        return lambda edit: False
    platform = intent.platform
    holders = {
        interface.path
        for tree in (running, intent.tree)
        for interface in interfaces(platform, tree)
        if any(own.ip == address for _, own in addresses(platform, interface.node))
    }
    return lambda edit: any(edit.path[: len(path)] == path for path in holders)


async def compare_many(
    intents: Sequence[Intent],
    connector: Connector,
    syntax_of: Callable[[Intent], IndentedSyntax],
    at_once: int,
    logs: Path,
    mode: Mode,
    progress: Callable[[str, str], None],
) -> Mapping[str, Comparison | DeviceError]:
    """Read and compare every device, `at_once` at a time; by device name, in the order of `intents`.

    `progress` is told the device and what is being done with it; the transcript of a device that fails goes to `logs`.
    """

    async def one(intent: Intent) -> Comparison:
        name = intent.device.name
        progress(name, "connecting")
        async with connector.session(intent.device, intent.platform, logs / f"{name}.log") as session:
            progress(name, "reading")
            running = await session.read_running()
        return compare(intent, running, syntax_of(intent), mode)

    found: dict[str, Comparison | DeviceError] = {}

    def done(intent: Intent, result: Comparison | DeviceError) -> None:
        found[intent.device.name] = result
        progress(intent.device.name, "failed" if isinstance(result, DeviceError) else "compared")

    await for_each(intents, one, at_once, done)
    return {intent.device.name: found[intent.device.name] for intent in intents}
