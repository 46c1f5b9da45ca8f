"""JSON from other programs (RFC 8259), accepted only if it is unambiguous: no duplicate name in an object,
and no invalid number."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any, NoReturn


def strict_json(text: str | bytes) -> Any:
    """What `text` says. Raises ValueError for what is no JSON, for a name that stands twice in an object (RFC
    8259, section 4), for NaN and infinities (section 6), and for what is nested too deep."""
    try:
        return json.loads(text, object_pairs_hook=_object, parse_constant=_constant, parse_float=_float)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None


def _object(pairs: Sequence[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(pairs)
    if len(made) < len(pairs):
        seen: set[str] = set()
        twice = next(name for name, _ in pairs if name in seen or seen.add(name))  # type: ignore[func-returns-value]
        raise ValueError(f"duplicate key '{twice[:60]}' in an object")
    return made


def _constant(word: str) -> NoReturn:
    raise ValueError(f"{word} is not a JSON number")


def _float(text: str) -> float:
    number = float(text)
    if number in (float("inf"), float("-inf")):
        raise ValueError(f"the number {text[:20]} is too large")
    return number
