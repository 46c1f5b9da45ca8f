"""Plain data shared by all layers."""

from __future__ import annotations

import hashlib
import hmac
import re
import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace

# Hexadecimal digits of a fingerprint that people see.
SHOWN = 8


@dataclass(frozen=True, slots=True)
class Place:
    """A line of a file the engineer wrote; `file` is relative to the estate where it can be."""

    file: str
    line: int | None = None

    def __str__(self) -> str:
        return self.file if self.line is None else f"{self.file}:{self.line}"


# The subject of problems that depend on the devices of the inventory, or on the sections of intent.yaml.
OF_DEVICES = "devices"
OF_SECTIONS = "sections"
WARNING_KINDS = frozenset(("policy-warning", "unread", "unused"))


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong: what, where, the likely fix, the line as written, and the devices it was found
    for.

    `kind` is one of estate, template, undefined, variable, grammar, ownership, reference, address, link,
    empty, check, policy, policy-warning, unread, unused; `behind` says where the values on the line come
    from; `subject` is the name that is not defined, OF_DEVICES or OF_SECTIONS.
    """

    message: str
    place: Place | None = None
    hint: str | None = None
    excerpt: str | None = None
    devices: tuple[str, ...] = ()
    kind: str = "estate"
    behind: tuple[str, ...] = ()
    subject: str = ""

    @property
    def is_warning(self) -> bool:
        """Whether it is only reported, and stops nothing."""
        return self.kind in WARNING_KINDS


def deduplicated(problems: Iterable[Problem]) -> list[Problem]:
    """The same problems, each once: what is wrong in one place for many devices is one thing to mend."""
    found: dict[tuple[str, Place | None], Problem] = {}
    for problem in problems:
        first = found.get((problem.message, problem.place))
        more = (
            problem
            if first is None
            else replace(first, devices=tuple(dict.fromkeys(first.devices + problem.devices)))
        )
        found[problem.message, problem.place] = more
    return list(found.values())


class Fingerprints:
    """Makes the keyed digest that is shown in place of a secret.

    The same secret has the same fingerprint under one key, so that a changed secret is noticed; without the
    key a guess cannot be tested. Where all secrets are `withheld`, their names are shown instead.
    """

    def __init__(self, key: bytes, *, withheld: bool = False) -> None:
        self.key = key
        self.withheld = withheld
        self._hide: Callable[[str], str] = str

    def hide_by(self, hide: Callable[[str], str]) -> None:
        """From now on, `hide` replaces the known secrets in a text."""
        self._hide = hide

    def hide(self, text: str) -> str:
        """`text` without the secrets that are known, as where a device lists one in a place that is not
        marked for it."""
        return self._hide(text)

    def kept(self, fingerprint: str) -> Secret:
        """A secret of which no more than the `fingerprint` was kept."""
        return Secret("", "", fingerprint, self)

    def shown(self, value: Value) -> str:
        """Return what is shown for a secret value, whether it is marked as one or not, or only its
        fingerprint was stored."""
        return str(value if isinstance(value, Secret) else self.secret("", value))

    def secret(self, name: str, value: str) -> Secret:
        """`value` as the secret called `name`; "" for one that was read from a device."""
        digest = hmac.new(self.key, value.encode("utf-8", "surrogatepass"), hashlib.sha256).hexdigest()
        return Secret(name, value, digest, self)


class SecretAsText(ValueError):
    """A secret was to become text in a template or an expression."""

    def __init__(self) -> None:
        super().__init__(
            "a secret cannot be converted to text, compared with text or passed through a filter"
        )


class _Rendering(threading.local):
    depth = 0


_RENDERING = _Rendering()


@contextmanager
def secrets_stay_objects() -> Iterator[None]:
    """Within it, in this thread, a secret that is to become text raises SecretAsText: not even its
    fingerprint gets into a template."""
    _RENDERING.depth += 1
    try:
        yield
    finally:
        _RENDERING.depth -= 1


class Secret:
    """A secret value: `str` and `repr` show its fingerprint, `reveal()` is for the wire and for comparing
    only.

    `digest` is HMAC-SHA-256 (RFC 2104) in hexadecimal; 32 bits of it are shown. Text joined to a secret with
    + is a secret.
    """

    __slots__ = ("_fingerprints", "_value", "digest", "name")

    def __init__(self, name: str, value: str, digest: str, fingerprints: Fingerprints) -> None:
        self.name = name
        self._value = value
        self.digest = digest
        self._fingerprints = fingerprints

    def reveal(self) -> str:
        """Return the secret itself. Raises LookupError when only its fingerprint was stored; code that writes
        lines checks that before."""
        if self.is_forgotten:
            raise LookupError(f"only the fingerprint {self.digest} of this secret is known")
        return self._value

    @property
    def is_forgotten(self) -> bool:
        """Whether no more than the fingerprint that people see is known of it."""
        return len(self.digest) == SHOWN

    @property
    def is_withheld(self) -> bool:
        """Whether its name stands in for it: what the secret is was not looked up."""
        return self._fingerprints.withheld

    @property
    def mark(self) -> str:
        """What represents the secret in rendered text until that is parsed into a tree."""
        return f"{MARK_BEGINS}{self.digest}{MARK_ENDS}"

    def __str__(self) -> str:
        if _RENDERING.depth:
            raise SecretAsText
        return f"<secret {self.digest[:SHOWN]}>"

    __repr__ = __str__

    def __add__(self, other: object) -> Secret:
        return self._joined(self, other)

    def __radd__(self, other: object) -> Secret:
        return self._joined(other, self)

    def _joined(self, *parts: object) -> Secret:
        if not all(isinstance(part, (str, Secret)) for part in parts):
            raise TypeError("only text can be joined to a secret")
        if self.is_forgotten and not any(part for part in parts if part is not self):
            return self
        texts = [revealed(part) for part in parts if isinstance(part, (str, Secret))]
        return self.become("".join(texts))

    def spelt(self, spelling: Callable[[str], str]) -> Secret:
        """The secret in another spelling; one of which only the fingerprint was kept stays what it is."""
        return self if self.is_forgotten else self.become(spelling(self._value))

    def become(self, value: str) -> Secret:
        """What `value` is when it was made of this secret: a secret."""
        return self if value == self._value else self._fingerprints.secret(self.name, value)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and hmac.compare_digest(self.digest, other.digest)

    def __hash__(self) -> int:
        return hash(self.digest)

    def forgotten(self) -> Secret:
        """What is stored of a secret where only its change must be noticed: the shown fingerprint."""
        return Secret("", "", self.digest[:SHOWN], self._fingerprints)

    def __reduce__(self) -> str:
        raise TypeError("a secret cannot be written to files or sent to other processes")


# Two code points of the private use area: no font shows them, and no configuration holds them.
MARK_BEGINS, MARK_ENDS = "\ue100", "\ue101"
MARK = re.compile(f"{MARK_BEGINS}([0-9a-f]{{64}}){MARK_ENDS}")

Value = str | Secret
"""A value of a statement; only a syntax reveals a secret one, where a line is written."""


def revealed(value: Value) -> str:
    """The value itself. For the wire, and for comparing."""
    return value.reveal() if isinstance(value, Secret) else value
