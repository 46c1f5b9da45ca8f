"""How far a delivery to one device has come."""

from __future__ import annotations

from enum import IntEnum


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
