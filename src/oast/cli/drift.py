"""oast drift: differences that nobody delivered, policies that fail, secrets that are too old."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping, Sequence
from datetime import date

from rich.console import Console
from rich.text import Text

from oast.change.delivered import Drift
from oast.cli import arguments
from oast.cli.diff import compared
from oast.cli.differences import show_differences, show_unsaved
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import show_device_errors, show_problems
from oast.cli.loop import run as run_to_end
from oast.cli.terminal import put_hanging
from oast.cli.workplace import console, named, plural, put_json
from oast.config.documents import edits_document
from oast.operations.changes import Change
from oast.operations.documents import drift_document, problem_document
from oast.operations.drift import drifts, last_changes
from oast.operations.preparation import violations
from oast.records import Problem

NAMED = 4


def add_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    plan = run_to_end(compared(options))
    problems = violations(plan.preparation, date.today())
    found = drifts(plan, limited=bool(options.section))
    last = last_changes(plan.preparation.estate, found)
    if options.format == "json":
        content = {
            "devices": [{**drift_document(drift), "last_change": last[drift.name].name if drift.name in last else None} for drift in found],
            "policies": [problem_document(problem) for problem in problems],
            "unsaved": [{"device": c.name, "edits": edits_document(c.unsaved)} for c in plan.unsaved],
            "failed": [{"device": name, "reason": error.message} for name, error in plan.failed],
        }
        put_json("drift", 1, content)
    else:
        show_unsaved(plan.comparisons, console(), pushing=False)
        _show(found, problems, last)
        show_device_errors(plan.failed, sys.stderr, plan.logs)
    wrong = any(drift.edits for drift in found) or any(problem.kind == "policy" for problem in problems)
    return FAILED if plan.failed else NO if wrong else DONE


def _show_last(out: Console, last: Mapping[str, Change]) -> None:
    """Who has delivered to the same parts last."""
    groups: dict[str, list[str]] = {}
    for name, change in last.items():
        groups.setdefault(f"{change.name} by {change.author}: {change.reason}", []).append(name)
    for told, names in groups.items():
        put_hanging(out, Text.assemble((f"delivered last to these parts of {named(names, NAMED)}: ", "dim"), told))
    if groups:
        out.print()


def _show(drifts: Sequence[Drift], problems: Sequence[Problem], last: Mapping[str, Change]) -> None:
    out = console()
    known = [drift for drift in drifts if drift.since is not None]
    new = [drift for drift in drifts if drift.since is None]
    show_differences(known, out)
    _show_last(out, last)
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
