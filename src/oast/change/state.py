"""The phases, states and outcomes of a delivery to one device, and the rollback methods."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from enum import IntEnum, StrEnum

from oast.config import Counts
from oast.connect import Capability
from oast.platforms import Platform
from oast.verify import CheckResult


class Phase(IntEnum):
    """How far a delivery has come: what may have happened on the device, not what was planned."""

    UNTOUCHED = 0
    """Nothing was sent that could change anything."""
    STAGED = 1
    """A timer may be armed, a candidate or a file be filled; nothing of the change is in effect."""
    APPLYING = 2
    """The change may be in effect, wholly or in part."""
    APPLIED = 3
    """It is in effect: the device was read again."""
    CONFIRMING = 4
    """It may have been confirmed."""
    CONFIRMED = 5
    """It stays, but may not be saved."""
    ENDED = 6


class State(StrEnum):
    """The state a device is known to be in. Never a guess: what could not be read again is UNKNOWN."""

    UNCHANGED = "unchanged"
    DELIVERED = "delivered"
    REVERTED = "reverted"
    UNKNOWN = "unknown"

    @property
    def shown(self) -> str:
        """The state in the words of reports; documents and records have the value itself."""
        return "rolled back" if self is State.REVERTED else self.value


class Cause(StrEnum):
    """Why a device is not simply delivered."""

    NONE = "none"
    FAILED = "failed"
    """It could not be reached, refused a statement, or was lost: exit code 4."""
    CHECKS = "checks"
    """It was delivered, the checks failed or its path was cut, and it was reverted: exit code 5."""
    INTERRUPTED = "interrupted"
    HELD = "held"
    """The device was not started, or was rolled back, because of the outcome of other devices."""


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


@dataclass(frozen=True, slots=True)
class RollbackMethod:
    """`name` is shown after "rollback:"; `is_autonomous` methods need neither a session nor Oast."""

    name: str
    is_autonomous: bool

    @property
    def unreachable_hint(self) -> str:
        """What to expect of a device that cannot be reached any more."""
        if self.is_autonomous:
            return f"check the device itself: it should have rolled back ({self.name})"
        return (
            "check the device itself: it has no rollback of its own, and Oast could not reach it to send"
            " inverse commands"
        )


REVERT_TIMER = RollbackMethod("revert timer", is_autonomous=True)
CONFIRMED_COMMIT = RollbackMethod("confirmed commit", is_autonomous=True)
DAEMON_TIMER = RollbackMethod("file with a daemon timer", is_autonomous=True)
FILE_TIMER = RollbackMethod("timer that Oast runs on the device", is_autonomous=True)
SCHEDULED = RollbackMethod("scheduled restore", is_autonomous=True)
INVERSE_COMMANDS = RollbackMethod("inverse commands sent by Oast", is_autonomous=False)


INVERSE_EDITS = RollbackMethod("inverse edits sent by Oast", is_autonomous=False)
PREVIOUS_STARTUP = RollbackMethod(
    "previous startup configuration, written again by Oast", is_autonomous=False
)


def rollback_method_of(
    platform: Platform, capabilities: Collection[Capability] | None = None
) -> RollbackMethod:
    """Return the rollback method that the platform declares; where it declares none, Oast sends inverse
    commands.

    Over NETCONF, the session's `capabilities` decide.
    """
    if platform.netconf is not None:
        return (
            CONFIRMED_COMMIT
            if capabilities is None or Capability.REVERT_TIMER in capabilities
            else INVERSE_EDITS
        )
    if platform.timer is not None:
        return REVERT_TIMER
    if platform.candidate is not None:
        return CONFIRMED_COMMIT
    if platform.file is not None:
        return FILE_TIMER if platform.file.is_own_timer else DAEMON_TIMER
    return SCHEDULED if platform.scheduled is not None else INVERSE_COMMANDS


@dataclass(frozen=True)
class Outcome:
    """The end of one device's delivery. `seconds` is how long it took; `log` is the transcript's file.

    `also_saved` counts what it ran before, unsaved, and now starts with as well.
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
    rollback_method: RollbackMethod | None = None
    also_saved: int = 0
    why: RollbackReason | None = None
    """Why it is not simply delivered, where something was sent or was going to be."""
