"""The nearest right word to a wrong one, for error messages."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from functools import lru_cache


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word most like `word`, or None when nothing is close; another case of it counts as closest."""
    return _nearest(word, tuple(known))


# A mistake is often found for every device of a network, and looked up among their names each time.
@lru_cache(maxsize=256)
def _nearest(word: str, choices: tuple[str, ...]) -> str | None:
    for choice in choices:
        if choice.lower() == word.lower():
            return choice
    found = difflib.get_close_matches(word, choices, n=1, cutoff=0.6)
    return found[0] if found else None


def suggestion(word: str, known: Iterable[str]) -> str:
    """A hint for a person: the nearest word, or the first few words there are."""
    choices = sorted(known)
    near = nearest(word, choices)
    if near is not None and near.lower() == word.lower():
        return f"the case differs: write '{near}'"
    if near is not None:
        return f"did you mean '{near}'?"
    if not choices:
        return "there is none to choose from"
    listed = ", ".join(choices[:8]) + (", …" if len(choices) > 8 else "")
    return f"known here: {listed}"
