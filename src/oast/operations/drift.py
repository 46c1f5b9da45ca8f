"""Drift: what changed on devices that nobody delivered, and who has changed the same part last."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from oast.change.compare import Comparison
from oast.change.delivered import Drift, load, path_of, since_delivered
from oast.config.documents import edits_document
from oast.errors import StateError
from oast.estate.estate import Estate
from oast.operations.changes import BEGAN, Change, Changes
from oast.operations.deliver import Plan
from oast.operations.proposals import same_parts
from oast.operations.recorded import recorded_plan

# Further back than so many changes nobody looks for who it was.
FAR_BACK = 300
TOUCHED = ("delivered", "unknown")


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


def last_changes(estate: Estate, found: Sequence[Drift]) -> Mapping[str, Change]:
    """The last change that was delivered to the same part of each device that has drifted, where there is one in the ledger.

    Whatever is wrong in the ledger is for the audit: nothing is said then.
    """
    open_: dict[str, Sequence[object]] = {drift.name: edits_document(drift.edits) for drift in found if drift.edits}
    touched: dict[str, Change] = {}
    changes = Changes(estate)
    try:
        for change in reversed(changes.all()[-FAR_BACK:] if open_ else []):
            if not open_:
                break
            if not change.every(BEGAN):
                continue
            devices = recorded_plan(changes, change).devices
            reached = {d["device"] for outcome in changes.outcomes(change) for d in outcome["devices"] if d["state"] in TOUCHED}
            for name in [name for name in open_ if name in reached & set(devices)]:
                if not same_parts(open_[name], devices[name]["edits"]):
                    continue
                touched[name] = change
                del open_[name]
    except StateError:
        pass
    return touched
