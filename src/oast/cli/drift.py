"""oast drift: differences that nobody delivered, policies that fail, secrets that are too old."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from datetime import date

from oast.change.delivered import Drift
from oast.cli import arguments
from oast.cli.diff import compared
from oast.cli.differences import show_differences, show_unsaved
from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import show_device_errors, show_problems
from oast.cli.loop import run as run_to_end
from oast.cli.workplace import console, plural, put_json
from oast.config.documents import edits_document
from oast.operations.documents import drift_document, problem_document
from oast.operations.drift import drifts
from oast.operations.preparation import violations
from oast.records import Problem


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
    if options.format == "json":
        content = {
            "devices": [drift_document(drift) for drift in found],
            "policies": [problem_document(problem) for problem in problems],
            "unsaved": [{"device": c.name, "edits": edits_document(c.unsaved)} for c in plan.unsaved],
            "failed": [{"device": name, "reason": error.message} for name, error in plan.failed],
        }
        put_json("drift", 1, content)
    else:
        show_unsaved(plan.comparisons, console(), pushing=False)
        _show(found, problems)
        show_device_errors(plan.failed, sys.stderr, plan.logs)
    wrong = any(drift.edits for drift in found) or any(problem.kind == "policy" for problem in problems)
    return FAILED if plan.failed else NO if wrong else DONE


def _show(drifts: Sequence[Drift], problems: Sequence[Problem]) -> None:
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
