"""What a recorded change means to do."""

from __future__ import annotations

from oast.change.plan.stored_plan import StoredPlan, plan_from
from oast.errors import StateError
from oast.operations.changes import Change, Changes


def recorded_plan(changes: Changes, change: Change) -> StoredPlan:
    """What it means to do on every device. Raises StateError."""
    if change.plan is None:
        raise StateError(f"what {change.name} means to do is not in the ledger", hint="oast change audit")
    return plan_from(changes.ledger.content(change.plan))
