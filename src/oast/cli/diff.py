"""oast diff: intent against running."""

from __future__ import annotations

import argparse
import asyncio
import sys

from oast.cli import arguments
from oast.cli.compared import compare_all, prepare, split
from oast.cli.differences import difference_document, show_differences
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import show_device_errors
from oast.cli.workplace import console, estate_of, plural, put_json


def add_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_mode(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    work = prepare(estate_of(options), options)
    compared, failed = split(asyncio.run(compare_all(work, options.mode, quiet=options.quiet or options.format == "json")))
    different = [c for c in compared if c.edits]
    if options.format == "json":
        put_json(
            "diff",
            1,
            {
                "devices": [difference_document(c) for c in compared],
                "failed": [{"device": name, "reason": error.message} for name, error in failed],
            },
        )
    else:
        out = console()
        show_differences(compared, out)
        if different:
            total = f"+{sum(c.counts.added for c in different)} -{sum(c.counts.removed for c in different)}"
            out.print(f"{plural(len(different), 'device')} to change ({total}), {len(compared) - len(different)} as intended")
        elif compared:
            out.print(f"nothing to do: {plural(len(compared), 'device')} as intended")
        show_device_errors(failed, sys.stderr, work.logs)
    return FAILED if failed else NO if different else DONE
