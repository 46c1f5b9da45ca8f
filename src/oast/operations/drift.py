"""Drift: what changed on devices that nobody delivered."""

from __future__ import annotations

from oast.change.compare import Comparison
from oast.change.delivered import Drift, load, path_of, since_delivered
from oast.operations.deliver import Plan


def drifts(plan: Plan, *, limited: bool) -> list[Drift]:
    """The drift of every device that was compared; `limited` to what the plan's sections own. Raises StateError."""
    return [_drift(plan, comparison, limited=limited) for comparison in plan.comparisons]


def _drift(plan: Plan, comparison: Comparison, *, limited: bool) -> Drift:
    preparation = plan.preparation
    grammar = preparation.syntax_of(comparison.intent).grammar
    delivered = load(path_of(preparation.estate.working, comparison.name), grammar)
    if delivered is None:
        # The way from intent to running: what stands on the device besides what is intended was added by somebody.
        return Drift(comparison.name, None, comparison.away_from_intent)
    drift = since_delivered(comparison.name, delivered, comparison.running)
    if not limited:
        return drift
    edits = tuple(edit for edit in drift.edits if comparison.intent.scope.covers(edit.path))
    return Drift(drift.name, drift.since, edits)
