"""The nearest right word to a wrong one, and the new name of a renamed one, for error messages."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from functools import lru_cache

# Former names of options and keys, each with the name that replaced it.
RENAMED = {
    "hold_s": "stable_for_s",
    "at_once": "parallel",
    "watch_hops": "neighbor_hops",
    "most_failures": "max_failures",
    "answer_at_most_s": "max_answer_s",
    "answer_at_most_bytes": "max_answer_bytes",
    "answer_at_most_lines": "max_answer_lines",
    "answer_at_most_elements": "max_answer_elements",
    "second_way": "alternate_address",
    "second_way_interface": "alternate_interface",
    "raise": "privilege",
    "--at-once": "--parallel",
    "--watch": "--neighbor-hops",
    "--most-failures": "--max-failures",
    "--again": "--repeat",
    "--most": "--max-age",
    "--give-up": "--abandon",
    "--controlled": "--controller-mode",
    "--year": "--clock-year",
    "maker": "manufacturer",
    "box": "new-device",
    "resume": "recover",
}


def closest_match(word: str, known: Iterable[str]) -> str | None:
    """The known word most like `word`, or None when nothing is close; another case of it counts
    as closest."""
    return _nearest(word, tuple(known))


# A mistake is often found for every device of a network, and looked up among their names each time.
@lru_cache(maxsize=256)
def _nearest(word: str, choices: tuple[str, ...]) -> str | None:
    for choice in choices:
        if choice.lower() == word.lower():
            return choice
    found = difflib.get_close_matches(word, choices, n=1, cutoff=0.6)
    return found[0] if found else None


def renamed(word: str, known: Iterable[str]) -> str | None:
    """A hint that names the new name of `word`, where it has one among those that are known."""
    new = RENAMED.get(word)
    return f"it was renamed: write '{new}'" if new is not None and new in known else None


def spelling_hint(word: str, known: Iterable[str]) -> str:
    """A hint for a person: the new name, the nearest word, or the first few words there are."""
    choices = sorted(known)
    new = renamed(word, choices)
    if new is not None:
        return new
    near = closest_match(word, choices)
    if near is not None and near.lower() == word.lower():
        return f"the case differs: write '{near}'"
    if near is not None:
        return f"did you mean '{near}'?"
    if not choices:
        return "there are none here"
    listed = ", ".join(choices[:8]) + (", …" if len(choices) > 8 else "")
    return f"known here: {listed}"
