"""The command line: the program's parser, and the options that commands have in common."""

from __future__ import annotations

import argparse
import importlib
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, NoReturn

from oast import __version__
from oast.spelling import closest_match, renamed, spelling_hint


def parse(arguments: Sequence[str], commands: Mapping[str, str]) -> argparse.Namespace:
    """The options, with the command's `run`. Exits with 2 and a hint when the command line is wrong."""
    parser = Parser(
        prog="oast",
        description=(
            "Render device configurations, see what would change, deliver it with a way back, verify the"
            " network."
        ),
        epilog=(
            "Exit codes: 0 done, or nothing to do; 1 the answer is no; 2 wrong command line; 3 the estate is"
            " invalid; 4 a device failed; 5 delivered, and reverted; 130 interrupted."
        ),
        allow_abbrev=False,
    )
    parser.add_argument("--version", action="version", version=f"oast {__version__}")
    chosen = next((argument for argument in arguments if not argument.startswith("-")), None)
    below = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name, summary in commands.items():
        sub = below.add_parser(
            name, help=summary, description=summary[0].upper() + summary[1:] + ".", allow_abbrev=False
        )
        if name == chosen:
            module = importlib.import_module(f"oast.cli.{name}")
            sub.set_defaults(run=getattr(module, "run", None))
            module.add_arguments(sub)
    options, unknown = parser.parse_known_args(arguments)
    if unknown:
        sub = below.choices[options.command]
        near = (
            spelling_hint(unknown[0].partition("=")[0], sub.every_option())
            if unknown[0].startswith("-")
            else None
        )
        sub.error(
            f"unrecognized arguments: {' '.join(unknown)}"
            + (f"; {near}" if near and not near.startswith("known here") else "")
        )
    return options


class Parser(argparse.ArgumentParser):
    """Names the nearest word when one is not known."""

    def error(self, message: str) -> NoReturn:
        wrong = re.search(r"invalid choice: '([^']*)' \(choose from (.*)\)", message)
        if wrong is not None:
            choices = re.findall(r"'([^']*)'", wrong[2])
            near = closest_match(wrong[1], choices)
            new = renamed(wrong[1], choices)
            message += f"; {new}" if new else f"; did you mean '{near}'?" if near else ""
        super().error(message)

    def every_option(self) -> list[str]:
        """The options of this command and of its actions."""
        found = list(self._option_string_actions)
        for action in self._actions:
            if isinstance(action, argparse._SubParsersAction):
                found.extend(option for below in action.choices.values() for option in below.every_option())
        return found


def add_action(
    actions: Any, name: str, summary: str, run: Callable[[argparse.Namespace], int]
) -> argparse.ArgumentParser:
    """An action of a command, with what all of them have."""
    about = f"{summary[0].upper()}{summary[1:]}."
    parser: argparse.ArgumentParser = actions.add_parser(
        name, help=summary, description=about, allow_abbrev=False
    )
    parser.set_defaults(run=run)
    add_format(parser)
    add_estate(parser)
    return parser


def add_estate(parser: argparse.ArgumentParser) -> None:
    """Which estate, and how much to say."""
    parser.add_argument(
        "--estate",
        metavar="DIR",
        type=Path,
        help="the estate's folder (default: this one or the nearest above)",
    )
    parser.add_argument("-q", "--quiet", action="store_true", help="no progress, only results")
    parser.add_argument(
        "--debug", action="store_true", help="log on stderr what Oast decides and why, without secrets"
    )
    parser.add_argument(
        "--debug-file", metavar="FILE", type=Path, help="append this log to FILE instead of stderr"
    )


def add_selection(parser: argparse.ArgumentParser) -> None:
    """Which devices."""
    parser.add_argument(
        "--on",
        metavar="SELECTOR",
        help="the devices, for example 'role=core and site in (gull, tern)'; default: all",
    )


def add_intent(parser: argparse.ArgumentParser) -> None:
    """Which sections, and values for this run only."""
    parser.add_argument(
        "--section", metavar="NAME", action="append", default=[], help="only this section; may be repeated"
    )
    add_given(parser)


def add_given(parser: argparse.ArgumentParser) -> None:
    """Values for this run only."""
    parser.add_argument(
        "--with",
        dest="given",
        metavar="KEY=VALUE",
        action="append",
        default=[],
        help="a value over all others, for this run",
    )


def add_mode(parser: argparse.ArgumentParser) -> None:
    """What happens to what is on the device and not in the intent."""
    parser.add_argument(
        "--mode",
        choices=("replace", "merge"),
        help="replace (default): what is owned and not intended goes; merge: it stays",
    )
    parser.add_argument(
        "--remove-unknown",
        action="store_true",
        help="also remove statements that the platform's grammar does not know, where it says how",
    )
    parser.add_argument(
        "-v",
        "--verbose",
        action="store_true",
        help="list the statements that are left alone, and every device by itself",
    )


def add_summary(parser: argparse.ArgumentParser) -> None:
    """How much is shown of what would change."""
    parser.add_argument(
        "--summary",
        action="store_true",
        help="show how much would change in each section, instead of every line",
    )
    parser.add_argument(
        "--full",
        action="store_true",
        help="show every device's own values, also of lines that differ in them alone",
    )


def add_connection(parser: argparse.ArgumentParser) -> None:
    """How to go about many devices."""
    parser.add_argument(
        "--parallel",
        metavar="N",
        type=positive,
        help="number of devices to work on at the same time (default: [connection] parallel in oast.toml)",
    )
    parser.add_argument(
        "--timeout",
        metavar="S",
        type=seconds,
        help="seconds to wait for a device's answer (default: from oast.toml)",
    )


def add_delivery(parser: argparse.ArgumentParser) -> None:
    """Why and how to deliver."""
    parser.add_argument(
        "-m", "--reason", metavar="REASON", help="why the change is made; needed unless --dry-run"
    )
    parser.add_argument("--ticket", metavar="T", help="the ticket it belongs to")
    parser.add_argument("--dry-run", action="store_true", help="compare and show, touch nothing")
    parser.add_argument("--yes", action="store_true", help="deliver without asking")
    parser.add_argument(
        "--revert-timer", metavar="S", type=seconds, help="seconds until a device goes back by itself"
    )
    parser.add_argument(
        "--verify-timeout", metavar="S", type=seconds, help="seconds the checks may take to come true"
    )
    parser.add_argument(
        "--max-failures",
        metavar="N",
        type=count,
        help=(
            "stop starting devices after more than N failures or rollbacks (default: [delivery] max_failures"
            " in oast.toml)"
        ),
    )
    parser.add_argument(
        "--allow-removals", action="store_true", help="also take away what is beyond the limits in oast.toml"
    )
    waves = parser.add_mutually_exclusive_group()
    waves.add_argument(
        "--one-wave",
        action="store_true",
        help="all devices in one wave, for changes that need both ends of a link",
    )
    waves.add_argument(
        "--split-waves",
        action="store_true",
        help="split a wave that would not fit into the revert timer (default: from oast.toml)",
    )
    parser.add_argument(
        "--neighbor-hops",
        metavar="HOPS",
        type=count,
        help=(
            "monitor neighbors up to HOPS links away for collateral damage (default: [delivery] neighbor_hops"
            " in oast.toml; 0: none)"
        ),
    )
    add_expect(parser)
    add_summary(parser)
    add_connection(parser)


def add_expect(parser: argparse.ArgumentParser) -> None:
    """What may be lost."""
    parser.add_argument(
        "--expect",
        metavar="READING[: EXPRESSION]",
        action="append",
        default=[],
        help="what may be lost, such as 'routes: destination-prefix=198.51.100.0/24'; may be repeated",
    )


def add_format(parser: argparse.ArgumentParser, *more: str) -> None:
    """What comes out."""
    parser.add_argument(
        "--format",
        choices=("text", "json", *more),
        default="text",
        help="text to read (default), or a document",
    )


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
