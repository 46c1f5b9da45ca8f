"""Faults on demand: small classes that a device asks at the moments when something can go wrong. What is left
to chance follows from `seed`, so that the same fault goes wrong in the same way again."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

Effect = Literal["refused", "hang", "drop", "slow", "half-open"]
LONG = 200_000


@dataclass
class Fault:
    """Nothing goes wrong. `after` is how many command lines of a session pass before the fault strikes;
    `match` is what a line has to hold for it."""

    after: int = 0
    match: str = ""
    seconds: float = 1.0
    seed: int = 0
    chance: random.Random = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        self.chance = random.Random(self.seed)  # noqa: S311  (a fault needs no cryptographic randomness)

    def strikes(self, number: int, line: str) -> bool:
        """Whether it is the turn of the command line `number` (from 1) of a session."""
        return number > self.after and self.match in line

    def on_connect(self) -> Effect | None:
        """What happens to a new connection."""
        return None

    def on_line(self, number: int, line: str) -> Effect | None:
        """What happens to the command line `number` (from 1) of a session."""
        return None

    def refuses(self, line: str) -> bool:
        """Whether the device answers this line with an error."""
        return False

    def ignores(self, line: str) -> bool:
        """Whether the device says that it has done this line, and has not."""
        return False

    @property
    def full(self) -> bool:
        """Whether nothing can be written to the device's disk."""
        return False

    @property
    def loses_timer(self) -> bool:
        """Whether a timer that is set never runs out."""
        return False

    @property
    def busy_s(self) -> float:
        """For how long after each request a timer does not go off."""
        return 0.0

    def errors(self, port: str, now_s: float) -> int:
        """How many packets that came in at a port were wrong."""
        return 0

    def greeted(self, text: str) -> str:
        """What a session begins with."""
        return text

    def said(self, number: int, line: str, text: str) -> Iterator[str | float]:
        """The answer to a line, in pieces; a number is a pause in seconds."""
        yield text


class Down(Fault):
    """Connections are refused."""

    def on_connect(self) -> Effect | None:
        return "refused"


class Hang(Fault):
    """The session takes no more notice."""

    def on_line(self, number: int, line: str) -> Effect | None:
        return "hang" if self.strikes(number, line) else None


class Drop(Fault):
    """The connection breaks in the middle of a line."""

    def on_line(self, number: int, line: str) -> Effect | None:
        return "drop" if self.strikes(number, line) else None


class Forgotten(Fault):
    """The device forgets the session, and does not say so: the connection is open at one end only (RFC 9293,
    section 3.5.1)."""

    def on_line(self, number: int, line: str) -> Effect | None:
        return "half-open" if self.strikes(number, line) else None


class Errors(Fault):
    """Packets that come in at the port `match` are wrong: `seconds` is how often, in packets for each second
    since then."""

    _since: float | None = None

    def errors(self, port: str, now_s: float) -> int:
        if port != self.match:
            return 0
        self._since = now_s if self._since is None else self._since
        return 1 + int((now_s - self._since) * self.seconds)


class Slow(Fault):
    """Every answer takes `seconds`."""

    def on_line(self, number: int, line: str) -> Effect | None:
        return "slow" if self.strikes(number, line) else None


class Refuse(Fault):
    """Lines that contain `match` are refused."""

    def refuses(self, line: str) -> bool:
        return self.match in line


class Untrue(Fault):
    """Lines that contain `match` are answered as if they had been carried out."""

    def ignores(self, line: str) -> bool:
        return bool(self.match) and self.match in line


class Full(Fault):
    """The disk is full: nothing is saved, and no archive for a rollback is stored."""

    @property
    def full(self) -> bool:
        return True


class Forgets(Fault):
    """A timer is set, and never runs out."""

    @property
    def loses_timer(self) -> bool:
        return True


class Busy(Fault):
    """No timer expires until no session has asked anything for `seconds`."""

    @property
    def busy_s(self) -> float:
        return self.seconds


class Said(Fault):
    """Something is wrong with what the device says."""

    def said(self, number: int, line: str, text: str) -> Iterator[str | float]:
        yield self.changed(text) if self.strikes(number, line) else text

    def changed(self, text: str) -> str:
        """The answer, with what is wrong in it."""
        return text


class Log(Said):
    """Lines of the device's log come in between."""

    def changed(self, text: str) -> str:
        ends = [n + 2 for n in range(len(text)) if text.startswith("\r\n", n)]
        for at in sorted(self.chance.sample(ends, min(len(ends), 2)), reverse=True):
            port, state = self.chance.randrange(1, 9), self.chance.choice(("lost", "back"))
            text = f"{text[:at]}** carrier of port{port} is {state}\r\n{text[at:]}"
        return text


class Prompt(Said):
    """The prompt is another one than it was."""

    def changed(self, text: str) -> str:
        before, sign, last = text.rpartition("\r\n")
        return f"{before}{sign}{last[:-2]}?! "


class Long(Said):
    """The answer begins with a very long line."""

    def changed(self, text: str) -> str:
        return "x" * LONG + "\r\n" + text


class Bytes(Said):
    """In the answer there are bytes that are no UTF-8."""

    def changed(self, text: str) -> str:
        at = self.chance.randrange(len(text) + 1)
        return f"{text[:at]}\udcff\udcc3{text[at:]}"


class Halves(Fault):
    """An answer comes in two parts, `seconds` apart."""

    def said(self, number: int, line: str, text: str) -> Iterator[str | float]:
        if not self.strikes(number, line):
            yield text
            return
        at = self.chance.randrange(len(text) + 1)
        yield text[:at]
        yield self.seconds
        yield text[at:]


class Banner(Fault):
    """A session begins with a banner in which there are texts like prompts."""

    def greeted(self, text: str) -> str:
        lines = ["Property of Larkwater Ferries.", "quay full| ", "Type anything: ", "", "> "] * 8
        return "".join(f"{line}\r\n" for line in lines) + text


KINDS: dict[str, type[Fault]] = {
    kind.__name__.lower(): kind
    for kind in (
        Down,
        Hang,
        Drop,
        Forgotten,
        Slow,
        Refuse,
        Untrue,
        Full,
        Forgets,
        Busy,
        Log,
        Prompt,
        Long,
        Bytes,
        Halves,
        Banner,
        Errors,
    )
}
