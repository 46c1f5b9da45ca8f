"""What a device can do for a delivery."""

from __future__ import annotations

from enum import StrEnum


class Capability(StrEnum):
    """What a device can do for a delivery, as RFC 6241, section 8 calls it where it does."""

    CANDIDATE = "candidate"
    REVERT_TIMER = "revert timer"
    LOCK = "lock"
    VALIDATE = "validate"
    STARTUP = "startup"
    WRITE_STARTUP = "write startup"
    WRITABLE_RUNNING = "writable-running"
    ROLLBACK_ON_ERROR = "rollback-on-error"
    PERSIST = "persist"
