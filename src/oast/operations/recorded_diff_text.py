"""A recorded difference in words, a line for each statement."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any


def device_lines(device: Mapping[str, Any]) -> list[str]:
    """What is changed on a recorded device, and what is saved besides, a line for each statement."""
    return [
        *diff_lines(device["edits"]),
        *(f"saved besides: {line}" for line in diff_lines(device["unsaved"])),
    ]


def diff_lines(edits: Sequence[Any]) -> list[str]:
    """A recorded difference, a line for each statement."""
    lines: list[str] = []
    for edit in edits:
        around = " / ".join(edit["path"])
        place = f"{around} / " if around else ""
        for sign, side in (("-", "old"), ("+", "new")):
            if side in edit:
                lines.extend(f"{sign} {line}" for line in _lines(edit[side], place))
    return lines


def _lines(node: Any, place: str) -> list[str]:
    found = [f"{place}{node['statement']}"]
    for child in node.get("below", ()):
        found.extend(_lines(child, f"{place}{node['statement']} / "))
    return found
