"""oast drift: differences that nobody delivered, policies that fail, secrets that are too old."""

from __future__ import annotations

import argparse
import asyncio
import sys
from collections.abc import Sequence
from datetime import date
from typing import Any

from oast.change.compare import Comparison
from oast.change.delivered import Drift, load, path_of, since_delivered
from oast.cli import arguments
from oast.cli.compared import Work, compare_all, policies_of, prepare, split
from oast.cli.differences import show_differences
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import problem_document, show_device_errors, show_problems
from oast.cli.workplace import console, estate_of, plural, put_json
from oast.config.documents import edits_document
from oast.config.view import counts
from oast.errors import DeviceError
from oast.records import Problem


def add_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    work = prepare(estate_of(options), options)
    problems = policies_of(work, date.today())
    compared, failed = split(asyncio.run(compare_all(work, "replace", quiet=options.quiet or options.format == "json")))
    drifts = [_drift(comparison, work, limited=bool(options.section)) for comparison in compared]
    if options.format == "json":
        put_json("drift", 1, _document(drifts, problems, failed, work))
    else:
        _show(drifts, problems, work)
        show_device_errors(failed, sys.stderr, work.logs)
    wrong = any(drift.edits for drift in drifts) or any(problem.kind == "policy" for problem in problems)
    return FAILED if failed else NO if wrong else DONE


def _drift(comparison: Comparison, work: Work, *, limited: bool) -> Drift:
    syntax = work.builder.syntax(comparison.intent.device)
    delivered = load(path_of(work.estate.working, comparison.name), syntax.grammar)
    if delivered is None:
        # The way from intent to running: what stands on the device besides what is intended was added by somebody.
        return Drift(comparison.name, None, comparison.away_from_intent)
    drift = since_delivered(comparison.name, delivered, comparison.running)
    if not limited:
        return drift
    edits = tuple(edit for edit in drift.edits if comparison.intent.scope.covers(edit.path))
    return Drift(drift.name, drift.since, edits)


def _show(drifts: Sequence[Drift], problems: Sequence[Problem], work: Work) -> None:
    out = console()
    known = [drift for drift in drifts if drift.since is not None]
    new = [drift for drift in drifts if drift.since is None]
    show_differences(known, out)
    if new:
        names = plural(len(new), "device")
        out.print(f"nothing was ever delivered to {names}; against the intent instead:", style="yellow")
        out.print()
        show_differences(new, out)
    show_problems(problems, sys.stdout)
    if problems:
        out.print()
    drifted = [drift for drift in drifts if drift.edits]
    as_before = "as delivered" if known else "as intended"
    errors = sum(1 for problem in problems if problem.kind == "policy")
    told = []
    if drifts:
        told.append(
            f"{plural(len(drifted), 'device')} drifted, {len(drifts) - len(drifted)} {as_before}"
            if drifted
            else f"no drift: {plural(len(drifts), 'device')} {as_before}"
        )
    if errors:
        told.append(plural(errors, "policy violation"))
    if told:
        out.print("; ".join(told))


def _document(
    drifts: Sequence[Drift], problems: Sequence[Problem], failed: Sequence[tuple[str, DeviceError]], work: Work
) -> dict[str, Any]:
    devices = []
    for drift in drifts:
        change = counts(drift.edits)
        since = {"run": drift.since.run, "at": drift.since.at.isoformat()} if drift.since else None
        devices.append(
            {
                "device": drift.name,
                "since": since,
                "added": change.added,
                "removed": change.removed,
                "edits": edits_document(drift.edits),
            }
        )
    return {
        "devices": devices,
        "policies": [problem_document(problem) for problem in problems],
        "failed": [{"device": name, "reason": error.message} for name, error in failed],
    }
