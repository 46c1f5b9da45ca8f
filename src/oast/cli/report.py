"""oast report: a change as Markdown for a merge request, or as JUnit XML."""

from __future__ import annotations

import sys
from dataclasses import dataclass

from oast.cli.command import Subcommand, option
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.shared_options import CHANGE_HELP, EstateOptions
from oast.cli.terminal import visible
from oast.operations import Changes, junit, markdown


@dataclass(frozen=True, kw_only=True)
class ReportOptions(EstateOptions):
    """The options of `oast report`."""

    change: str = option(
        "--change", metavar="CHANGE", default="last", help=f"{CHANGE_HELP} (default: the newest)"
    )
    format: str = option(
        "--format",
        choices=("markdown", "junit"),
        default="markdown",
        help="format of the report (default: markdown)",
    )


def run(options: ReportOptions) -> int:
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    text = markdown(changes, change) if options.format == "markdown" else junit(changes, change)
    sys.stdout.write(visible(text))
    return DONE


COMMAND = Subcommand(
    ReportOptions,
    run,
    examples=(
        ("oast report", "write a Markdown report of the newest change"),
        ("oast report --change last --format junit", "write JUnit XML for a pipeline"),
    ),
)
