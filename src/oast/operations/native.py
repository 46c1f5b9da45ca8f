"""An engineer's own lines, in the device's own words: checked, compared and delivered like everything else."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from oast.config.ownership import Scope
from oast.config.tree import Node, canonical, joined
from oast.connect.session import Session
from oast.errors import DeviceError, EstateError, Mistakes, UsageError
from oast.estate.estate import Estate
from oast.estate.inventory import Device
from oast.fleet.events import unheard
from oast.intent.intent import Intent
from oast.operations.ask import listed
from oast.operations.each import of_each
from oast.operations.preparation import Preparation, prepare
from oast.records import Place, Problem

EVERYTHING = (("*",),)


def prepared_native(estate: Estate, file: Path, on: str | None) -> Preparation:
    """The lines of `file` for the devices that `on` picks: they are added, or change what is there; nothing goes away because of them.

    Raises UsageError for a file that cannot be read, EstateError with everything that is wrong in it, at its lines.
    """
    try:
        text = file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{file} cannot be read: {getattr(error, 'strerror', None) or 'it is not UTF-8 text'}") from None
    whole = prepare(estate, on)
    trees: dict[str, Node] = {}
    mistakes = Mistakes()
    for intent in whole.intents:
        if intent.platform.name not in trees:
            with mistakes.collected():
                trees[intent.platform.name] = _tree(whole, intent, file, text)
    mistakes.raise_any()
    if not any(tree.children for tree in trees.values()):
        raise UsageError(f"{file} holds no statement")
    owners = {file.name: EVERYTHING}
    intents = [
        Intent.of_record(intent.device, intent.platform, trees[intent.platform.name], Scope(EVERYTHING), owners) for intent in whole.intents
    ]
    return replace(whole, intents=tuple(intents), network=tuple(_with(intent, trees, intents) for intent in whole.network))


def _tree(whole: Preparation, intent: Intent, file: Path, text: str) -> Node:
    parsed = whole.syntax_of(intent).parse(text)
    problems = [
        Problem(found.message, Place(str(file), found.line), found.hint, _line(text, found.line), (intent.device.name,), "grammar")
        for found in parsed.problems
    ]
    if problems:
        raise EstateError.of(problems)
    return canonical(parsed.tree)


def _line(text: str, number: int) -> str:
    return text.split("\n")[number - 1].rstrip("\r")


def _with(intent: Intent, trees: dict[str, Node], intents: Sequence[Intent]) -> Intent:
    """What must be true of the network follows from the estate and from these lines."""
    if intent.device.name not in {one.device.name for one in intents}:
        return intent
    return replace(intent, tree=canonical(joined((intent.tree, trees[intent.platform.name]), intent.platform.grammar)))


async def asked(estate: Estate, names: Sequence[str], command: str, timeout_s: float | None = None) -> dict[str, str | DeviceError]:
    """What each device answers to a command that changes nothing. Raises EstateError."""
    devices = [estate.device(name) for name in names]
    builder = prepare(estate).builder

    async def one(device: Device, session: Session) -> str:
        return await listed(session, command, builder.syntax(device))

    found, failed, _ = await of_each(estate, devices, builder, one, None, timeout_s, unheard)
    answers: dict[str, str | DeviceError] = {**found, **dict(failed)}
    return {name: answers[name] for name in names}
