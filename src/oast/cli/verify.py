"""oast verify: what follows from the intent, checked on live readings."""

from __future__ import annotations

import argparse
import asyncio
import sys
import time
from collections.abc import Mapping, Sequence

from rich.text import Text

from oast.cli import arguments
from oast.cli.compared import Work, checks_of, prepare
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import show_device_errors
from oast.cli.progress import Progress
from oast.cli.workplace import console, estate_of, plural, put_json, put_table, table
from oast.errors import DeviceError
from oast.fleet.many import for_each
from oast.intent.intent import Intent
from oast.readings.read import read
from oast.verify.checks import Check, CheckResult, evaluate

POLL_S = 0.5


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
    work = prepare(estate_of(options), options)
    checks = {name: _of_sections(found, work, options.section) for name, found in checks_of(work).items()}
    if options.format == "text" and not any(checks.values()):
        sections = " or ".join(f"'{name}'" for name in options.section)
        console().print(f"nothing to check: no check rests on what {sections} owns" if sections else "nothing to check")
        return DONE
    results, failed = asyncio.run(_verify(work, checks, options.wait, quiet=options.quiet or options.format == "json"))
    every = [result for device_results in results.values() for result in device_results]
    wrong = [result for result in every if not result.passed]
    if options.format == "json":
        documents = [{"device": name, "checks": [_document(r) for r in found]} for name, found in results.items()]
        put_json("verify", 1, {"devices": documents, "failed": [{"device": n, "reason": e.message} for n, e in failed]})
    else:
        _show(every if options.verbose else wrong)
        out = console()
        if results:
            verdict = "all true" if not wrong else f"{len(wrong)} not true"
            out.print(f"{plural(len(every), 'check')} on {plural(len(results), 'device')}: {verdict}")
        show_device_errors(failed, sys.stderr, work.logs)
    return FAILED if failed else NO if wrong else DONE


def _of_sections(checks: Sequence[Check], work: Work, sections: Sequence[str]) -> list[Check]:
    """The checks that rest on what `sections` (empty: all) own, or were written for one of them."""
    if not sections:
        return list(checks)
    scopes = {intent.device.name: intent.scope for intent in work.intents}
    return [c for c in checks if c.section in sections or any(scopes[c.device].covers(path) for path in c.concerns)]


async def _verify(
    work: Work, checks: Mapping[str, Sequence[Check]], wait_s: float, *, quiet: bool
) -> tuple[dict[str, list[CheckResult]], list[tuple[str, DeviceError]]]:
    results: dict[str, list[CheckResult]] = {}
    failed: list[tuple[str, DeviceError]] = []
    until = time.monotonic() + wait_s
    with Progress(console(error=True), [i.device.name for i in work.intents], quiet=quiet) as progress:

        async def one(intent: Intent) -> list[CheckResult]:
            name = intent.device.name
            progress(name, "connecting")
            async with work.connector.session(intent.device, intent.platform, work.logs / f"{name}.log") as session:
                progress(name, "reading")
                while True:
                    readings = await read(session, intent.platform, sorted({c.reading for c in checks[name]}))
                    found = evaluate(checks[name], readings)
                    if time.monotonic() + POLL_S > until or all(result.passed for result in found):
                        return found
                    progress(name, "waiting for it to come true")
                    await asyncio.sleep(POLL_S)

        def done(intent: Intent, result: list[CheckResult] | DeviceError) -> None:
            if isinstance(result, DeviceError):
                failed.append((intent.device.name, result))
            else:
                results[intent.device.name] = result
            progress(intent.device.name, "failed" if isinstance(result, DeviceError) else "verified")

        await for_each(work.intents, one, work.at_once, done)
    order = [intent.device.name for intent in work.intents]
    return {name: results[name] for name in order if name in results}, sorted(failed, key=lambda f: order.index(f[0]))


def _document(result: CheckResult) -> dict[str, object]:
    return {"check": result.check.title, "passed": result.passed, "wanted": result.check.wanted, "actual": result.actual}


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
