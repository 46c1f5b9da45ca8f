"""The checks that the engineer wrote, in checks/*.yaml. The page: docs/checks.md."""

from __future__ import annotations

import dataclasses
import ipaddress
import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

import jinja2

from oast.errors import ErrorCollector, EstateError
from oast.estate import (
    Device,
    Estate,
    MissingError,
    Selector,
    YamlMap,
    describe_jinja_error,
    fill_placeholders,
    parse_selector,
    read_entries,
)
from oast.platforms import READINGS, Platform, ReadingDefinition, ValueKind
from oast.records import Place, Problem
from oast.spelling import spelling_hint
from oast.verify.checks import Check, Operator

# What may be said of the records that 'where' picks; one of them in a check.
RULES = ("must_be", "some", "none", "exactly", "contains", "at_least", "at_most", "near", "same")
_FOR_ALL = ("check", "on", "section", "severity", "wait_s", "stable_for_s")
_KEYS = (*_FOR_ALL, "reading", "where", "least", "most", "by", "ping", "answered", "trace", "through", *RULES)
LONGEST_S = 3600
NUMERIC = (ValueKind.NUMBER, ValueKind.DECIMAL, ValueKind.DURATION)


PING, TRACE = "ping", "trace"
Holds = Callable[[str], Iterable[str]]


@dataclass(frozen=True)
class Probe:
    """A probe from a device: `to` is a text with expressions, `through` are devices, one of which must be on
    the path."""

    to: str
    answered: bool
    through: tuple[str, ...]


@dataclass(frozen=True)
class CustomCheck:
    """One entry of a checks file. `where` and `must_be` hold texts with expressions; `section` is what it
    belongs to. `rule` is one of `RULES`, and what it says of fields is in `said`."""

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
    rule: str = "must_be"
    said: Mapping[str, Any] = dataclasses.field(default_factory=dict)
    is_warning: bool = False
    wait_s: float = 0.0
    stable_for_s: float = 0.0
    by: str | None = None
    probe: Probe | None = None

    def for_device(self, estate: Estate, device: Device, platform: Platform, holds: Holds) -> Iterator[Check]:
        """The checks of one device; `holds` says which addresses a device is meant to have. Raises
        EstateError for what its platform cannot read, and for wrong expressions."""
        if self.probe is not None:
            yield from self._probed(self.probe, estate, device, platform, holds)
            return
        yield from self._of_records(estate, device, platform)

    def _probed(
        self, probe: Probe, estate: Estate, device: Device, platform: Platform, holds: Holds
    ) -> Iterator[Check]:
        """Yield checks that the probe is answered, or not, or that its path leads through a device."""
        self._definition(platform)
        values = {**estate.values_of(device), "device": device.attributes, "network": estate.network}
        written = self._filled(probe.to, values, device)
        target = estate.devices[written].address if written in estate.devices else written
        try:
            to = str(ipaddress.ip_address(target))
        except ValueError:
            hint = spelling_hint(written, estate.devices)
            raise EstateError(
                f"'{written}' is neither an address nor a device with one",
                place=self.places.place(self.reading),
                hint=hint,
            ) from None
        about = f"{self.name}: {to if written == target else f'{written} ({to})'}"
        made = Check(
            device.name,
            about,
            f"{self.reading} {to}",
            {},
            None,
            "",
            (),
            section=self.section,
            place=self.place,
            is_warning=self.is_warning,
            wait_s=self.wait_s,
            stable_for_s=self.stable_for_s,
        )
        if self.reading == PING:
            said = "answers" if probe.answered else "does not answer"
            yield made._replace(
                title=f"{about} {said}", field="answered", expected=str(probe.answered).lower()
            )
            return
        yield made._replace(
            title=f"{about} answers pings", match={"arrived": "*"}, field="arrived", expected="true"
        )
        if probe.through:
            names = ", ".join(probe.through)
            addresses = frozenset(address for name in probe.through for address in holds(name))
            title = f"{about} answers pings through {names}"
            yield made._replace(
                title=title, field="address", expected=f"one of {names}", test=Operator.ANY, values=addresses
            )

    def _of_records(self, estate: Estate, device: Device, platform: Platform) -> Iterator[Check]:
        definition = self._definition(platform)
        fields = set(definition.fields)
        for key, texts in (("where", self.where), (self.rule, self.said or self.must_be)):
            for field in texts:
                if field not in fields:
                    message = f"the reading '{self.reading}' has no field '{field}'"
                    raise EstateError(
                        message, place=self.places.place(key), hint=spelling_hint(field, fields)
                    )
        values = {**estate.values_of(device), "device": device.attributes, "network": estate.network}
        where = {field: self._filled(text, values, device) for field, text in self.where.items()}
        conditions = ", ".join(f"{field} {value}" for field, value in where.items())
        about = f"{self.name}: {self.reading}" + (f" with {conditions}" if conditions else "")
        made = Check(
            device.name,
            about,
            self.reading,
            where,
            None,
            "",
            (),
            section=self.section,
            place=self.place,
            is_warning=self.is_warning,
            wait_s=self.wait_s,
            stable_for_s=self.stable_for_s,
        )
        if self.said:
            for field in self.said:
                yield self._ruled(field, definition, values, device, made)
            return
        for field, text in self.must_be.items():
            expected = self._filled(text, values, device)
            title = f"{about}, {field}"
            yield made._replace(title=title, field=field, expected=expected)
        if not self.must_be:
            yield made._replace(expected=self._number, least=self.least, most=self.most)

    def _ruled(
        self,
        field: str,
        definition: ReadingDefinition,
        values: Mapping[str, Any],
        device: Device,
        check: Check,
    ) -> Check:
        """What a rule other than 'must_be' says of one field; `check` has what is the same for all."""
        said = self.said[field]
        made = check._replace(title=f"{check.title}, {field}", field=field)
        if self.rule == "same":
            group = ", ".join(sorted(device.known_by.get(self.by, ()))) if self.by is not None else ""
            return made._replace(
                title=f"{made.title} is the same",
                test=Operator.SAME,
                expected="the same",
                group=group,
                wide=True,
            )
        if self.rule in ("some", "none"):
            text = self._filled(str(said), values, device)
            match, number = {**check.match, field: text}, ("at least 1" if self.rule == "some" else "0")
            title = f"{check.title}, {self.rule} with {field} {text}"
            most = None if self.rule == "some" else 0
            return made._replace(
                title=title,
                match=match,
                field=None,
                expected=number,
                least=int(most is None),
                most=most,
                test=Operator.COUNT,
            )
        if self.rule in ("exactly", "contains"):
            texts = [
                self._filled(str(one), values, device) for one in (said if isinstance(said, list) else [said])
            ]
            test = Operator.EXACTLY if self.rule == "exactly" else Operator.ALL
            return made._replace(expected=", ".join(texts), test=test, values=frozenset(texts))
        kind = definition.types.get(field)
        if kind is None or kind.kind not in NUMERIC:
            message = f"'{self.rule}' needs a number, and '{field}' of '{self.reading}' is not one"
            raise EstateError(message, place=self.places.place(self.rule))
        low, high, expected = _range(self.rule, said)
        return made._replace(expected=expected, test=Operator.RANGE, low=low, high=high)

    @property
    def _number(self) -> str:
        if self.most is None:
            return f"at least {self.least}"
        return f"{self.least}" if self.most == self.least else f"{self.least} to {self.most}"

    def _definition(self, platform: Platform) -> ReadingDefinition:
        readings = platform.readings
        if self.reading not in readings:
            message = f"the platform '{platform.name}' has no reading '{self.reading}'"
            raise EstateError(
                message, place=self.places.place("reading"), hint=spelling_hint(self.reading, readings)
            )
        return readings[self.reading]

    def _filled(self, text: str, values: Mapping[str, Any], device: Device) -> str:
        try:
            return fill_placeholders(text, values)
        except MissingError as error:
            message, hint = error.told(None, values)
        except jinja2.TemplateSyntaxError as error:
            message, hint = f"'{text}' is invalid: {error.message}", None
        except EstateError as error:
            message, hint = error.message, error.hint
        except Exception as error:
            message, hint = describe_jinja_error(error)
        raise EstateError.of([Problem(message, self.place, hint, devices=(device.name,), kind="check")])


def read_custom_checks(estate: Estate, mistakes: ErrorCollector) -> tuple[CustomCheck, ...]:
    """All written checks, in file and then written order; what is wrong goes to `mistakes`."""
    make = partial(_check, estate=estate)
    return tuple(read_entries(estate.folder, "check", "checks", _KEYS, make, mistakes))


def _check(item: YamlMap, place: Place, estate: Estate) -> CustomCheck:
    probe = _probe(item, place, estate)
    if probe is not None:
        on, severity, wait_s, stable_for_s, section = _for_all(item, estate)
        reading = PING if PING in item else TRACE
        return CustomCheck(
            item["check"], on, section, reading, {}, {}, 0, None, item, place,
            is_warning=severity == "warning", wait_s=wait_s, stable_for_s=stable_for_s, probe=probe,
        )  # fmt: skip
    if not isinstance(item.get("reading"), str):
        raise EstateError(
            "this check has no 'reading'",
            place=place,
            hint="add for example 'reading: interfaces'",
        )
    must_be = _texts(item, "must_be")
    rules = [rule for rule in RULES if rule in item]
    if len(rules) > 1:
        message, hint = f"a check takes either '{rules[1]}' or '{rules[0]}'", "split it into two checks"
        raise EstateError(message, place=item.place(rules[1]), hint=hint)
    rule = rules[0] if rules else "must_be"
    said = {} if rule == "must_be" else {str(item["same"]): None} if rule == "same" else _said(item, rule)
    by = _by(item, estate, rule)
    counted = [key for key in ("least", "most") if key in item]
    if said and counted:
        message = f"a check takes either '{counted[0]}' or '{rule}'"
        raise EstateError(message, place=item.place(counted[0]), hint="split it into two checks")
    if must_be and counted:
        raise EstateError(
            f"a check takes either '{counted[0]}' or 'must_be'",
            place=item.place(counted[0]),
            hint="split it into two checks",
        )
    for key in counted:
        if not isinstance(item[key], int) or isinstance(item[key], bool) or item[key] < 0:
            raise EstateError(f"'{key}' must be a whole number", place=item.place(key))
    if "least" in item and "most" in item and item["least"] > item["most"]:
        raise EstateError("'least' is greater than 'most'", place=item.place("least"))
    on, severity, wait_s, stable_for_s, section = _for_all(item, estate)
    least = item.get("least", 0 if "most" in item else 1)
    if item["reading"] in READINGS and READINGS[item["reading"]].asks is not None:
        message = f"the reading '{item['reading']}' needs a destination"
        raise EstateError(
            message,
            place=item.place("reading"),
            hint=f"write '{item['reading']}: ADDRESS' instead of 'reading'",
        )
    return CustomCheck(
        item["check"], on, section, item["reading"], _texts(item, "where"), must_be,
        least, item.get("most"), item, place, rule, said, severity == "warning", wait_s, stable_for_s, by,
    )  # fmt: skip


def _for_all(item: YamlMap, estate: Estate) -> tuple[Selector | None, str, float, float, str | None]:
    """What every kind of check may say: which devices, how bad, how long to wait and to hold, and its
    section. Raises EstateError."""
    severity = str(item.get("severity", "error"))
    if severity not in ("error", "warning"):
        raise EstateError(
            f"the severity must be error or warning, not '{severity}'", place=item.place("severity")
        )
    if "section" in item and not isinstance(item["section"], str):
        raise EstateError("'section' must be the name of a section", place=item.place("section"))
    times = []
    for key in ("wait_s", "stable_for_s"):
        value = item.get(key, 0)
        if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= LONGEST_S:
            raise EstateError(f"'{key}' must be a number of seconds up to {LONGEST_S}", place=item.place(key))
        times.append(float(value))
    on = None
    if "on" in item:
        on = parse_selector(str(item["on"]), item.place("on"))
        on.pick({device.name: device.known_by for device in estate.devices.values()})
    return on, severity, times[0], times[1], item.get("section")


def _by(item: YamlMap, estate: Estate, rule: str) -> str | None:
    """The attribute whose devices are one group. Raises EstateError."""
    if "by" not in item:
        return None
    by, known = str(item["by"]), {name for device in estate.devices.values() for name in device.known_by}
    if rule != "same":
        raise EstateError("'by' needs 'same'", place=item.place("by"))
    if by not in known:
        raise EstateError(
            f"no device has the attribute '{by}'", place=item.place("by"), hint=spelling_hint(by, known)
        )
    return by


def _probe(item: YamlMap, place: Place, estate: Estate) -> Probe | None:
    """What is tried out; None for a check of readings. Raises EstateError."""
    kinds = [kind for kind in (PING, TRACE) if kind in item]
    if not kinds:
        for key, kind in (("answered", PING), ("through", TRACE)):
            if key in item:
                raise EstateError(f"'{key}' needs '{kind}'", place=item.place(key))
        return None
    allowed = (*_FOR_ALL, kinds[0], "answered" if kinds[0] == PING else "through")
    for key in item:
        if key not in allowed:
            raise EstateError(
                f"'{key}' and '{kinds[0]}' exclude each other",
                place=item.place(key),
                hint=("split it into two checks"),
            )
    to, answered, through = item[kinds[0]], item.get("answered", True), item.get("through", [])
    if not isinstance(to, str) or not to.strip():
        raise EstateError(
            f"'{kinds[0]}' must be an address or the name of a device", place=item.place(kinds[0])
        )
    if not isinstance(answered, bool):
        raise EstateError("'answered' must be true or false", place=item.place("answered"))
    names = [str(one) for one in (through if isinstance(through, list) else [through])]
    for name in names:
        if name not in estate.devices:
            hint = spelling_hint(name, estate.devices)
            raise EstateError(
                f"unknown device '{name}' to go through", place=item.place("through"), hint=hint
            )
    return Probe(to.strip(), answered, tuple(names))


def _said(item: YamlMap, rule: str) -> Mapping[str, Any]:
    """What a rule says of fields. Raises EstateError."""
    written = item.get(rule)
    place = item.place(rule)
    if not isinstance(written, dict) or not written:
        raise EstateError(f"'{rule}' must contain 'field: value' lines", place=place)
    for field, value in written.items():
        texts = value if isinstance(value, list) else [value]
        if not texts or not all(
            isinstance(one, (str, int, float)) and not isinstance(one, bool) for one in texts
        ):
            raise EstateError(
                f"'{field}' of '{rule}' must be text or a number",
                place=place,
                hint="put true and false in quotes",
            )
        if isinstance(value, list) and rule in ("some", "none", "at_least", "at_most"):
            raise EstateError(f"'{field}' of '{rule}' must be one value", place=place)
        if rule in ("at_least", "at_most", "near") and not all(
            isinstance(one, (int, float)) for one in texts
        ):
            raise EstateError(f"'{field}' of '{rule}' must be a number", place=place)
        if rule == "near" and (not isinstance(value, list) or len(value) != 2 or value[1] < 0):
            raise EstateError(f"'{field}' of 'near' must be [NUMBER, TOLERANCE]", place=place)
    return {str(field): value for field, value in written.items()}


def _range(rule: str, said: Any) -> tuple[float, float, str]:
    """Return the lower limit, the upper limit, and the range as text."""
    if rule == "at_least":
        return said, math.inf, f"at least {said:g}"
    if rule == "at_most":
        return -math.inf, said, f"at most {said:g}"
    middle, tolerance = said
    return middle - tolerance, middle + tolerance, f"{middle:g} ± {tolerance:g}"


def _texts(item: YamlMap, key: str) -> Mapping[str, str]:
    written = item.get(key) or {}
    if not isinstance(written, dict) or not all(
        isinstance(v, (str, int)) and not isinstance(v, bool) for v in written.values()
    ):
        raise EstateError(
            f"'{key}' must contain 'field: text' lines",
            place=item.place(key),
            hint="put true and false in quotes",
        )
    return {field: str(value) for field, value in written.items()}


def custom_checks_of(
    written: Iterable[CustomCheck],
    estate: Estate,
    devices: Mapping[str, Platform],
    mistakes: ErrorCollector,
    holds: Holds = lambda name: (),
) -> dict[str, list[Check]]:
    """The written checks of each of the devices, which are given with their platforms; `holds` says which
    addresses a device is meant to have. What is wrong goes to `mistakes`."""
    found: dict[str, list[Check]] = {name: [] for name in devices}
    for check in written:
        for name, platform in devices.items():
            device = estate.devices[name]
            if check.on is None or check.on.matches(device.known_by):
                with mistakes.collected():
                    found[name].extend(check.for_device(estate, device, platform, holds))
    return found
