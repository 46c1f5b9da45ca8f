"""The network as templates and values see it, read-only; and values that refer to other values.

A value may hold expressions: `contact: "{{ site_name }} desk"`. A text that is one expression alone keeps the
type of its result. Expressions are evaluated when they are used, one key at a time, so that keys of one
mapping may refer to each other; a circle is an error that shows it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, SupportsIndex

import jinja2

from oast.errors import EstateError
from oast.estate import selectors, template_limits as bounds
from oast.estate.expressions import value_environment
from oast.estate.inventory import Device, Link
from oast.estate.jinja_errors import MissingError, describe_jinja_error, missing_path, syntax
from oast.estate.values import ValueLayers, Values, has_expression
from oast.records import Problem
from oast.spelling import spelling_hint

_ALONE = re.compile(r"\s*\{\{((?:(?!\}\}|\{\{).)*)\}\}\s*", re.DOTALL)


class Network:
    """`network` in templates and values: `device(NAME)`, `pick(SELECTOR)`, `other_end(NAME, INTERFACE)`."""

    def __init__(self, devices: Mapping[str, Device], links: Sequence[Link], layers: ValueLayers) -> None:
        self._devices = devices
        self._ends = {
            end: other for link in links for end, other in ((link.one, link.other), (link.other, link.one))
        }
        self._layers = layers
        self._views: dict[str, DeviceView] = {}
        self._environment = value_environment()
        self._compiled: dict[str, jinja2.Template] = {}
        self._open: list[tuple[str, str]] = []
        self._whole: dict[str, Values] = {}

    def device(self, name: str) -> DeviceView:
        """The device called `name`. Raises EstateError."""
        if name not in self._devices:
            raise EstateError(f"unknown device '{name}'", hint=spelling_hint(str(name), self._devices))
        if name not in self._views:
            device = self._devices[name]
            self._views[name] = DeviceView(device, lambda: self._lazy(device))
        return self._views[name]

    def pick(self, selector: str) -> list[DeviceView]:
        """The devices that `selector` picks; none is allowed here. Raises EstateError."""
        parsed = selectors.parse_selector(selector)
        parsed.check(device.known_by for device in self._devices.values())
        return [
            self.device(name) for name, device in self._devices.items() if parsed.matches(device.known_by)
        ]

    def other_end(self, name: str, interface: str) -> Mapping[str, Any]:
        """What is linked to an interface: `device` and `interface`. Raises EstateError when nothing is."""
        if (name, interface) not in self._ends:
            raise EstateError(
                f"the inventory has no link at {name} {interface}",
                hint="add the link to 'links' in the inventory",
            )
        device, port = self._ends[name, interface]
        return {"device": self.device(device), "interface": port}

    # --- what templates cannot reach: the sandbox denies it
    # ----------------------------------------------------------

    def _lazy(self, device: Device) -> Values:
        work = _Work(self._layers.literal, lambda key, text: self._worked_out(device, key, text))
        return _LazyMap(self._layers.of(device), work, "")

    def _values_of(self, device: Device) -> Values:
        known = self._whole.get(device.name)
        if known is None:
            if self._layers.has_expressions:
                known = _eager(self.device(device.name).values, self._layers.literal)
            else:
                known = self._layers.of(device)
            self._whole[device.name] = known
        return known

    def _worked_out(self, device: Device, key: str, text: str) -> Any:
        step = (device.name, key)
        if step in self._open:
            circle = [*self._open[self._open.index(step) :], step]
            chain = " -> ".join(k if d == device.name else f"{d}: {k}" for d, k in circle)
            raise self._error(
                device,
                key,
                f"values refer to each other in a loop: {chain}",
                "give one of them a fixed value",
            )
        self._open.append(step)
        try:
            return self._evaluated(device, text)
        except MissingError as error:
            path = missing_path(self._environment.parse(text), None, error.name)
            message, hint = error.told(path, self._layers.of(device))
            raise self._error(device, key, f"cannot evaluate '{key}': {message}", hint) from None
        except jinja2.TemplateSyntaxError as error:
            _, message, hint = syntax(error, text, self._environment)
            raise self._error(
                device, key, f"the expression in '{key}' has an error: {message}", hint
            ) from None
        except EstateError as error:
            raise (
                error if error.place is not None else self._error(device, key, error.message, error.hint)
            ) from None
        except Exception as error:
            message, hint = describe_jinja_error(error)
            raise self._error(device, key, f"cannot evaluate '{key}': {message}", hint) from None
        finally:
            self._open.pop()

    def _error(self, device: Device, key: str, message: str, hint: str | None) -> EstateError:
        return EstateError.of(
            [Problem(message, self._layers.place_of(device, key), hint, devices=(device.name,))]
        )

    def _evaluated(self, device: Device, text: str) -> Any:
        alone = _ALONE.fullmatch(text)
        if text not in self._compiled:
            source = "{% set result = (" + alone[1] + ") %}" if alone else text
            self._compiled[text] = self._environment.from_string(source)
        template = self._compiled[text]
        names = _Names(self.device(device.name).values, {"device": device.attributes, "network": self})
        context = template.new_context(vars=names, shared=True)  # type: ignore[arg-type]
        with bounds.rendering():
            put_out = bounds.join_limited(template.root_render_func(context))
        if not alone:
            return put_out
        result = context.vars["result"]
        if isinstance(result, jinja2.Undefined):
            str(result)  # raises UndefinedError
        return result


def values_of(network: Network, device: Device) -> Values:
    """Return all values of `device`, evaluated. Raises EstateError."""
    return network._values_of(device)


class DeviceView(Mapping[str, Any]):
    """A device in expressions: its attributes, and `values`."""

    def __init__(self, device: Device, make: Callable[[], Values]) -> None:
        self._device = device
        self._make = make
        self._values: Values | None = None

    @property
    def values(self) -> Values:  # type: ignore[override]
        if self._values is None:
            self._values = self._make()
        return self._values

    def __getitem__(self, key: str) -> Any:
        return self._device.attributes[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self._device.attributes)

    def __len__(self) -> int:
        return len(self._device.attributes)


class _Names:
    """The names that an expression can use; a value is only evaluated when it is used."""

    def __init__(self, values: Values, given: Mapping[str, Any]) -> None:
        self._values = values
        self._given = given

    def __contains__(self, name: str) -> bool:
        return name in self._given or name in self._values

    def __getitem__(self, name: str) -> Any:
        return self._given[name] if name in self._given else self._values[name]


@dataclass(frozen=True, slots=True)
class _Work:
    """How the values of a device are evaluated: `literal` values need no evaluation (by identity), `out`
    takes a key and its text."""

    literal: frozenset[int]
    out: Callable[[str, str], Any]


def _lazily(value: Any, work: _Work, path: str) -> Any:
    if isinstance(value, str):
        return work.out(path, value) if has_expression(value) else value
    if not isinstance(value, (dict, list)) or id(value) in work.literal:
        return value
    return _LazyMap(value, work, f"{path}.") if isinstance(value, dict) else _LazyList(value, work, path)


class _LazyMap(dict[str, Any]):
    """A mapping whose values are evaluated when they are used, each once."""

    def __init__(self, raw: dict[str, Any], work: _Work, path: str) -> None:
        super().__init__(raw)
        self._raw = raw
        self._work = work
        self._path = path
        self._made: dict[str, Any] = {}

    def __getitem__(self, key: str) -> Any:
        if key not in self._made:
            self._made[key] = _lazily(self._raw[key], self._work, f"{self._path}{key}")
        return self._made[key]

    def get(self, key: str, default: Any = None) -> Any:
        return self[key] if key in self._raw else default

    def values(self) -> Any:
        return [self[key] for key in self._raw]

    def items(self) -> Any:
        return [(key, self[key]) for key in self._raw]


class _LazyList(list[Any]):
    """A list whose items are evaluated when they are used."""

    def __init__(self, raw: list[Any], work: _Work, path: str) -> None:
        super().__init__(raw)
        self._raw = raw
        self._work = work
        self._path = path

    def __getitem__(self, index: SupportsIndex | slice) -> Any:
        if isinstance(index, slice):
            return list(self)[index]
        number = range(len(self._raw))[index]
        return _lazily(self._raw[number], self._work, f"{self._path}[{number}]")

    def __iter__(self) -> Iterator[Any]:
        return (self[index] for index in range(len(self._raw)))


def _eager(value: Any, literal: frozenset[int]) -> Any:
    """Return ordinary mappings and lists with everything evaluated; `literal` are the identities of what
    needs no evaluation."""
    if not isinstance(value, (dict, list)) or id(value) in literal:
        return value
    return (
        {key: _eager(value[key], literal) for key in value}
        if isinstance(value, dict)
        else [_eager(item, literal) for item in value]
    )
