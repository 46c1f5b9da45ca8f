"""The checks that the engineer wrote, in checks/*.yaml. The page: docs/checks.md."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

import jinja2

from oast.errors import EstateError, Mistakes
from oast.estate import entries, selectors
from oast.estate.estate import Estate
from oast.estate.expressions import filled
from oast.estate.inventory import Device
from oast.estate.jinja_mistakes import MissingError, in_words
from oast.estate.selectors import Selector
from oast.estate.yaml_text import YamlMap
from oast.nearest import suggestion
from oast.platforms.definition import Platform, ReadingDefinition
from oast.records import Place, Problem
from oast.verify.checks import Check

_KEYS = ("check", "on", "section", "reading", "where", "must_be", "least", "most")


@dataclass(frozen=True)
class WrittenCheck:
    """One entry of a checks file. `where` and `must_be` hold texts with expressions; `section` is what it belongs to."""

    name: str
    on: Selector | None
    section: str | None
    reading: str
    where: Mapping[str, str]
    must_be: Mapping[str, str]
    least: int
    most: int | None
    places: YamlMap
    place: Place

    def for_device(self, estate: Estate, device: Device, platform: Platform) -> Iterator[Check]:
        """The checks of one device. Raises EstateError for what its platform cannot read, and for wrong expressions."""
        definition = self._definition(platform)
        fields = set(definition.fields)
        for key, texts in (("where", self.where), ("must_be", self.must_be)):
            for field in texts:
                if field not in fields:
                    message = f"the reading '{self.reading}' has no field '{field}'"
                    raise EstateError(message, place=self.places.place(key), hint=suggestion(field, fields))
        values = {**estate.values_of(device), "device": device.attributes, "network": estate.network}
        where = {field: self._filled(text, values, device) for field, text in self.where.items()}
        conditions = ", ".join(f"{field} {value}" for field, value in where.items())
        about = f"{self.name}: {self.reading}" + (f" with {conditions}" if conditions else "")
        for field, text in self.must_be.items():
            wanted = self._filled(text, values, device)
            yield Check(device.name, f"{about}, {field}", self.reading, where, field, wanted, (), section=self.section, place=self.place)
        if not self.must_be:
            number = self._number
            yield Check(device.name, about, self.reading, where, None, number, (), self.least, self.most, self.section, place=self.place)

    @property
    def _number(self) -> str:
        if self.most is None:
            return f"at least {self.least}"
        return f"{self.least}" if self.most == self.least else f"{self.least} to {self.most}"

    def _definition(self, platform: Platform) -> ReadingDefinition:
        readings = platform.readings
        if self.reading not in readings:
            message = f"the platform '{platform.name}' has no reading '{self.reading}'"
            raise EstateError(message, place=self.places.place("reading"), hint=suggestion(self.reading, readings))
        return readings[self.reading]

    def _filled(self, text: str, values: Mapping[str, Any], device: Device) -> str:
        try:
            return filled(text, values)
        except MissingError as error:
            message, hint = error.told(None, values)
        except jinja2.TemplateSyntaxError as error:
            message, hint = f"'{text}' is wrong: {error.message}", None
        except EstateError as error:
            message, hint = error.message, error.hint
        except Exception as error:
            message, hint = in_words(error)
        raise EstateError.of([Problem(message, self.place, hint, devices=(device.name,), kind="check")])


def read(estate: Estate, mistakes: Mistakes) -> tuple[WrittenCheck, ...]:
    """All written checks, in file and then written order; what is wrong goes to `mistakes`."""
    make = partial(_check, estate=estate)
    return tuple(entries.read(estate.folder, "check", "checks", _KEYS, make, mistakes))


def _check(item: YamlMap, place: Place, estate: Estate) -> WrittenCheck:
    if not isinstance(item.get("reading"), str):
        raise EstateError("the check does not say which reading it looks at", place=place, hint="add for example 'reading: interfaces'")
    must_be = _texts(item, "must_be")
    counted = [key for key in ("least", "most") if key in item]
    if must_be and counted:
        raise EstateError(
            f"'{counted[0]}' and 'must_be' are two checks", place=item.place(counted[0]), hint="write them one after the other"
        )
    for key in counted:
        if not isinstance(item[key], int) or isinstance(item[key], bool) or item[key] < 0:
            raise EstateError(f"'{key}' has to be a whole number", place=item.place(key))
    if "least" in item and "most" in item and item["least"] > item["most"]:
        raise EstateError("'least' is more than 'most'", place=item.place("least"))
    if "section" in item and not isinstance(item["section"], str):
        raise EstateError("'section' has to be the name of a section", place=item.place("section"))
    on = None
    if "on" in item:
        on = selectors.parse(str(item["on"]), item.place("on"))
        on.pick({device.name: device.known_by for device in estate.devices.values()})
    least = item.get("least", 0 if "most" in item else 1)
    section = item.get("section")
    return WrittenCheck(
        item["check"], on, None if section is None else str(section), item["reading"], _texts(item, "where"), must_be,
        least, item.get("most"), item, place,
    )  # fmt: skip


def _texts(item: YamlMap, key: str) -> Mapping[str, str]:
    written = item.get(key) or {}
    if not isinstance(written, dict) or not all(isinstance(v, (str, int)) and not isinstance(v, bool) for v in written.values()):
        raise EstateError(f"'{key}' has to hold 'field: text' lines", place=item.place(key), hint="put true and false in quotes")
    return {field: str(value) for field, value in written.items()}


def checks_of(
    written: Iterable[WrittenCheck], estate: Estate, devices: Mapping[str, Platform], mistakes: Mistakes
) -> dict[str, list[Check]]:
    """The written checks of each of the devices, which are given with their platforms; what is wrong goes to `mistakes`."""
    found: dict[str, list[Check]] = {name: [] for name in devices}
    for check in written:
        for name, platform in devices.items():
            device = estate.devices[name]
            if check.on is None or check.on.matches(device.known_by):
                with mistakes.collected():
                    found[name].extend(check.for_device(estate, device, platform))
    return found
