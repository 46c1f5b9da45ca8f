"""Results as plain data for JSON: differences, outcomes, problems, checks, drift. The page: docs/formats.md.

How a tree and an edit are written stands in `oast.config.documents`.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from oast.change import Outcome
from oast.change.plan import Comparison
from oast.change.record import Drift
from oast.config import RetainedStatement, counts, edits_document
from oast.operations.verify import Behind
from oast.records import Place, Problem
from oast.verify import CheckResult


def difference_document(comparison: Comparison) -> dict[str, Any]:
    """One device's difference."""
    hide = comparison.intent.platform.grammar.fingerprints.hide
    return {
        "device": comparison.name,
        "added": comparison.counts.added,
        "removed": comparison.counts.removed,
        "edits": edits_document(comparison.edits),
        "commands": [hide(command.masked) for command in comparison.commands],
        "rollback_method": comparison.rollback_method.name,
        "by_structure": comparison.intent.platform.by_structure,
        "risks": [str(risk) for risk in comparison.access_risks],
        "management_move": move_document(comparison),
        "file": (
            None
            if comparison.file is None
            else {"path": comparison.file.path, "after": comparison.file.after}
        ),
        "unsaved": edits_document(comparison.unsaved),
        "unknown": comparison.unknown,
        "retained": [spared_document(spared) for spared in comparison.spared],
    }


def move_document(comparison: Comparison) -> dict[str, Any] | None:
    """Where the change moves the address by which Oast reaches the device."""
    move = comparison.move
    return None if move is None else {"before": move.before, "to": move.to, "alternate": move.is_alternate}


def spared_document(spared: RetainedStatement) -> dict[str, Any]:
    """A statement that is not intended and stays all the same."""
    statements = [node.text for node in (*spared.outer, spared.node)]
    return {
        "statement": statements,
        "number": spared.number,
        "why": "unknown" if spared.unknown else "contains statements that are not owned",
    }


def outcome_document(outcome: Outcome) -> dict[str, Any]:
    """The outcome of one device."""
    return {
        "device": outcome.device,
        "state": str(outcome.state),
        "cause": str(outcome.cause),
        "why": None if outcome.why is None else str(outcome.why),
        "added": outcome.counts.added,
        "removed": outcome.counts.removed,
        "seconds": round(outcome.seconds, 3),
        "reason": outcome.reason,
        "hint": outcome.hint,
        "failed_checks": [result.finding for result in outcome.failed_checks],
        "already_failing": [result.finding for result in outcome.excused_checks],
        "rollback_method": outcome.rollback_method.name if outcome.rollback_method is not None else None,
        "also_saved": outcome.also_saved,
        "log": outcome.log,
    }


def count_states(outcomes: Iterable[Outcome]) -> dict[str, int]:
    """How many devices came to which state."""
    return dict(Counter(str(outcome.state) for outcome in outcomes))


def problem_document(problem: Problem) -> dict[str, Any]:
    """One thing that is wrong in the estate."""
    return {
        "kind": problem.kind,
        "severity": "warning" if problem.is_warning else "error",
        "message": problem.message,
        **place_document(problem.place),
        "hint": problem.hint,
        "excerpt": problem.excerpt,
        "devices": list(problem.devices),
        "values": list(problem.behind),
    }


def check_document(result: CheckResult, behind: Behind) -> dict[str, Any]:
    """One check, what was found, and where the check comes from."""
    found = {
        "check": result.check.title,
        "passed": result.passed,
        "expected": result.check.expected,
        "actual": result.actual,
    }
    return {**found, **origins_document(behind)}


def origins_document(behind: Behind) -> dict[str, Any]:
    """The statement behind a check, and where it comes from."""
    return {"statement": list(behind.statement), **place_document(behind.place)}


def place_document(place: Place | None) -> dict[str, Any]:
    """A line of a file the engineer wrote."""
    return {"file": place.file if place else None, "line": place.line if place else None}


def drift_document(drift: Drift) -> dict[str, Any]:
    """What changed on one device."""
    change = counts(drift.edits)
    return {
        "device": drift.name,
        "since": {"run": drift.since.run, "at": drift.since.at.isoformat()} if drift.since else None,
        "added": change.added,
        "removed": change.removed,
        "edits": edits_document(drift.edits),
    }


def device_lines(device: Mapping[str, Any]) -> list[str]:
    """The edits of a recorded device, and what else is saved, a line for each statement."""
    return [
        *diff_lines(device["edits"]),
        *(f"also saved: {line}" for line in diff_lines(device["unsaved"])),
    ]


def diff_lines(edits: Sequence[Any]) -> list[str]:
    """A recorded difference, a line for each statement."""
    lines: list[str] = []
    for edit in edits:
        around = " / ".join(edit["path"])
        place = f"{around} / " if around else ""
        for sign, side in (("-", "old"), ("+", "new")):
            if side in edit:
                lines.extend(f"{sign} {line}" for line in _node_lines(edit[side], place))
    return lines


def _node_lines(node: Any, place: str) -> list[str]:
    found = [f"{place}{node['statement']}"]
    for child in node.get("below", ()):
        found.extend(_node_lines(child, f"{place}{node['statement']} / "))
    return found
