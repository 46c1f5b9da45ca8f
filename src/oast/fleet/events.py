"""Events: what happens while many devices are worked on, as records that a display can show."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum


class Stage(StrEnum):
    """Where one device stands."""

    CONNECTING = "connecting"
    READING = "reading"
    COMPARED = "compared"
    VERIFIED = "verified"
    WAITING_FOR_TRUTH = "waiting for checks to pass"
    BACKING_UP = "backing up"
    PREPARED = "prepared"
    STAGING = "staging"
    APPLYING = "applying"
    READING_AGAIN = "reading back"
    APPLIED = "applied"
    CHECKING = "checking"
    HOLDING = "waiting for stability"
    LOGGING_IN_AGAIN = "logging in again"
    CONFIRMING = "confirming"
    SAVING = "saving"
    REVERTING = "rolling back"
    LOST = "lost; waiting for the rollback"
    FAILED = "failed"
    HELD_BACK = "not started"
    UNCHANGED = "unchanged"
    DELIVERED = "delivered"
    REVERTED = "rolled back"
    UNKNOWN = "unknown"

    @property
    def is_end(self) -> bool:
        """Whether nothing more happens to the device in this run."""
        return self in _ENDS


_ENDS = frozenset(
    (
        Stage.COMPARED,
        Stage.VERIFIED,
        Stage.FAILED,
        Stage.HELD_BACK,
        Stage.UNCHANGED,
        Stage.DELIVERED,
        Stage.REVERTED,
        Stage.UNKNOWN,
    )
)


@dataclass(frozen=True, slots=True)
class DeviceEvent:
    """A device has come to a stage; `done` of `total` lines are through, where lines are sent."""

    device: str
    stage: Stage
    done: int = 0
    total: int = 0


@dataclass(frozen=True, slots=True)
class WaveEvent:
    """The wave `number` of `total` begins with these devices."""

    number: int
    total: int
    devices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class TimerEvent:
    """From now on, the device rolls back within `seconds` unless the change is confirmed."""

    device: str
    seconds: float


@dataclass(frozen=True, slots=True)
class WaitEvent:
    """From now on, the run waits for `what`, at most `seconds`."""

    what: str
    seconds: float


Event = DeviceEvent | WaveEvent | TimerEvent | WaitEvent
OnEvent = Callable[[Event], None]


def ignore_event(event: Event) -> None:
    """For callers who do not watch."""
