"""Points in time of the network's state, as they are kept: `.oast/readings/LABEL.json`."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from oast.errors import StateError, UsageError
from oast.estate import Estate
from oast.files import make_private, write_whole
from oast.platforms import READINGS, TEXT
from oast.readings import Readings, Record, Value, convert, to_json
from oast.spelling import spelling_hint
from oast.verify import Snapshot

FORMAT = "oast.point/1"
LABEL = re.compile(r"[A-Za-z0-9][\w .:+-]{0,80}")


def save_snapshot(estate: Estate, label: str, point: Snapshot) -> None:
    """Keep `point` under `label`, in place of one that was called so. Raises UsageError, OSError."""
    path = _path(estate, label)
    make_private(path.parent)
    devices = {
        name: {reading: _table(records) for reading, records in readings.items()}
        for name, readings in point.devices.items()
    }
    content = {
        "format": FORMAT,
        "label": label,
        "at": point.at,
        "devices": devices,
        "missing": dict(point.missing),
    }
    write_whole(path, json.dumps(content, ensure_ascii=False) + "\n", mode=0o600)


def load_snapshot(estate: Estate, label: str) -> Snapshot:
    """What was kept under `label`. Raises UsageError when nothing was, StateError when it cannot be read."""
    path = _path(estate, label)
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
        if content["format"] != FORMAT:
            raise StateError(
                f"{path}: its format is {content['format']}; this version of Oast reads {FORMAT}"
            )
        devices = {name: _readings(found) for name, found in content["devices"].items()}
        return Snapshot(str(content["at"]), devices, dict(content["missing"]))
    except FileNotFoundError:
        known = snapshot_labels(estate)
        raise UsageError(
            f"no snapshot '{label}'",
            hint=spelling_hint(label, known) if known else "save one with --save",
        ) from None
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        raise StateError(f"{path}: the snapshot cannot be read", hint="save it again with --save") from None


def snapshot_labels(estate: Estate) -> list[str]:
    """What state was kept as."""
    return sorted(path.stem for path in (estate.working / "readings").glob("*.json"))


def _path(estate: Estate, label: str) -> Path:
    if not LABEL.fullmatch(label):
        raise UsageError(
            f"'{label}' is not a valid label", hint="use a few words, such as 'before the change'"
        )
    return estate.working / "readings" / f"{label}.json"


def _table(records: list[Record]) -> dict[str, Any]:
    fields = list(records[0]) if records else []
    return {"fields": fields, "rows": [[to_json(record.get(name)) for name in fields] for record in records]}


def _readings(found: Mapping[str, Any]) -> Readings:
    made: dict[str, list[Record]] = {}
    for reading, table in found.items():
        types = READINGS[reading].fields if reading in READINGS else {}
        made[reading] = [
            {
                name: _value(types.get(name, TEXT), cell)
                for name, cell in zip(table["fields"], row, strict=True)
            }
            for row in table["rows"]
        ]
    return made


def _value(kind: Any, cell: Any) -> Value:
    if cell is None or isinstance(cell, bool | int | float):
        return cell
    return convert(kind, ",".join(cell) if isinstance(cell, list) else str(cell))
