"""Plain data shared by all layers."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterable
from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class Place:
    """A line of a file the engineer wrote; `file` is relative to the estate where it can be."""

    file: str
    line: int | None = None

    def __str__(self) -> str:
        return self.file if self.line is None else f"{self.file}:{self.line}"


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong: what, where, the likely fix, the line as written, and the devices it was found for.

    `kind` is one of estate, template, undefined, variable, grammar, ownership, reference, address, link, empty, check,
    policy, policy-warning; `behind` says where the values on
    the line come from; `subject` is the name that is not defined.
    """

    message: str
    place: Place | None = None
    hint: str | None = None
    excerpt: str | None = None
    devices: tuple[str, ...] = ()
    kind: str = "estate"
    behind: tuple[str, ...] = ()
    subject: str = ""


def gathered(problems: Iterable[Problem]) -> list[Problem]:
    """The same problems, each once: what is wrong in one place for many devices is one thing to mend."""
    found: dict[tuple[str, Place | None], Problem] = {}
    for problem in problems:
        first = found.get((problem.message, problem.place))
        more = problem if first is None else replace(first, devices=tuple(dict.fromkeys(first.devices + problem.devices)))
        found[problem.message, problem.place] = more
    return list(found.values())


class Fingerprints:
    """Makes the short keyed fingerprint that stands for a secret wherever people look.

    The same secret has the same fingerprint under one key, so that a changed secret shows as changed;
    without the key a guess cannot be tried against it.
    """

    def __init__(self, key: bytes) -> None:
        self._key = key

    def of(self, secret: str) -> str:
        """`<secret 1a2b3c4d>`: 32 bits of HMAC-SHA-256 (RFC 2104)."""
        return f"<secret {hmac.new(self._key, secret.encode(), hashlib.sha256).hexdigest()[:8]}>"


class Secret:
    """A value nobody may see: `str` and `repr` show its fingerprint, `reveal()` is for the wire only."""

    __slots__ = ("_fingerprint", "_value", "name")

    def __init__(self, name: str, value: str, fingerprint: str) -> None:
        self.name = name
        self._value = value
        self._fingerprint = fingerprint

    def reveal(self) -> str:
        """The secret itself."""
        return self._value

    def __str__(self) -> str:
        return self._fingerprint

    __repr__ = __str__

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and hmac.compare_digest(self._value.encode(), other._value.encode())

    def __hash__(self) -> int:
        return hash(self._fingerprint)
