"""oast verify: what follows from the intent, checked on live readings."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping, Sequence

from rich.text import Text

from oast.cli import arguments
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import show_device_errors
from oast.cli.loop import run as run_to_end
from oast.cli.progress import Progress
from oast.cli.workplace import console, estate_of, plural, put_json, put_table, table
from oast.operations.documents import check_document
from oast.operations.preparation import Preparation, prepare
from oast.operations.verify import Verification, checks_for, verify
from oast.verify.checks import Check, CheckResult


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("-v", "--verbose", action="store_true", help="list every check, not only those that fail")
    parser.add_argument(
        "--wait", metavar="S", type=arguments.seconds, default=0.0, help="look again until all is true, for S seconds at most"
    )
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    prepared = prepare(estate_of(options), options.on, options.section)
    checks = checks_for(prepared, options.section)
    if options.format == "text" and not any(checks.values()):
        sections = " or ".join(f"'{name}'" for name in options.section)
        console().print(f"nothing to check: no check rests on what {sections} owns" if sections else "nothing to check")
        return DONE
    found = run_to_end(_verify(options, prepared, checks))
    if options.format == "json":
        documents = [{"device": name, "checks": [check_document(r) for r in results]} for name, results in found.results.items()]
        put_json("verify", 1, {"devices": documents, "failed": [{"device": n, "reason": e.message} for n, e in found.failed]})
    else:
        _show(found.every if options.verbose else found.wrong)
        out = console()
        if found.results:
            verdict = "all true" if not found.wrong else f"{len(found.wrong)} not true"
            out.print(f"{plural(len(found.every), 'check')} on {plural(len(found.results), 'device')}: {verdict}")
        show_device_errors(found.failed, sys.stderr, found.logs)
    return FAILED if found.failed else NO if found.wrong else DONE


async def _verify(options: argparse.Namespace, prepared: Preparation, checks: Mapping[str, Sequence[Check]]) -> Verification:
    quiet = options.quiet or options.format == "json"
    with Progress(console(error=True), [i.device.name for i in prepared.intents], quiet=quiet) as progress:
        return await verify(prepared, checks, wait_s=options.wait, at_once=options.at_once, timeout_s=options.timeout, on_event=progress)


def _show(results: Sequence[CheckResult]) -> None:
    if not results:
        return
    listing = table("device", "check", "wanted", "found", whole=("device", "wanted"))
    for result in results:
        found = Text(result.actual or "not there", style="green" if result.passed else "red")
        listing.add_row(result.check.device, result.check.title, result.check.wanted, found)
    out = console()
    put_table(out, listing)
    out.print()
