"""Files that list named entries: `policies/*.yaml` with `policies:` of `- policy: NAME`, `checks/*.yaml`
likewise."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar

from oast.errors import ErrorCollector, EstateError
from oast.estate import yaml_text
from oast.estate.yaml_text import YamlList, YamlMap
from oast.records import Place
from oast.spelling import spelling_hint

Entry = TypeVar("Entry")


def read_entries(
    folder: Path,
    name: str,
    files: str,
    keys: Sequence[str],
    made: Callable[[YamlMap, Place], Entry],
    mistakes: ErrorCollector,
) -> list[Entry]:
    """The entries `- NAME: ...` of all files in `folder`/FILES, in file and then written order, each turned
    into what `made` makes of it; `keys` are those an entry may have. What is wrong goes to `mistakes`."""
    found: list[Entry] = []
    places: dict[str, Place] = {}
    for path in yaml_text.yaml_files(folder / files):
        with mistakes.collected():
            data = yaml_text.read_yaml_map(path, f"{files}/{path.name}")
            for key in data:
                if key != files:
                    raise EstateError(
                        f"unknown key '{key}'", place=data.place(key), hint=spelling_hint(key, [files])
                    )
            written = data.get(files) or YamlList(data.file)
            if not isinstance(written, YamlList):
                raise EstateError(f"'{files}' must be a list: '- {name}: NAME'", place=data.place(files))
            for index, item in enumerate(written):
                with mistakes.collected():
                    entry, place = _entry(item, written.place(index), name, keys), written.place(index)
                    first = places.setdefault(entry[name], place)
                    if first != place:
                        raise EstateError(
                            f"there is another {name} '{entry[name]}' in {first}",
                            place=place,
                            hint="rename or remove one of the two",
                        )
                    found.append(made(entry, place))
    return found


def _entry(item: Any, place: Place, name: str, keys: Sequence[str]) -> YamlMap:
    if not isinstance(item, YamlMap) or not isinstance(item.get(name), str):
        raise EstateError(f"this must be '- {name}: NAME'", place=place)
    for key in item:
        if key not in keys:
            raise EstateError(
                f"unknown key '{key}' in a {name}", place=item.place(key), hint=spelling_hint(key, keys)
            )
    return item
