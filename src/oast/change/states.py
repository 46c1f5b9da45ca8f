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


class RollbackReason(StrEnum):
    """Why a delivery to a device did not go on, as far as it is proved."""

    PATH_CUT = "path cut"
    """While the change was active no new session could be opened; after the rollback one could."""
    TOO_SLOW = "too slow"
    """It answered too late for the timers of its wave."""
    REFUSED = "refused"
    """It refused a statement or a command."""
    SESSION_LOST = "session lost"
    """The session ended or fell silent; whether the change was the cause is not known."""
    CHECKS = "postcheck failed"
    FOREIGN_EDIT = "foreign edit"
    """Another session changed what the change is about."""
    NOT_AS_GIVEN = "not as given"
    """It accepted the change and lists something else."""
    INTERRUPTED = "interrupted"
    OTHER_DEVICES = "other devices"
    """It was rolled back, or not begun, because of what happened to other devices."""
    INTERNAL = "internal error"
