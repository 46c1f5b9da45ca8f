"""What became of a device in a delivery."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from oast.change.way_back import WayBack
from oast.config.view import Counts
from oast.verify.checks import CheckResult


class State(StrEnum):
    """The state a device is known to be in. Never a guess: what could not be read again is UNKNOWN."""

    UNCHANGED = "unchanged"
    DELIVERED = "delivered"
    REVERTED = "reverted"
    UNKNOWN = "unknown"


class Cause(StrEnum):
    """Why a device is not simply delivered."""

    NONE = "none"
    FAILED = "failed"
    """It could not be reached, refused a statement, or was lost: exit code 4."""
    CHECKS = "checks"
    """It was delivered, the checks failed or its path was cut, and it was reverted: exit code 5."""
    INTERRUPTED = "interrupted"
    HELD = "held"
    """It was not begun, or was taken back, because of what became of other devices."""


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
