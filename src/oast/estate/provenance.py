"""Where a device's values come from: every source of every key, the winning one last."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from oast.errors import EstateError
from oast.estate.estate import Estate
from oast.estate.inventory import Device
from oast.estate.values import place_in, value_path
from oast.estate.yaml_text import YamlMap
from oast.records import Place, Secret
from oast.spelling import spelling_hint


@dataclass(frozen=True)
class Origin:
    """One source of a value. `extends`: it was appended to the list that was there; otherwise it replaced
    what was there."""

    written: Any
    place: Place
    source: str
    extends: bool = False


@dataclass(frozen=True)
class Explained:
    """A key with its value as a template gets it, and where it comes from, widest first; the last one
    decides."""

    key: str
    value: Any
    origins: tuple[Origin, ...]


def explain(estate: Estate, device: Device, key: str | None = None) -> list[Explained]:
    """Return every key of `device`'s values and attributes that is `key` or inside of it (None: all), sorted
    by name.

    A key may lead into a list: `services[0].name`. Raises EstateError when there is no such key.
    """
    origins: dict[str, list[Origin]] = {}
    for step in estate.layers.steps(device):
        for path, value, place in _leaves(step.values):
            _take_over(origins, path)
            origins.setdefault(path, []).append(Origin(value, place, step.source))
        for path, value, place in _leaves(step.extend):
            origins.setdefault(path, []).append(Origin(value, place, step.source, extends=True))
    values: dict[str, Any] = dict(_flat(estate.values_of(device)))
    found = [
        Explained(path, values[path], tuple(origins[path])) for path in sorted(origins) if path in values
    ]
    for name, value in device.attributes.items():
        place = device.places.get(name, device.place)
        told = tuple(Origin(one.value, one.place, one.source) for one in device.told.get(name, ()))
        own = () if told and place == told[-1].place else (Origin(value, place, "inventory"),)
        found.append(Explained(f"device.{name}", value, (*told, *own)))
    if key is None:
        return found
    base, _, rest = key.partition("[")
    inside = value_path(f"[{rest}")
    holder = next((e for e in found if inside and e.key == base), None)
    if holder is not None:
        return [_item(holder, key, inside)]
    picked = [e for e in found if e.key == key or e.key.startswith(f"{key}.")]
    if not picked:
        raise EstateError(
            f"{device.name} has no value '{key}'", hint=spelling_hint(key, (e.key for e in found))
        )
    return picked


def _item(holder: Explained, key: str, path: Sequence[str | int]) -> Explained:
    """Return the item at `path` of the list `holder`, with the source that added it. Raises EstateError."""
    value = holder.value
    for part in path:
        if isinstance(part, int):
            if not isinstance(value, list) or part >= len(value):
                raise EstateError(f"'{holder.key}' has no '{key}'", hint=f"it is {describe_value(value)}")
        elif not isinstance(value, dict) or part not in value:
            raise EstateError(
                f"'{holder.key}' has no '{key}'",
                hint=spelling_hint(part, value) if isinstance(value, dict) else None,
            )
        value = value[part]
    origin, index = _origin_of_item(holder, path[0])
    place, written = place_in(origin.written, [index, *path[1:]]), origin.written
    if place is None:
        # The whole list is the result of an expression.
        return Explained(key, value, (origin,))
    for inner in (index, *path[1:]):
        written = written[inner]
    return Explained(key, value, (Origin(written, place, origin.source),))


def _origin_of_item(holder: Explained, number: str | int) -> tuple[Origin, int]:
    """Which source of a list put in its item `number` (from 0), and the item's number there."""
    sources: list[Origin] = []
    for origin in holder.origins:
        sources = [*sources, origin] if origin.extends else [origin]
    index = int(number)
    for origin in sources:
        length = len(origin.written) if isinstance(origin.written, list) else len(holder.value)
        if index < length:
            return origin, index
        index -= length
    return sources[-1], index


def _leaves(values: Mapping[str, Any], path: str = "") -> Iterator[tuple[str, Any, Place]]:
    for key, value in values.items():
        here = f"{path}{key}"
        if isinstance(value, dict) and value:
            yield from _leaves(value, f"{here}.")
        else:
            yield here, value, values.place(key) if isinstance(values, YamlMap) else Place("--with")


def _flat(values: Mapping[str, Any], path: str = "") -> Iterator[tuple[str, Any]]:
    return ((here, value) for here, value, _ in _leaves(values, path))


def _take_over(origins: dict[str, list[Origin]], path: str) -> None:
    """A value that replaces a mapping, or a mapping that replaces a value, has the replaced ones in its own
    history."""
    for other in [o for o in origins if o.startswith(f"{path}.") or path.startswith(f"{o}.")]:
        origins.setdefault(path, []).extend(
            origins.pop(other) if other.startswith(f"{path}.") else origins[other]
        )


def masked(value: Any) -> Any:
    """Secrets as their fingerprints, all the way down."""
    if isinstance(value, Secret):
        return str(value)
    if isinstance(value, dict):
        return {key: masked(inner) for key, inner in value.items()}
    return [masked(item) for item in value] if isinstance(value, list) else value


def describe_value(value: Any) -> str:
    """Return a value as text: text unchanged, anything else as JSON; secrets as their fingerprints."""
    hidden = masked(value)
    return hidden if isinstance(hidden, str) else json.dumps(hidden, ensure_ascii=False)
