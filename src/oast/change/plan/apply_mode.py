"""How much of what is on a device and not intended may go, and what is changed: what it runs, or what it
starts with."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Mode = Literal["merge", "replace"]
"""As in RFC 6241, section 7.2: what is owned becomes what was intended, or what was intended is added to it.
"""

Datastore = Literal["running", "startup"]
"""RFC 8342, section 5."""


@dataclass(frozen=True)
class ApplyMode:
    """How much of what is on a device and not intended may go: see `Mode`; with `remove_unknown`, statements
    that the platform's grammar does not know may go as well, where it says how. `into` is what is changed."""

    mode: Mode = "replace"
    remove_unknown: bool = False
    into: Datastore = "running"

    @property
    def into_startup(self) -> bool:
        """Whether what the device runs stays as it is."""
        return self.into == "startup"


DEFAULT_MODE = ApplyMode()
