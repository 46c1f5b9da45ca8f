"""oast verify: what follows from the intent, checked on live readings."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping, Sequence

from oast.cli import arguments
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import show_device_errors
from oast.cli.loop import run as run_to_end
from oast.cli.progress import Progress
from oast.cli.verify_view import show_listed, show_results
from oast.cli.workplace import console, estate_of, put_json
from oast.errors import UsageError
from oast.operations.checked import junit_of, listed_document, verify_document
from oast.operations.preparation import Preparation, prepare
from oast.operations.verify import Verification, checks_for, verify
from oast.verify.checks import Check


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("-v", "--verbose", action="store_true", help="list every check, not only those that fail")
    parser.add_argument(
        "--wait", metavar="S", type=arguments.seconds, default=0.0, help="look again until all is true, for S seconds at most"
    )
    parser.add_argument("--list", action="store_true", dest="listing", help="the checks there are and where each is from; asks no device")
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser, "junit")
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    prepared = prepare(estate_of(options), options.on, options.section)
    checks = checks_for(prepared, options.section)
    if options.listing:
        return _list(options, prepared, checks)
    if options.format == "text" and not any(checks.values()):
        sections = " or ".join(f"'{name}'" for name in options.section)
        console().print(f"nothing to check: no check rests on what {sections} owns" if sections else "nothing to check")
        return DONE
    found = run_to_end(_verify(options, prepared, checks))
    if options.format == "json":
        put_json("verify", 1, verify_document(prepared, found))
    elif options.format == "junit":
        sys.stdout.write(junit_of(prepared, found))
    else:
        show_results(prepared, found, verbose=options.verbose)
        show_device_errors(found.failed, sys.stderr, found.logs)
    return FAILED if found.failed else NO if found.wrong else DONE


def _list(options: argparse.Namespace, prepared: Preparation, checks: Mapping[str, Sequence[Check]]) -> int:
    if options.format == "junit":
        raise UsageError("--format junit is for results; leave out --list")
    if options.format == "json":
        put_json("checks", 1, listed_document(prepared, checks))
    else:
        show_listed(prepared, checks)
    return DONE


async def _verify(options: argparse.Namespace, prepared: Preparation, checks: Mapping[str, Sequence[Check]]) -> Verification:
    quiet = options.quiet or options.format != "text"
    with Progress(console(error=True), [i.device.name for i in prepared.intents], quiet=quiet) as progress:
        return await verify(prepared, checks, wait_s=options.wait, at_once=options.at_once, timeout_s=options.timeout, on_event=progress)
