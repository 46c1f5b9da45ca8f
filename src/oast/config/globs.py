"""Globs: `*` is any text, `?` any character, `[a-z]` and `[!a-z]` one of some; and whether two of them can
match the same text."""

from __future__ import annotations

import fnmatch
import re
from functools import lru_cache

_ANY = "*"


@lru_cache(maxsize=4096)
def _expression(glob: str) -> re.Pattern[str]:
    return re.compile(fnmatch.translate(glob))


@lru_cache(maxsize=65536)
def glob_matches(glob: str, text: str) -> bool:
    """Whether a glob matches a text."""
    return glob == text or _expression(glob).match(text) is not None


@lru_cache(maxsize=65536)
def globs_overlap(one: str, other: str) -> bool:
    """Whether there is a text that both globs match. Exact: both are walked through together,
    token by token."""
    a, b = _tokens(one), _tokens(other)
    alphabet = _alphabet(one + other)
    seen: set[tuple[int, int]] = set()
    waiting = [(0, 0)]
    while waiting:
        place = waiting.pop()
        if place in seen:
            continue
        seen.add(place)
        i, j = place
        if i == len(a) and j == len(b):
            return True
        at_any, at_other_any = i < len(a) and a[i] == _ANY, j < len(b) and b[j] == _ANY
        if at_any:
            waiting.append((i + 1, j))
        if at_other_any:
            waiting.append((i, j + 1))
        if i < len(a) and j < len(b) and _share(a[i], b[j], alphabet):
            waiting.append((i if at_any else i + 1, j if at_other_any else j + 1))
    return False


@lru_cache(maxsize=4096)
def _tokens(glob: str) -> tuple[str, ...]:
    """Return the glob as parts: `*`, or a pattern for one character."""
    tokens: list[str] = []
    place = 0
    while place < len(glob):
        end = place + 1
        if glob[place] == "[":
            # As fnmatch has it: a bracket right behind the opening one, or behind '!', is a member.
            first = place + (2 if glob[place + 1 : place + 2] == "!" else 1)
            closing = glob.find("]", first + 1)
            end = closing + 1 if closing > 0 else place + 1
        # A bracket that is never closed stands for itself.
        tokens.append("[[]" if glob[place:end] == "[" else glob[place:end])
        place = end
    return tuple(tokens)


def _alphabet(text: str) -> tuple[str, ...]:
    """Characters that stand for all there are: those written, their neighbours, and one that is written
    nowhere."""
    near = {chr(min(max(ord(c) + step, 0), 0x10FFFF)) for c in text for step in (-1, 0, 1)}
    return (*sorted(near), next(c for c in map(chr, range(0x100, 0x110000)) if c not in near))


@lru_cache(maxsize=65536)
def _share(one: str, other: str, alphabet: tuple[str, ...]) -> bool:
    """Whether two tokens can stand for the same character."""
    if one in ("*", "?") or other in ("*", "?"):
        return True
    return any(_expression(one).match(c) and _expression(other).match(c) for c in alphabet)
