"""The command line: the program's parser, its help, and what it says to a wrong command line."""

from __future__ import annotations

import argparse
import importlib
import re
import shutil
import sys
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NoReturn

from oast import __version__
from oast.cli.command import CommandOptions, Subcommand, add_command, read_options
from oast.cli.exit_codes import MEANINGS, USAGE
from oast.spelling import closest_match, renamed, spelling_hint

FIRST_SCREEN = """\
Oast renders device configurations from templates and inventory, shows exactly what would change, delivers the
change with an automatic rollback, and verifies the network afterwards.

The daily work, in the folder of an estate:
  oast lint                                  find mistakes in the estate, without connecting to a device
  oast render --on name=gull-core-1          show the intended configuration of a device
  oast diff                                  compare all devices with their intent
  oast push -m 'add a second clock'          show the change, ask, deliver it, verify and confirm it
  oast verify                                check that the network is in the intended state

New here?
  oast demo                                  watch all of it on simulated devices (no network needed)
  oast new my-network                        write a small estate to start from
  oast --help                                list all commands; oast COMMAND --help explains one
"""


WIDEST = 100


class HelpFormatter(argparse.RawDescriptionHelpFormatter):
    """Keeps the lines of examples as they are; the usage is one line, as the options are listed below it."""

    def __init__(self, prog: str) -> None:
        width = min(shutil.get_terminal_size().columns, WIDEST) - 2
        super().__init__(prog, max_help_position=30, width=width)

    def _format_usage(
        self, usage: str | None, actions: Iterable[Any], groups: Iterable[Any], prefix: str | None
    ) -> str:
        words = [self._prog]
        if any(action.option_strings for action in actions):
            words.append("[options]")
        for action in actions:
            if not action.option_strings:
                words.append(self._format_args(action, action.metavar or action.dest))
        return f"{'usage: ' if prefix is None else prefix}{' '.join(words)}\n\n"


class Parser(argparse.ArgumentParser):
    """Says what is wrong first, and names the nearest word that there is."""

    def __init__(self, **keywords: Any) -> None:
        super().__init__(**{"formatter_class": HelpFormatter, "allow_abbrev": False, **keywords})

    def error(self, message: str) -> NoReturn:
        if message.endswith("are required: ACTION"):
            actions = [name for one in self._actions if isinstance(one.choices, dict) for name in one.choices]
            self.refuse("an action is missing", f"choose from {', '.join(actions)}")
        self.refuse(*_plain(message))

    def refuse(self, message: str, hint: str | None = None) -> NoReturn:
        """Exit with 2: the reason, and what to do about it."""
        sys.stderr.write(f"error: {message}\nhint: {hint or f'see {self.prog} --help'}\n")
        raise SystemExit(USAGE)

    def every_option(self) -> list[str]:
        """The options of this command and of its actions."""
        found = list(self._option_string_actions)
        for action in self._actions:
            if isinstance(action, argparse._SubParsersAction):
                found.extend(option for below in action.choices.values() for option in below.every_option())
        return found


def _plain(message: str) -> tuple[str, str | None]:
    """Turn a message of argparse into one for an engineer, with its hint."""
    choice = re.search(r"(?:argument (\S+): )?invalid choice: '([^']*)' \(choose from (.*)\)", message)
    if choice is not None:
        choices = re.findall(r"'([^']*)'", choice[3])
        near = closest_match(choice[2], choices)
        new = renamed(choice[2], choices)
        what = {"COMMAND": "command", "ACTION": "action", None: "word"}.get(choice[1])
        said = (
            f"unknown {what} '{choice[2]}'"
            if what is not None
            else f"{choice[1]}: '{choice[2]}' is not one of {', '.join(choices)}"
        )
        return said, new or (f"did you mean '{near}'?" if near else f"choose from {', '.join(choices)}")
    for pattern, plain in (
        (r"argument (\S+?)(?:/\S+)?: expected one argument", r"\1 needs a value"),
        (r"argument (\S+?)(?:/\S+)?: ignored explicit argument .*", r"\1 takes no value"),
        (r"argument (\S+): not allowed with argument (\S+)", r"\1 and \2 exclude each other"),
        (r"argument (\S+?)(?:/\S+)?: (.*)", r"\1: \2"),
        (r"the following arguments are required: (.*)", r"missing: \1"),
    ):
        if re.fullmatch(pattern, message, re.DOTALL):
            return re.sub(pattern, plain, message, flags=re.DOTALL), None
    return message, None


def parse(
    arguments: Sequence[str], commands: Mapping[str, Mapping[str, str]]
) -> tuple[Subcommand[Any], CommandOptions]:
    """The command that is meant, with its options. Exits with 2 and a hint when the command line is wrong.

    `commands` are the summaries of the commands, by the task that each belongs to.
    """
    parser = Parser(prog="oast", add_help=False)
    parser.add_argument("-h", "--help", action="store_true", dest="overview")
    parser.add_argument("--version", action="version", version=f"oast {__version__}")
    chosen = next((argument for argument in arguments if not argument.startswith("-")), None)
    below = parser.add_subparsers(dest="command", metavar="COMMAND")
    for name, summary in _all(commands):
        sub = below.add_parser(name, help=summary, description=f"{summary[0].upper()}{summary[1:]}.")
        if name == chosen:
            add_command(sub, importlib.import_module(f"oast.cli.{name}").COMMAND)
    parsed, unknown = parser.parse_known_args(arguments)
    if parsed.overview:
        sys.stdout.write(overview(commands))
        raise SystemExit(0)
    if parsed.command is None:
        near = closest_match(unknown[0], ("--help", "--version")) if unknown else None
        hint = f"did you mean '{near}'?" if near else "oast --help lists the commands"
        parser.refuse(f"unknown option {unknown[0]}" if unknown else "a command is missing", hint)
    if unknown:
        _refuse_unknown(below.choices[parsed.command], unknown[0])
    ignored = read_ignored(parsed, below.choices[parsed.command])
    if ignored is not None:
        below.choices[parsed.command].refuse(*ignored)
    return read_options(parsed)


def _refuse_unknown(parser: Parser, word: str) -> NoReturn:
    options = parser.every_option()
    if word.startswith("-"):
        near = spelling_hint(word.partition("=")[0], options)
        parser.refuse(
            f"unknown option {word.partition('=')[0]}",
            near if near and not near.startswith("known here") else None,
        )
    selects = "--on" in options and re.fullmatch(r"[A-Za-z0-9._-]+", word)
    parser.refuse(
        f"unexpected argument '{word}'", f"to select a device, write --on name={word}" if selects else None
    )


def read_ignored(parsed: argparse.Namespace, parser: Parser) -> tuple[str, str] | None:
    """Find an option of a command that its action does not have: what is wrong with it, and a hint."""
    known = {*vars(parsed.chosen.options).get("__dataclass_fields__", {}), "overview", "chosen", "subaction"}
    for action in parser._actions:
        if (
            action.dest not in known
            and action.option_strings
            and getattr(parsed, action.dest, None) not in (None, False, ())
        ):
            name = action.option_strings[-1]
            return (
                f"{parser.prog} {parsed.action} has no option {name}",
                f"see {parser.prog} {parsed.action} --help",
            )
    return None


def _all(commands: Mapping[str, Mapping[str, str]]) -> Iterable[tuple[str, str]]:
    return (one for group in commands.values() for one in group.items())


def overview(commands: Mapping[str, Mapping[str, str]]) -> str:
    """The help of the program: its commands in the order of work."""
    width = max(len(name) for name, _ in _all(commands))
    lines = ["usage: oast COMMAND [options]", ""]
    for task, group in commands.items():
        lines += [f"{task}:", *(f"  {name.ljust(width)}  {summary}" for name, summary in group.items()), ""]
    lines += [
        "options:",
        "  -h, --help   show this help; oast COMMAND --help explains a command, with examples",
        "  --version    show the version",
        "",
        "exit codes:",
        *(f"  {code:<3}  {meaning}" for code, meaning in MEANINGS.items()),
    ]
    return "\n".join(lines) + "\n"
