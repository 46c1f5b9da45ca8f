"""What was read of a device before a change and after it, as it is kept in the record."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Any

from oast.platforms import READINGS
from oast.readings import OtherValues, Readings, Record, Value, find_other_values, to_json

FORMAT = "oast.readings/1"


@dataclass(frozen=True)
class PrePostState:
    """The readings that checks needed, `before` anything was sent and `after` it was in effect; none `after`
    where it never was.

    `checked` is how many checks were looked at last; `hide` takes secrets out of what a device said.
    """

    before: Readings
    after: Readings
    checked: int
    hide: Callable[[str], str]

    def other_values(self, device: str) -> OtherValues:
        """Values that its readings do not know: those of the last ones."""
        return find_other_values({device: chain.from_iterable({**self.before, **self.after}.values())})

    def document(self) -> dict[str, Any]:
        """As plain data. `after` has the readings that came out different in more than their counters, and
        `same` the others."""
        different = {
            name: rows
            for name, rows in self.after.items()
            if _still(name, rows) != _still(name, self.before.get(name, ()))
        }
        return {
            "checked": self.checked,
            "before": {name: self._table(rows) for name, rows in self.before.items()},
            "after": {name: self._table(rows) for name, rows in different.items()},
            "same": sorted(set(self.after) - set(different)),
        }

    def _table(self, rows: Sequence[Record]) -> dict[str, Any]:
        fields = list(rows[0]) if rows else []
        cells = [[to_json(row.get(field)) for field in fields] for row in rows]
        # A secret in it is rare, and looking for one in every cell would take longer than everything else.
        every = "\n".join(str(cell) for row in cells for cell in row)
        if self.hide(every) != every:
            cells = [[self.hide(cell) if isinstance(cell, str) else cell for cell in row] for row in cells]
        return {"fields": fields, "rows": cells}


def state_document(run: str, pre_post_state: Mapping[str, PrePostState]) -> dict[str, Any]:
    """All devices of a run: `oast.readings/1`."""
    return {
        "format": FORMAT,
        "run": run,
        "devices": {name: one.document() for name, one in sorted(pre_post_state.items())},
    }


def state_diff(device: Mapping[str, Any]) -> list[tuple[str, str, Sequence[Any]]]:
    """Of a device in that document: the reading, `-` or `+`, and the cells of each record that
    went or came."""
    found: list[tuple[str, str, Sequence[Any]]] = []
    for name, after in device["after"].items():
        before = device["before"].get(name, {"rows": []})["rows"]
        old, new = (_without(_counting(name), after["fields"], rows) for rows in (before, after["rows"]))
        found += [(name, "-", row) for row in old if row not in new]
        found += [(name, "+", row) for row in new if row not in old]
    return found


def _counting(reading: str) -> frozenset[str]:
    """The fields of a reading that grow by themselves."""
    known = READINGS.get(reading)
    return (
        frozenset(name for name, field in known.fields.items() if field.counts)
        if known is not None
        else frozenset()
    )


def _still(reading: str, rows: Sequence[Record]) -> list[dict[str, Value]]:
    """The records without what grows by itself."""
    counting = _counting(reading)
    return [{name: value for name, value in row.items() if name not in counting} for row in rows]


def _without(
    counting: frozenset[str], fields: Sequence[str], rows: Sequence[Sequence[Any]]
) -> list[list[Any]]:
    return [[cell for name, cell in zip(fields, row, strict=False) if name not in counting] for row in rows]
