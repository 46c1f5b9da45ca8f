"""The result of a delivery attempt."""

from __future__ import annotations

import os
from dataclasses import dataclass

LONGEST_SAID = 200


@dataclass(frozen=True, slots=True)
class SendResult:
    """`told`, or not and why. `refused`: the target is there and does not want it as it is, so that what
    comes behind it need not wait. `after_s`: when the target wants it again, in seconds, if it said so."""

    told: bool
    said: str = ""
    refused: bool = False
    after_s: float | None = None


def show_answer(text: str) -> str:
    """Return an answer of the receiver as one line without control characters."""
    line = " ".join("".join(c if c.isprintable() else " " for c in text).split())
    return line if len(line) <= LONGEST_SAID else line[: LONGEST_SAID - 1] + "…"


def of_system(error: OSError) -> str:
    """What the system says of an error; what asyncio makes of it says the same less well."""
    return os.strerror(error.errno) if error.errno and error.errno > 0 else error.strerror or str(error)
