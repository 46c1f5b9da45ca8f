"""Raw commands: an engineer's own statements in the device's words, checked, compared and delivered like
everything else."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from oast.config import IndentedSyntax, Node, Path, Scope, canonical, join_trees
from oast.connect import Session
from oast.errors import DeviceError, ErrorCollector, EstateError, UsageError
from oast.estate import Device, Estate
from oast.fleet import ignore_event
from oast.intent import Intent
from oast.operations.ask import list_commands
from oast.operations.intent_context import IntentContext, prepare_intents
from oast.operations.per_device import run_on_devices
from oast.platforms import Platform
from oast.records import Place, Problem, Secret

EVERYTHING = (("*",),)
# `- STATEMENT`: the statement is removed.
_REMOVED = re.compile(r"(?P<margin>\s*)-(?P<space>[ \t]+)(?P<statement>\S.*)")
_TEMPLATE = re.compile(r"\{\{|\{%")


@dataclass(frozen=True)
class RawCommands:
    """Statements that are added or changed, and the paths of those that are removed."""

    added: Node
    removals: tuple[Path, ...]
    places: Mapping[Path, Place]
    """The line of the file that each statement is from."""

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing in it."""
        return not self.added.children and not self.removals


def prepare_raw_commands(
    estate: Estate, name: str, text: str, on: str | None, *, is_template: bool = False
) -> IntentContext:
    """The statements of `text` (from the file `name`) for the devices that `on` picks: they are added, or
    change what is there, and those with a minus sign are removed. With `is_template`, the text is rendered
    with each device's values first.

    Raises UsageError for a text without a statement, EstateError with everything that is wrong in it, at its
    lines.
    """
    if not is_template:
        _require_no_template(name, text)
    whole = prepare_intents(estate, on)
    found: dict[str, RawCommands] = {}
    mistakes = ErrorCollector()
    shared: dict[str, RawCommands] = {}
    for intent in whole.intents:
        device, syntax = intent.device, whole.syntax_of(intent)
        with mistakes.collected():
            if is_template:
                rendered, marks = whole.builder.rendered_text(device, name, text)
                found[device.name] = _read(syntax, intent.platform, device, name, rendered, marks)
            elif intent.platform.name not in shared:
                shared[intent.platform.name] = _read(syntax, intent.platform, device, name, text, {})
        if intent.platform.name in shared:
            found[device.name] = shared[intent.platform.name]
    mistakes.raise_any()
    if all(commands.is_empty for commands in found.values()):
        raise UsageError(f"{name} has no statements")
    owners = {name: EVERYTHING}
    intents = [
        Intent.of_record(
            intent.device,
            intent.platform,
            found[intent.device.name].added,
            Scope(EVERYTHING),
            owners,
            found[intent.device.name].removals,
            found[intent.device.name].places,
        )
        for intent in whole.intents
    ]
    return replace(
        whole, intents=tuple(intents), network=tuple(_with(intent, found) for intent in whole.network)
    )


def _require_no_template(name: str, text: str) -> None:
    """Refuse the braces of a template: they are not rendered here and would be sent to the device. Raises
    EstateError."""
    for number, line in enumerate(text.split("\n"), 1):
        match = _TEMPLATE.search(line)
        if match is not None:
            message = f"'{match[0]}' starts a template expression"
            raise EstateError.of(
                [
                    Problem(
                        message,
                        Place(name, number),
                        "add --with-values to render it with the values of each device",
                        line.rstrip(),
                        kind="template",
                    )
                ]
            )


def _read(
    syntax: IndentedSyntax,
    platform: Platform,
    device: Device,
    name: str,
    text: str,
    marks: Mapping[str, Secret],
) -> RawCommands:
    """The statements of a text. Raises EstateError with what the grammar does not allow."""
    lines = text.split("\n")
    removed: set[int] = set()
    for number, line in enumerate(lines, 1):
        statement = _removed(line, platform)
        if statement is not None:
            removed.add(number)
            lines[number - 1] = statement
    whole = "\n".join(lines)
    parsed = syntax.parse(whole, marks)
    problems = [
        Problem(
            found.message,
            Place(name, found.line),
            found.hint,
            _line(text, found.line),
            (device.name,),
            "grammar",
        )
        for found in parsed.problems
    ]
    if problems:
        raise EstateError.of(problems)
    lines_of = dict(syntax.lines_of(whole, marks))
    places = {path: Place(name, number) for number, path in lines_of.items()}
    if not removed:
        return RawCommands(canonical(parsed.tree), (), places)
    paths = {number: path for number, path in lines_of.items() if number in removed}
    kept = syntax.parse(
        "\n".join("" if number in removed else line for number, line in enumerate(lines, 1)), marks
    )
    return RawCommands(
        canonical(_without_contexts(kept.tree, paths.values())), tuple(sorted(set(paths.values()))), places
    )


def _removed(line: str, platform: Platform) -> str | None:
    """The statement that a line removes: behind a minus sign, or behind the platform's own word for it."""
    match = _REMOVED.fullmatch(line.rstrip("\r"))
    if match is not None:
        return match["margin"] + match["statement"]
    word = platform.spelling.remove.split("{")[0].strip()
    if not word or any(rule.name.split(" ")[0] == word.split(" ")[0] for rule in platform.grammar.rules()):
        return None
    left = line.lstrip()
    return line[: len(line) - len(left)] + left[len(word) :].lstrip() if left.startswith(f"{word} ") else None


def _without_contexts(tree: Node, removals: Iterable[Path]) -> Node:
    """Return `tree` without containers that only lead to a removal: they must not be created for it."""
    paths = list(removals)
    for depth in range(max((len(path) for path in paths), default=0) - 1, 0, -1):
        for prefix in {path[:depth] for path in paths if len(path) > depth}:
            tree = _without(tree, prefix, only_contexts=True)
    return tree


def _line(text: str, number: int) -> str:
    return text.split("\n")[number - 1].rstrip("\r")


def _with(intent: Intent, found: Mapping[str, RawCommands]) -> Intent:
    commands = found.get(intent.device.name)
    return intent if commands is None else with_statements(intent, commands.added, commands.removals)


def with_statements(intent: Intent, added: Node, removals: Iterable[Path]) -> Intent:
    """What must be true of a device follows from the estate's intent and from statements that a change adds
    and removes."""
    tree = intent.tree
    for path in removals:
        tree = _without(tree, path)
    return replace(intent, tree=canonical(join_trees((tree, added), intent.platform.grammar)))


def _without(node: Node, path: Path, *, only_contexts: bool = False) -> Node:
    """`node` without the statement at `path`; with `only_contexts`, only where nothing is left in it and it
    says nothing itself."""
    child = node.children.get(path[0])
    if child is None:
        return node
    children = dict(node.children)
    if len(path) > 1:
        children[path[0]] = _without(child, path[1:], only_contexts=only_contexts)
    elif not only_contexts or (
        not child.children and (child.statement.rule.holds_others or not child.statement.rule.known)
    ):
        del children[path[0]]
    return node.with_children(children)


async def asked(
    estate: Estate, names: Sequence[str], command: str, timeout_s: float | None = None
) -> dict[str, str | DeviceError]:
    """What each device answers to a command that changes nothing. Raises EstateError."""
    devices = [estate.device(name) for name in names]
    builder = prepare_intents(estate).builder

    async def one(device: Device, session: Session) -> str:
        return await list_commands(session, command, builder.syntax(device))

    found, failed, _ = await run_on_devices(estate, devices, builder, one, None, timeout_s, ignore_event)
    answers: dict[str, str | DeviceError] = {**found, **dict(failed)}
    return {name: answers[name] for name in names}
