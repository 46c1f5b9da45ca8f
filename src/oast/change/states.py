"""The states a device is known to be in after a delivery, and why it is not simply delivered."""

from __future__ import annotations

from enum import StrEnum


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
