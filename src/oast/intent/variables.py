"""Declared variables: what a template takes, checked before it is rendered, with the place of the value that
is wrong.

variables:
  contact: text
  link_cost: {type: integer, range: [1, 65535], default: 10, help: OSPF cost of a link}
  time_servers:
    type: list
    of: {address: ip-address, prefer: {type: boolean, default: false}}
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from oast.errors import EstateError
from oast.estate import YamlList, YamlMap
from oast.records import Place, Secret
from oast.spelling import spelling_hint

_MISSING: Any = object()
REMEMBERED_VALUES = 20_000
_SETTINGS = ("type", "range", "choices", "default", "required", "help", "secret", "of", "fields", "least")
_OCTET = r"(?:25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])"
_IPV4_AND_LENGTH = re.compile(rf"{_OCTET}(?:\.{_OCTET}){{3}}/(?:3[0-2]|[12]?[0-9])")
_MAC = re.compile(r"[0-9a-fA-F]{2}([:-][0-9a-fA-F]{2}){5}")


def _is_address(value: Any, version: int | None = None) -> bool:
    try:
        address = ipaddress.ip_address(value) if isinstance(value, str) else None
    except ValueError:
        return False
    return address is not None and version in (None, address.version)


def _is_prefix(value: Any) -> bool:
    try:
        return isinstance(value, str) and "/" in value and ipaddress.ip_network(value) is not None
    except ValueError:
        return False


def _is_interface_address(value: Any) -> bool:
    try:
        # What most values look like is known twenty times faster than it is parsed.
        likely = isinstance(value, str) and _IPV4_AND_LENGTH.fullmatch(value) is not None
        return likely or (
            isinstance(value, str) and "/" in value and ipaddress.ip_interface(value) is not None
        )
    except ValueError:
        return False


def _is_integer(value: Any, low: int | None = None, high: int | None = None) -> bool:
    in_range = isinstance(value, int) and (low is None or value >= low) and (high is None or value <= high)
    return in_range and not isinstance(value, bool)


SCALARS: Mapping[str, tuple[str, Callable[[Any], bool]]] = {
    "text": ("text", lambda v: isinstance(v, (str, int, float)) and not isinstance(v, bool)),
    "integer": ("a whole number", _is_integer),
    "boolean": ("true or false", lambda v: isinstance(v, bool)),
    "ip-address": ("an IP address", _is_address),
    "ipv4-address": ("an IPv4 address", lambda v: _is_address(v, 4)),
    "ipv6-address": ("an IPv6 address", lambda v: _is_address(v, 6)),
    "prefix": ("a prefix such as 192.0.2.0/24", _is_prefix),
    "interface-address": ("an address with its prefix length, such as 192.0.2.1/24", _is_interface_address),
    "mac-address": ("a MAC address", lambda v: isinstance(v, str) and _MAC.fullmatch(v) is not None),
    "as-number": ("an AS number", lambda v: _is_integer(v, 0, 2**32 - 1)),
    "vlan-id": ("a VLAN id from 1 to 4094", lambda v: _is_integer(v, 1, 4094)),
    "any": ("anything", lambda v: True),
}


@dataclass(frozen=True)
class Variable:
    """One declared variable, or one field or item of one. `of` describes the items of a list, `fields` those
    of a mapping."""

    name: str
    type: str
    place: Place
    help: str = ""
    required: bool = True
    default: Any = _MISSING
    range: tuple[int, int] | None = None
    choices: tuple[Any, ...] = ()
    secret: bool = False
    least: int = 0
    of: Variable | None = None
    fields: Mapping[str, Variable] = field(default_factory=dict)

    @property
    def has_default(self) -> bool:
        return self.default is not _MISSING

    @cached_property
    def fills(self) -> bool:
        """Whether a value of it can get defaults inside."""
        inner = [*self.fields.values(), *([self.of] if self.of else [])]
        return any(field.has_default or field.fills for field in inner)

    @property
    def described(self) -> str:
        """Describe the type."""
        if self.choices:
            return "one of " + ", ".join(map(str, self.choices))
        if self.range:
            return f"a whole number from {self.range[0]} to {self.range[1]}"
        if self.type == "list":
            inner = self.of.described if self.of else "anything"
            return f"a list, each {inner}" if inner != "a mapping" else "a list of mappings"
        if self.type == "mapping":
            return "a mapping"
        return ("a secret, " if self.secret else "") + SCALARS[self.type][0]


@dataclass(frozen=True)
class Violation:
    """A value that is not what was declared: `key` as `servers[0].address`; `missing` when it is not there at
    all."""

    key: str
    message: str
    hint: str
    variable: Variable
    missing: bool = False


def declarations(written: YamlMap) -> dict[str, Variable]:
    """The variables of a header. Raises EstateError at the line of a declaration that is wrong."""
    return {name: _variable(name, declaration, written.place(name)) for name, declaration in written.items()}


def _variable(name: str, written: Any, place: Place) -> Variable:
    if isinstance(written, str):
        written = _as_map("type", written, place)
    if not isinstance(written, YamlMap):
        raise EstateError(
            f"the variable '{name}' must be a type or a mapping",
            place=place,
            hint=spelling_hint("", _types()),
        )
    if not set(written) & set(_SETTINGS):
        # A mapping of names that are no settings is short for a mapping with these fields.
        written = _as_map("fields", written, place)
    for key in written:
        if key not in _SETTINGS:
            message = f"unknown key '{key}' in the variable '{name}'"
            raise EstateError(message, place=written.place(key), hint=spelling_hint(key, _SETTINGS))
    kind = _kind(name, written, place)
    _check_settings(name, written)
    fields = written.get("fields") or YamlMap(place.file)
    bounds = written.get("range")
    made = Variable(
        name=name,
        type=kind,
        place=place,
        help=str(written.get("help", "")),
        required=written.get("required", True),
        default=written.get("default", _MISSING),
        range=(bounds[0], bounds[1]) if bounds else None,
        choices=tuple(written.get("choices", ())),
        secret=written.get("secret", False),
        least=written.get("least", 0),
        of=_variable(f"{name} item", written["of"], place) if "of" in written else None,
        fields={key: _variable(key, value, fields.place(key)) for key, value in fields.items()},
    )
    wrong = next(variable_violations(made, made.default, name), None) if made.has_default else None
    if wrong is not None:
        message = f"the default does not match: {wrong.message}"
        raise EstateError(
            message,
            place=written.place("default"),
            hint="a secret cannot have a default" if made.secret else wrong.hint,
        )
    return made


_CHECKS: Mapping[str, tuple[str, Callable[[Any], bool]]] = {
    "range": (
        "[LOWEST, HIGHEST]",
        lambda v: isinstance(v, list) and len(v) == 2 and all(map(_is_integer, v)) and v[0] <= v[1],
    ),
    "choices": (
        "a list of texts or numbers",
        lambda v: isinstance(v, list) and bool(v) and all(isinstance(c, (str, int)) for c in v),
    ),
    "required": ("true or false", lambda v: isinstance(v, bool)),
    "secret": ("true or false", lambda v: isinstance(v, bool)),
    "least": ("a whole number", lambda v: _is_integer(v, 0)),
    "help": ("text", lambda v: isinstance(v, (str, int, float))),
    "fields": ("'name: type' lines", lambda v: isinstance(v, YamlMap)),
}


def _check_settings(name: str, written: YamlMap) -> None:
    for key, (needed, fits) in _CHECKS.items():
        if key in written and not fits(written[key]):
            raise EstateError(f"'{key}' of the variable '{name}' must be {needed}", place=written.place(key))


def _as_map(key: str, value: Any, place: Place) -> YamlMap:
    made = YamlMap(place.file)
    made[key] = value
    made.lines[key] = place.line or 0
    return made


def _types() -> tuple[str, ...]:
    return (*SCALARS, "list", "mapping")


def _kind(name: str, written: YamlMap, place: Place) -> str:
    implied = (
        "list"
        if "of" in written
        else "mapping"
        if "fields" in written
        else "integer"
        if "range" in written
        else "text"
    )
    kind = str(written.get("type", "any" if "choices" in written else implied))
    if kind not in _types():
        raise EstateError(
            f"the variable '{name}' has the unknown type '{kind}'",
            place=place,
            hint=spelling_hint(kind, _types()),
        )
    return kind


class Prepared:
    """Values with the defaults of their declaration, and what is wrong with them.

    What many devices share is one object, and is looked at once.
    """

    def __init__(self) -> None:
        # The value itself is kept beside what came of it, so that no other can take its address.
        self._known: dict[tuple[int, int], tuple[Any, Any, list[Violation]]] = {}

    def of(self, variable: Variable, value: Any) -> tuple[Any, list[Violation]]:
        """`value` with the defaults of what it lacks, down to the fields of the items of a list; and what is
        wrong with it."""
        if not isinstance(value, (dict, list)):
            return value, list(variable_violations(variable, value, variable.name))
        key = (id(variable), id(value))
        known = self._known.get(key)
        if known is None:
            if len(self._known) >= REMEMBERED_VALUES:
                self._known.clear()
            filled = _filled(variable, value) if variable.fills else value
            known = self._known[key] = (
                value,
                filled,
                list(variable_violations(variable, value, variable.name)),
            )
        return known[1], known[2]


def _filled(variable: Variable, value: Any) -> Any:
    if isinstance(value, dict) and variable.fields:
        made = dict(value)
        for name, inner in variable.fields.items():
            if name not in made:
                if inner.has_default:
                    made[name] = inner.default
            elif inner.fills:
                made[name] = _filled(inner, made[name])
        return made
    if isinstance(value, list) and variable.of is not None:
        return [_filled(variable.of, item) for item in value]
    return value


def variable_violations(variable: Variable, value: Any, key: str) -> Iterator[Violation]:
    """What is wrong with `value`, which stands at `key`. One that is not required may be empty."""
    if value is None and not variable.required:
        return
    if variable.secret and not isinstance(value, Secret):
        yield Violation(key, f"'{key}' must be a secret by reference", "write {secret: NAME}", variable)
    elif variable.secret or (isinstance(value, Secret) and variable.type in ("text", "any")):
        return
    elif variable.choices:
        if value not in variable.choices:
            yield _wrong(variable, value, key, spelling_hint(str(value), map(str, variable.choices)))
    elif variable.type == "list":
        yield from _in_list(variable, value, key)
    elif variable.type == "mapping":
        yield from _in_mapping(variable, value, key)
    elif not SCALARS[variable.type][1](value) or (variable.range and not _is_integer(value, *variable.range)):
        yield _wrong(variable, value, key, variable.help or "correct the value")


def _wrong(variable: Variable, value: Any, key: str, hint: str) -> Violation:
    given = (
        "empty"
        if value is None
        else f"'{value}'"
        if isinstance(value, (str, int, float))
        else f"a {_kind_of(value)}"
    )
    return Violation(key, f"'{key}' is {given}, not {variable.described}", hint, variable)


def _kind_of(value: Any) -> str:
    return (
        "list" if isinstance(value, list) else "mapping" if isinstance(value, dict) else type(value).__name__
    )


def _in_list(variable: Variable, value: Any, key: str) -> Iterator[Violation]:
    if not isinstance(value, (list, YamlList)):
        yield _wrong(variable, value, key, "write a list, each item after '- '")
        return
    if len(value) < variable.least:
        yield Violation(
            key,
            f"'{key}' has {len(value)} items, and needs at least {variable.least}",
            variable.help or "add items",
            variable,
        )
    for number, item in enumerate(value):
        if variable.of is not None:
            yield from variable_violations(variable.of, item, f"{key}[{number}]")


def _in_mapping(variable: Variable, value: Any, key: str) -> Iterator[Violation]:
    if not isinstance(value, dict):
        yield _wrong(variable, value, key, "write 'name: value' lines")
        return
    for name, inner in variable.fields.items():
        if name in value:
            yield from variable_violations(inner, value[name], f"{key}.{name}")
        elif inner.required and not inner.has_default:
            yield Violation(
                f"{key}.{name}",
                f"'{key}' has no '{name}'",
                inner.help or f"it is {inner.described}",
                inner,
                missing=True,
            )
    for name in value:
        if variable.fields and name not in variable.fields:
            hint = spelling_hint(name, variable.fields)
            yield Violation(f"{key}.{name}", f"'{key}' has '{name}', which is not declared", hint, variable)
