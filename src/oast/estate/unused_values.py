"""Values that nothing uses: their name stands in no template, check, policy or expression."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.estate.values import RESERVED, ValueLayers, Values, has_expression
from oast.estate.values_file import VALUES_FILE
from oast.estate.yaml_text import YamlMap
from oast.records import Place, Problem
from oast.spelling import closest_match
from oast.text_file import read_text_file

KIND = "unused"
# Where the names of values can be used, apart from other values.
USERS = ("templates", "checks", "policies")
_WORD = re.compile(r"[^\W\d]\w*")
# In a device's own file the values stand at the left edge.
STRUCTURE = ("everywhere", "rules", "values", "extend", "on")


def words_used(folder: Path, layers: ValueLayers) -> frozenset[str] | None:
    """Every word of the templates, checks, policies and expressions of the estate in `folder`; None where one
    of them cannot be read, and may use anything."""
    found: set[str] = set()
    for name in USERS:
        for path in sorted((folder / name).rglob("*")):
            file = str(path.relative_to(folder))
            if path.is_dir():
                continue
            try:
                found.update(_WORD.findall(read_text_file(path, file)))
            except (EstateError, FileNotFoundError):
                return None  # It is reported where it is read.
    for values in _parts(layers):
        for text in _expressions(values):
            found.update(_WORD.findall(text))
    return frozenset(found)


def find_unused_values(layers: ValueLayers, used: frozenset[str] | None) -> Iterator[Problem]:
    """Each value that nothing uses (see `words_used`), at its line, with the nearest name that something
    uses."""
    if used is None:
        return
    # A word with an underscore is most likely the name of a value.
    written = {key for values in _parts(layers) for key in values}
    names = sorted(written & used | {word for word in used if "_" in word})
    seen: set[Place] = set()
    for device, values in (*((None, part) for part in _layer_parts(layers)), *layers.own.items()):
        for key in values:
            place = values.place(key) if isinstance(values, YamlMap) else None
            if key in used or place is None or place in seen or place.file == VALUES_FILE:
                continue
            seen.add(place)
            if device is not None and key in STRUCTURE:
                hint = f"write its values at the left edge: this file is for the device '{device}' alone"
            else:
                nearest = closest_match(key, names)
                hint = f"did you mean '{nearest}'?" if nearest else "remove it, or use it in a template"
            yield Problem(f"nothing uses the value '{key}'", place, hint=hint, kind=KIND)


def require_used(given: Iterable[tuple[str, Any]], used: frozenset[str] | None, layers: ValueLayers) -> None:
    """Require that something uses every value of the command line. Raises EstateError."""
    for key, _ in given:
        if key.partition(".")[0] in RESERVED:
            raise EstateError(
                f"--with: a value cannot be called '{key}': templates have the {key} itself by that name"
            )
    if used is None:
        return
    known = sorted({key for values in _parts(layers) for key in values} & used)
    for key, _ in given:
        name = re.split(r"[.\[]", key, maxsplit=1)[0]
        if name not in used:
            nearest = closest_match(name, known)
            raise EstateError(
                f"--with: nothing uses the value '{name}'",
                hint=f"did you mean '{nearest}'?" if nearest else "list the values with: oast explain",
            )


def _layer_parts(layers: ValueLayers) -> Iterator[Values]:
    for layer in layers.layers:
        yield layer.values
        yield layer.extend


def _parts(layers: ValueLayers) -> Iterator[Values]:
    yield from _layer_parts(layers)
    yield from layers.own.values()


def _expressions(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        if has_expression(value):
            yield value
    elif isinstance(value, dict):
        for inner in value.values():
            yield from _expressions(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _expressions(inner)
