"""oast restore: back to a point in time, whole or one section, by the same way as every delivery."""

from __future__ import annotations

import argparse
import sys

from oast.cli import arguments
from oast.cli.push import Around, chosen, deliver
from oast.cli.workplace import estate_of, named
from oast.operations.backups import prepared_restore
from oast.operations.deliver import Plan

NAMED = 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("label", metavar="LABEL", help="a label, or a commit: see oast backup list")
    parser.add_argument("--propose", action="store_true", help="write it down for somebody else to approve, and stop")
    arguments.add_delivery(parser)
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_mode(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    prepared, point, missing = prepared_restore(estate_of(options), options.label, options.on, options.section)
    if missing:
        sys.stderr.write(f"nothing was kept of {named(missing, NAMED)} under '{options.label}': left alone\n")
    what = point.label or point.commit[:12]
    options.reason = options.reason or f"Back to '{what}'"
    return deliver(options, prepared, chosen(options), Restoring(f"back to {what}"))


class Restoring(Around):
    """Says in the record what it goes back to."""

    def __init__(self, origin: str) -> None:
        self._origin = origin

    def look(self, plan: Plan) -> int | None:
        plan.origin = self._origin
        return None
