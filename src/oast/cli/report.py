"""oast report: a change as Markdown for a merge request, or as JUnit XML."""

from __future__ import annotations

import argparse
import sys

from oast.cli import arguments
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.terminal import visible
from oast.operations import Changes, junit, markdown


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--change",
        metavar="CHANGE",
        default="last",
        help="its name, or how that begins or ends (default: the last)",
    )
    parser.add_argument(
        "--format",
        choices=("markdown", "junit"),
        default="markdown",
        help="what comes out (default: markdown)",
    )
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    text = markdown(changes, change) if options.format == "markdown" else junit(changes, change)
    sys.stdout.write(visible(text))
    return DONE
