"""What became of a device in a delivery."""

from __future__ import annotations

from dataclasses import dataclass

from oast.change.states import Cause, RollbackReason, State
from oast.change.way_back import WayBack
from oast.config.view import Counts
from oast.verify.checks import CheckResult

__all__ = ["Cause", "Outcome", "RollbackReason", "State"]


@dataclass(frozen=True)
class Outcome:
    """The end of one device's delivery. `seconds` is how long it took; `log` is the transcript's file.

    `saved_besides` counts what it ran before, unsaved, and now starts with as well.
    """

    device: str
    state: State
    cause: Cause
    counts: Counts
    seconds: float
    reason: str | None = None
    hint: str | None = None
    failed_checks: tuple[CheckResult, ...] = ()
    excused_checks: tuple[CheckResult, ...] = ()
    log: str | None = None
    way_back: WayBack | None = None
    saved_besides: int = 0
    why: RollbackReason | None = None
    """Why it is not simply delivered, where something was sent or was going to be."""
