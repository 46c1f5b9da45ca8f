"""Values: data for templates, from `everywhere`, from rules, and from a device's own file; the narrowest
wins.

everywhere < rules, in file and then written order < values/devices/NAME.yaml < --with KEY=VALUE.
Mappings merge deeply; lists and scalars replace; `extend:` beside `values:` appends to lists.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from oast.errors import ErrorCollector, EstateError
from oast.estate import selectors, yaml_text
from oast.estate.inventory import Device, Inventory
from oast.estate.selectors import Selector
from oast.estate.yaml_text import YamlList, YamlMap
from oast.records import OF_DEVICES, Fingerprints, Place, Problem, Secret
from oast.spelling import spelling_hint

Values = dict[str, Any]
SecretOf = Callable[[str, Place | None], Secret]


@dataclass(frozen=True)
class Layer:
    """Values for the devices that `on` picks (None: all), and what is appended to lists."""

    on: Selector | None
    values: Values
    extend: Values


@dataclass(frozen=True)
class ValueLayers:
    """All layers of an estate, widest first."""

    layers: tuple[Layer, ...]
    own: Mapping[str, Values]
    given: Values

    @cached_property
    def literal(self) -> frozenset[int]:
        """The identities (as of `id`) of the mappings and lists as written in which no value refers to
        others."""
        found: set[int] = set()
        parts = [part for layer in self.layers for part in (layer.values, layer.extend)]
        for part in (*parts, *self.own.values(), self.given):
            _collect_literal(part, found)
        return frozenset(found)

    @cached_property
    def has_expressions(self) -> bool:
        """Whether any value refers to others."""
        layers = [part for layer in self.layers for part in (layer.values, layer.extend)]
        return any(
            part and id(part) not in self.literal for part in (*layers, *self.own.values(), self.given)
        )

    def steps(self, device: Device) -> Iterator[PathStep]:
        """What the values of `device` are put together from, widest first."""
        for layer in self.layers:
            if layer.on is None or layer.on.matches(device.known_by):
                source = "everywhere" if layer.on is None else f"rule on {layer.on.text}"
                yield PathStep(source, layer.values, layer.extend)
        if device.name in self.own:
            yield PathStep("file of the device", self.own[device.name], {})
        if self.given:
            yield PathStep("--with", self.given, {})

    def place_of(self, device: Device, key: str) -> Place | None:
        """Where the value at `key` (dotted; list items as `name[0]`) was written last."""
        path = value_path(key)
        names = list(itertools.takewhile(lambda part: isinstance(part, str), path))
        if len(names) < len(path):
            place = self._place_of_item(device, names, path[len(names) :])
            if place is not None:
                return place
        for step in reversed(list(self.steps(device))):
            for written, within in ((step.extend, names), (step.values, path)):
                place = place_in(written, within)
                if place is not None:
                    return place
        return None

    def _place_of_item(
        self, device: Device, names: Sequence[str | int], rest: Sequence[str | int]
    ) -> Place | None:
        """Where an item of a list is written that several layers extend: `rest` begins with its number."""
        items: list[tuple[list[Any], int]] = []
        for step in self.steps(device):
            for written, is_more in ((step.values, False), (step.extend, True)):
                found = _at(written, names)
                if isinstance(found, list):
                    items = [*(items if is_more else ()), *((found, number) for number in range(len(found)))]
        number = rest[0]
        if not isinstance(number, int) or number >= len(items):
            return None
        holder, index = items[number]
        return place_in(holder, [index, *rest[1:]])

    def of(self, device: Device) -> Values:
        """The values of one device. The result shares parts with other devices' values: do not change it."""
        merged: Values = {}
        for layer in self.layers:
            if layer.on is None or layer.on.matches(device.known_by):
                merged = merge_values(merged, layer.values)
                if layer.extend:
                    merged = extend_list(merged, layer.extend)
        if device.name in self.own:
            merged = merge_values(merged, self.own[device.name])
        return merge_values(merged, self.given) if self.given else merged


@dataclass(frozen=True)
class PathStep:
    """Values from one source: `values` go over what was there, `extend` is appended."""

    source: str
    values: Values
    extend: Values


def value_path(key: str) -> list[str | int]:
    """The parts of a dotted key; `name[0]` is a name and a number."""
    return [int(part) if re.fullmatch("[0-9]{1,9}", part) else part for part in re.findall(r"[^.\[\]]+", key)]


def place_in(values: Any, path: Sequence[str | int]) -> Place | None:
    """Where the innermost part of `path` that `values` has is written; None when it lacks the first."""
    place = None
    for part in path:
        if isinstance(part, int):
            if not isinstance(values, YamlList) or part >= len(values.lines):
                break
            place = values.place(part)
        elif not isinstance(values, dict) or part not in values:
            break
        else:
            place = values.place(part) if isinstance(values, YamlMap) else Place("--with")
        values = values[part]
    return place


def _at(values: Any, path: Sequence[str | int]) -> Any:
    """The part of written values at `path`; None when they lack it."""
    for part in path:
        if not isinstance(values, dict) or part not in values:
            return None
        values = values[part]
    return values


def has_expression(text: str) -> bool:
    """Whether a text in values refers to others."""
    return "{{" in text or "{%" in text


def _collect_literal(value: Any, found: set[int]) -> bool:
    if isinstance(value, str):
        return not has_expression(value)
    if not isinstance(value, (dict, list)):
        return True
    inner = [_collect_literal(item, found) for item in (value.values() if isinstance(value, dict) else value)]
    if all(inner):
        found.add(id(value))
    return all(inner)


def merge_values(wide: Values, narrow: Values) -> Values:
    """`wide` with everything of `narrow` over it; neither is changed."""
    if not wide:
        return narrow
    merged = dict(wide)
    for key, value in narrow.items():
        present = merged.get(key)
        merged[key] = (
            merge_values(present, value) if isinstance(present, dict) and isinstance(value, dict) else value
        )
    return merged


def extend_list(values: Values, more: Values, path: str = "") -> Values:
    """`values` with the lists of `more` appended to its own. Raises EstateError where it has something else
    than a list."""
    extended = dict(values)
    for key, addition in more.items():
        here = f"{path}{key}"
        present = extended.get(key)
        if isinstance(addition, dict) and (present is None or isinstance(present, dict)):
            extended[key] = extend_list(present or {}, addition, f"{here}.")
        elif isinstance(addition, list) and (present is None or isinstance(present, list)):
            extended[key] = [*(present or ()), *addition]
        else:
            place = more.place(key) if isinstance(more, YamlMap) else None
            raise EstateError(
                f"'extend' works only on lists; '{here}' is not one in both places",
                place=place,
                hint="use 'values:' to replace it",
            )
    return extended


# Every template has the device and the network by these names.
RESERVED = ("device", "network")


class _Reader:
    """Reads the values of an estate; what is wrong goes to `mistakes`, and the rest is read all the same."""

    def __init__(self, inventory: Inventory, secret: SecretOf, mistakes: ErrorCollector) -> None:
        self._inventory = inventory
        self._known = inventory.known_by
        self._secret = secret
        self._mistakes = mistakes

    def layers(self, path: Path, file: str) -> Iterator[Layer]:
        """The layers of one file."""
        data = yaml_text.read_yaml_map(path, file)
        for key in data:
            if key not in ("everywhere", "rules"):
                with self._mistakes.collected():
                    hint = "put values below 'everywhere:' or in 'rules:'"
                    raise EstateError(
                        f"unknown key '{key}' in a values file", place=data.place(key), hint=hint
                    )
        everywhere = data.get("everywhere")
        if everywhere is not None:
            with self._mistakes.collected():
                written = _map(everywhere, data.place("everywhere"), "everywhere")
                yield Layer(None, self.resolved(self._named(written)), {})
        rules = data.get("rules") or YamlList(data.file)
        if not isinstance(rules, YamlList):
            raise EstateError("'rules' must be a list: '- on: SELECTOR'", place=data.place("rules"))
        for index, rule in enumerate(rules):
            with self._mistakes.collected():
                yield self._rule(rule, rules.place(index))

    def _rule(self, rule: Any, place: Place) -> Layer:
        if not isinstance(rule, YamlMap) or not isinstance(rule.get("on"), str):
            raise EstateError(
                "this rule has no 'on:' selector",
                place=place,
                hint="begin it with '- on: SELECTOR'",
            )
        for key in rule:
            if key not in ("on", "values", "extend"):
                hint = spelling_hint(key, ("on", "values", "extend"))
                raise EstateError(f"unknown key '{key}' in a rule", place=rule.place(key), hint=hint)
        selector = selectors.parse_selector(rule["on"], rule.place("on"))
        self._warn_if_no_device(selector, rule.place("on"))
        values = _map(rule.get("values") or YamlMap(rule.file), rule.place("values"), "values")
        more = _map(rule.get("extend") or YamlMap(rule.file), rule.place("extend"), "extend")
        return Layer(selector, self.resolved(self._named(values)), self.resolved(self._named(more)))

    def _warn_if_no_device(self, selector: Selector, place: Place) -> None:
        """Warn of a rule that no device matches: its devices may be added later."""
        try:
            selector.check(self._known)
        except EstateError as error:
            self._mistakes.warnings.extend(replace(one, kind="unused") for one in error.problems())
            return
        if not any(selector.matches(attributes) for attributes in self._known):
            message = f"no device matches this rule: {selector.text}"
            self._mistakes.warnings.append(
                Problem(message, place, "correct or remove the rule", kind="unused", subject=OF_DEVICES)
            )

    def own(self, path: Path, file: str) -> Values:
        """The values in a device's own file. Warns when the inventory lacks the device."""
        if not self._inventory.knows(path.stem):
            hint = spelling_hint(path.stem, self._inventory.devices)
            message = f"unknown device '{path.stem}'; its values are not used"
            self._mistakes.warnings.append(
                Problem(message, Place(file), hint=hint, kind="unused", subject=OF_DEVICES)
            )
        own: Values = self.resolved(self._named(yaml_text.read_yaml_map(path, file)))
        return own if self._inventory.knows(path.stem) else {}

    def _named(self, data: Any) -> Any:
        """The values without those that have a reserved name; each of these is a mistake."""
        for key in RESERVED:
            if isinstance(data, YamlMap) and key in data:
                with self._mistakes.collected():
                    raise EstateError(
                        f"a value cannot be called '{key}': templates have the {key} itself by that name",
                        place=data.place(key),
                        hint="rename the value",
                    )
                del data[key]
        return data

    def resolved(self, data: Any) -> Any:
        """The same data with `{secret: NAME}` replaced by the secret."""
        if isinstance(data, YamlMap):
            if set(data) == {"secret"}:
                with self._mistakes.collected():
                    return self._secret(str(data["secret"]), data.place("secret"))
                return Fingerprints(b"").secret(str(data["secret"]), "missing")
            for key, value in data.items():
                if isinstance(value, (dict, list)):
                    data[key] = self.resolved(value)
        elif isinstance(data, YamlList):
            for index, value in enumerate(data):
                if isinstance(value, (dict, list)):
                    data[index] = self.resolved(value)
        return data


def read_values(
    folder: Path,
    inventory: Inventory,
    secret: SecretOf,
    given: Sequence[tuple[str, Any]],
    mistakes: ErrorCollector,
) -> ValueLayers:
    """All values of the estate in `folder`; `given` are the command line's, as dotted key and value."""
    reader = _Reader(inventory, secret, mistakes)
    layers: list[Layer] = []
    for path in yaml_text.yaml_files(folder / "values"):
        with mistakes.collected():
            layers.extend(reader.layers(path, f"values/{path.name}"))
    own: dict[str, Values] = {}
    for path in yaml_text.yaml_files(folder / "values" / "devices"):
        with mistakes.collected():
            if path.stem in own:
                raise EstateError(
                    f"the device '{path.stem}' has two files of values",
                    place=Place(f"values/devices/{path.name}"),
                    hint="merge them into one",
                )
            own[path.stem] = reader.own(path, f"values/devices/{path.name}")
    return ValueLayers(tuple(layers), own, _given(given))


def _map(data: Any, place: Place, name: str) -> YamlMap:
    if not isinstance(data, YamlMap):
        raise EstateError(
            f"'{name}' must contain 'name: value' lines",
            place=place,
            hint="indent them below it, with a space after each ':'",
        )
    return data


def _given(given: Sequence[tuple[str, Any]]) -> Values:
    values: Values = {}
    for key, value in given:
        nested: Any = value
        for part in reversed(key.split(".")):
            nested = {part: nested}
        values = merge_values(values, nested)
    return values
