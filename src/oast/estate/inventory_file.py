"""inventory/NAME.source.yaml: what a source says of devices, in a file that Oast writes; a device is a line,
and so is what changes."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.estate import yaml_text
from oast.estate.yaml_text import YamlMap
from oast.records import Place
from oast.text_file import read_text_file

ENDING = ".source.yaml"
WRITTEN_BY = "oast source refresh"
HEAD = (
    f"# Written by '{WRITTEN_BY}', and overwritten by the next one. Attributes in your own files in"
    " inventory/\n# take precedence: do not change anything here.\n"
)
# What Oast writes is JSON in each line, which is YAML as well; ten thousand devices are read so in a tenth of
# the time.
_LINE = re.compile(r'  "([^"\\]+)": (\{.*\}|".*")')


@dataclass(frozen=True)
class SourcedDevices:
    """The contents of such a file: the devices with their attributes, where in a record each attribute is,
    and the source's name of each record."""

    devices: YamlMap
    paths: Mapping[str, str]
    records: Mapping[str, str]


def read_sourced_devices(path: Path, file: str) -> SourcedDevices:
    """Raises EstateError for a file that Oast has not written, or that was edited since."""
    try:
        text = read_text_file(path, file)
    except FileNotFoundError:
        text = ""
    found = _as_written(text, file)
    if found is not None:
        return found
    data = yaml_text.read_yaml_map(path, file)
    devices, paths, records = (data.get(name) or YamlMap(file) for name in ("devices", "paths", "records"))
    if data.get("written_by") != WRITTEN_BY or not all(
        isinstance(one, YamlMap) for one in (devices, paths, records)
    ):
        hint = "rename it, or remove it and write it again with: oast source refresh"
        raise EstateError(
            f"'{file}' was changed after '{WRITTEN_BY}' wrote it; it was not overwritten",
            place=Place(file),
            hint=hint,
        )
    return SourcedDevices(devices, paths, records)


def _as_written(text: str, file: str) -> SourcedDevices | None:
    """The same for a file that was not edited since; None for any other."""
    parts: dict[str, dict[str, Any]] = {"devices": YamlMap(file), "records": {}}
    part: dict[str, Any] | None = None
    paths: dict[str, str] = {}
    lines = text.split("\n")
    if lines[2:3] != [f"written_by: {WRITTEN_BY}"] or lines[-1:] != [""]:
        return None
    try:
        for number, line in enumerate(lines[3:-1], 4):
            match = _LINE.fullmatch(line)
            if match is None:
                name, _, rest = line.partition(": ")
                if name == "paths":
                    paths = json.loads(rest)
                elif name != "source":
                    part = parts[line.removesuffix(":")]
                continue
            value = json.loads(match[2])
            if part is None or match[1] in part:
                return None
            if isinstance(value, dict):
                made = YamlMap(file)
                made.update(value)
                made.lines = dict.fromkeys(value, number)
                value = made
            part[match[1]] = value
            if isinstance(part, YamlMap):
                part.lines[match[1]] = number
    except (ValueError, KeyError):
        return None
    devices = parts["devices"]
    return SourcedDevices(devices, paths, parts["records"]) if isinstance(devices, YamlMap) else None


def inventory_text(
    source: str,
    paths: Mapping[str, str],
    devices: Mapping[str, Mapping[str, Any]],
    records: Mapping[str, str],
) -> str:
    """The file."""

    def lines(entries: Mapping[str, Any]) -> str:
        return "".join(
            f"  {json.dumps(name)}: {json.dumps(value, ensure_ascii=False)}\n"
            for name, value in entries.items()
        )

    head = (
        f"{HEAD}written_by: {WRITTEN_BY}\nsource: {source}\npaths:"
        f" {json.dumps(dict(paths), ensure_ascii=False)}\n"
    )
    return head + f"devices:\n{lines(devices)}" + (f"records:\n{lines(records)}" if records else "")
