"""Faults on demand: small classes that a device asks at the moments when something can go wrong."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Effect = Literal["refused", "hang", "drop", "slow"]


@dataclass
class Fault:
    """Nothing goes wrong. `after` is how many command lines of a session pass before the fault strikes."""

    after: int = 0
    match: str = ""
    seconds: float = 1.0

    def on_connect(self) -> Effect | None:
        """What happens to a new connection."""
        return None

    def on_line(self, number: int, line: str) -> Effect | None:
        """What happens to the command line `number` (from 1) of a session."""
        return None

    def refuses(self, line: str) -> bool:
        """Whether the device answers this configuration line with an error."""
        return False


class Down(Fault):
    """Connections are refused."""

    def on_connect(self) -> Effect | None:
        return "refused"


class Hang(Fault):
    """After `after` lines the session takes no more notice."""

    def on_line(self, number: int, line: str) -> Effect | None:
        return "hang" if number > self.after and self.match in line else None


class Drop(Fault):
    """After `after` lines the connection breaks in the middle of a line."""

    def on_line(self, number: int, line: str) -> Effect | None:
        return "drop" if number > self.after and self.match in line else None


class Slow(Fault):
    """Every answer takes `seconds`."""

    def on_line(self, number: int, line: str) -> Effect | None:
        return "slow"


class Refuse(Fault):
    """Configuration lines that contain `match` are refused."""

    def refuses(self, line: str) -> bool:
        return self.match in line


KINDS: dict[str, type[Fault]] = {"down": Down, "hang": Hang, "drop": Drop, "slow": Slow, "refuse": Refuse}
