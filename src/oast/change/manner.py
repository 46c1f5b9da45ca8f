"""How much of what is on a device and not intended may go."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Mode = Literal["merge", "replace"]
"""As in RFC 6241, section 7.2: what is owned becomes what was intended, or what was intended is added to it."""


@dataclass(frozen=True)
class Manner:
    """How much of what is on a device and not intended may go: see `Mode`; with `remove_unknown`, statements that the
    platform's grammar does not know may go as well, where it says how."""

    mode: Mode = "replace"
    remove_unknown: bool = False


REPLACE = Manner()
