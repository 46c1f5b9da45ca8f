"""values/read.yaml: values that were read from devices, each with where it came from and when. The file is
Oast's own."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import yaml

from oast.errors import UsageError
from oast.estate import yaml_text
from oast.files import make_folder, write_whole

VALUES_FILE = "values/read.yaml"
HEAD = (
    "# Written by 'oast ask --save': values that were read from devices. Remove an entry here to forget it.\n"
)
_ORIGIN = re.compile(r"# (?P<key>[\w.-]+): (?P<told>.+)")
KEY = re.compile(r"[A-Za-z_][\w-]*(?:\.[A-Za-z_][\w-]*)*")


@dataclass(frozen=True)
class ReadValue:
    """A value called `key` (dots lead into mappings), with the place and time of its reading, as text."""

    key: str
    value: Any
    origin: str


def save_values(folder: Path, read: ReadValue) -> None:
    """Write the value into the file of the estate in `folder`, in place of one with the same key.

    Raises UsageError for an invalid key, or one that leads into another value; EstateError when the file
    cannot be read; and OSError.
    """
    if not KEY.fullmatch(read.key):
        raise UsageError(
            f"'{read.key}' is not a valid name for a value",
            hint="write for example snmp_location, or snmp.location",
        )
    path = folder / VALUES_FILE
    values: dict[str, Any] = {}
    origins: dict[str, str] = {}
    if path.exists():
        text = path.read_text(encoding="utf-8")
        if not text.startswith(HEAD):
            raise UsageError(
                f"{VALUES_FILE} was not written by Oast, so it was not changed", hint="rename it"
            )
        values = _plain(yaml_text.read_yaml_map(path, VALUES_FILE).get("everywhere") or {})
        origins = {
            match["key"]: match["told"] for line in text.split("\n") if (match := _ORIGIN.fullmatch(line))
        }
    _put(values, read.key.split("."), read.value, read.key)
    origins = {key: told for key, told in origins.items() if not _touch(key, read.key)} | {
        read.key: read.origin
    }
    written = yaml.safe_dump(
        {"everywhere": values}, sort_keys=True, allow_unicode=True, default_flow_style=False, width=10_000
    )
    told = "".join(f"# {key}: {origin}\n" for key, origin in sorted(origins.items()))
    make_folder(path.parent)
    write_whole(path, f"{HEAD}{told}{written}")


def _touch(key: str, other: str) -> bool:
    """Whether one of them leads to the other."""
    return f"{key}.".startswith(f"{other}.") or f"{other}.".startswith(f"{key}.")


def _put(values: dict[str, Any], path: list[str], value: Any, key: str) -> None:
    for name in path[:-1]:
        values = values.setdefault(name, {})
        if not isinstance(values, dict):
            raise UsageError(
                f"'{key}' conflicts with a saved value: '{name}' is not a mapping",
                hint=f"check {VALUES_FILE}",
            )
    values[path[-1]] = value


def _plain(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {str(key): _plain(inner) for key, inner in value.items()}
    return [_plain(inner) for inner in value] if isinstance(value, list) else value
