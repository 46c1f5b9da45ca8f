"""A command and its options: declared once as a typed dataclass, added to a parser, and read from its result.

An option is a field of a frozen dataclass, made by `flag`, `option`, `repeated` or `argument`. Classes of
options that several commands share are combined by inheritance. A field without such a declaration is no
option, and keeps its default.
"""

from __future__ import annotations

import argparse
import importlib
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from typing import Any, ClassVar, Generic, TypeVar

from oast.cli.exit_codes import MEANINGS

O = TypeVar("O", bound="CommandOptions")  # noqa: E741
_DECLARED = "command line"


@dataclass(frozen=True)
class _Declaration:
    """An option or a positional argument, as argparse needs it."""

    names: tuple[str, ...]
    """Such as `-q` and `--quiet`; none for a positional argument."""
    keywords: Mapping[str, Any]
    group: str | None = None
    """CommandOptions of one group exclude each other."""


def flag(*names: str, help: str, group: str | None = None) -> Any:
    """An option without a value: False unless it is given."""
    return _declare(names, {"action": "store_true", "help": help}, False, group)


def option(*names: str, help: str, default: Any = None, group: str | None = None, **keywords: Any) -> Any:
    """An option with one value. `keywords` are those of `ArgumentParser.add_argument`."""
    return _declare(names, {"help": help, **keywords}, default, group)


def repeated(*names: str, help: str, **keywords: Any) -> Any:
    """An option that can be given several times: a tuple of its values."""
    return _declare(names, {"action": "append", "help": help, **keywords}, (), None)


def argument(metavar: str, *, help: str, default: Any = None, **keywords: Any) -> Any:
    """A positional argument; `nargs` as argparse has it."""
    return _declare((), {"help": help, "metavar": metavar, **keywords}, default, None)


def _declare(names: tuple[str, ...], keywords: dict[str, Any], default: Any, group: str | None) -> Any:
    return field(default=default, metadata={_DECLARED: _Declaration(names, keywords, group)})


@dataclass(frozen=True, kw_only=True)
class CommandOptions:
    """What every command line gives: the command itself, and how much to say."""

    TITLE: ClassVar[str] = "estate and output"
    command: str = ""
    action: str = ""
    quiet: bool = flag("-q", "--quiet", help="no progress display, only results")
    debug: bool = flag("--debug", help="log on stderr what Oast decides and why; secrets are masked")
    debug_file: Any = option(
        "--debug-file", metavar="FILE", help="append the debug log to FILE instead of stderr"
    )


@dataclass(frozen=True)
class Subcommand(Generic[O]):
    """What a command or an action of one does: its options, the function that runs it, and its help."""

    options: type[O]
    run: Callable[[O], int]
    summary: str = ""
    examples: Sequence[tuple[str, str]] = ()
    """Command lines, each with what it does."""
    exits: tuple[int, ...] = (0, 2, 3)
    """The exit codes that it can end with."""
    no: str = ""
    """What exit code 1 means here."""


@dataclass(frozen=True)
class CommandGroup:
    """A command with actions, such as `oast change list`; `alone` is what it does without an action."""

    actions: Mapping[str, Subcommand[Any] | CommandGroup]
    alone: Subcommand[Any] | None = None
    summary: str = ""


def run_later(module: str, name: str) -> Callable[[Any], int]:
    """A function of a module that is imported when it is called: most modules need all that delivers."""

    def run(options: Any) -> int:
        code: int = getattr(importlib.import_module(module), name)(options)
        return code

    return run


def add_command(
    parser: argparse.ArgumentParser, command: Subcommand[Any] | CommandGroup, level: int = 0
) -> None:
    """Add the options and actions of `command` to its parser."""
    if isinstance(command, Subcommand):
        _add_options(parser, command.options)
        parser.set_defaults(chosen=command)
        parser.epilog = _epilog(command)
        return
    if command.alone is not None:
        add_command(parser, command.alone, level)
    actions = parser.add_subparsers(
        dest="action" if level == 0 else "subaction",
        metavar="ACTION",
        title="actions",
        required=command.alone is None,
    )
    for name, action in command.actions.items():
        about = f"{action.summary[0].upper()}{action.summary[1:]}."
        below = actions.add_parser(name, help=action.summary, description=about, allow_abbrev=False)
        add_command(below, action, level + 1)


def read_options(parsed: argparse.Namespace) -> tuple[Subcommand[Any], CommandOptions]:
    """The command that was chosen, and its options."""
    command: Subcommand[Any] = parsed.chosen
    values = {}
    for one in fields(command.options):
        if hasattr(parsed, one.name):
            value = getattr(parsed, one.name)
            if value is not None or one.default is None:
                values[one.name] = tuple(value) if isinstance(value, list) else value
    return command, command.options(**values)


def _add_options(parser: argparse.ArgumentParser, options: type[CommandOptions]) -> None:
    """The class's own options first, then those that it shares, in groups of their own."""
    declared = {one.name: one for one in fields(options) if _DECLARED in one.metadata}
    owners: dict[str, type] = {}
    for owner in options.__mro__:
        for name in getattr(owner, "__annotations__", {}) if "__annotations__" in vars(owner) else ():
            owners.setdefault(name, owner)
    exclusive: dict[tuple[type, str], Any] = {}
    groups: dict[str, Any] = {}
    for owner in options.__mro__:
        own = [
            name
            for name in vars(owner).get("__annotations__", {})
            if owners.get(name) is owner and name in declared
        ]
        if not own:
            continue
        title = "" if owner is options else vars(owner).get("TITLE", "")
        if title not in groups:
            groups[title] = parser.add_argument_group(title) if title else parser
        group = groups[title]
        for name in own:
            declaration: _Declaration = declared[name].metadata[_DECLARED]
            place = group
            if declaration.group is not None:
                key = (owner, declaration.group)
                if key not in exclusive:
                    exclusive[key] = group.add_mutually_exclusive_group()
                place = exclusive[key]
            keywords = dict(declaration.keywords)
            if declaration.names:
                keywords["dest"] = name
            if keywords.get("action") != "append":
                keywords.setdefault("default", declared[name].default)
            place.add_argument(*(declaration.names or (name,)), **keywords)


def given_options(options: CommandOptions, *allowed: type[Any]) -> list[str]:
    """The options that were given, other than those of the classes `allowed`."""
    names = {one.name for owner in allowed for one in fields(owner)}
    return [
        declaration.names[-1]
        for one in fields(options)
        if one.name not in names
        and (declaration := one.metadata.get(_DECLARED)) is not None
        and declaration.names
        and getattr(options, one.name) != one.default
    ]


def _epilog(command: Subcommand[Any]) -> str:
    width = max((len(line) for line, _ in command.examples), default=0)
    lines = [f"  {line.ljust(width)}   {what}".rstrip() for line, what in command.examples]
    meanings = {**MEANINGS, **({1: command.no} if command.no else {})}
    exits = [f"  {code:<3}  {meanings[code]}" for code in command.exits]
    return "\n".join([*(["examples:", *lines, ""] if lines else []), "exit codes:", *exits])


def positive(text: str) -> int:
    """A whole number above 0."""
    if not re.fullmatch("[0-9]{1,9}", text) or int(text) == 0:
        raise argparse.ArgumentTypeError(f"'{text}' is not a whole number above 0")
    return int(text)


def count(text: str) -> int:
    """A whole number, 0 or more."""
    if not re.fullmatch("[0-9]{1,9}", text):
        raise argparse.ArgumentTypeError(f"'{text}' is not a whole number")
    return int(text)


def seconds(text: str) -> float:
    """A number of seconds above 0."""
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0 < value < 1e6:
        raise argparse.ArgumentTypeError(f"'{text}' is not a number of seconds above 0")
    return value
