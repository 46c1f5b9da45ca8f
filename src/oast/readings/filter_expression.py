"""Expressions over the fields of records: `oper-status=down and not name in (loop*, vlan*) and mtu >= 1500`.

They are selectors (see `oast.estate.selectors`) with one more form: test = field ( "<" | "<=" | ">" | ">=" )
value

A value may hold globs. Numbers and durations are compared as such; an address or prefix is `=` a prefix that
contains it.
"""

from __future__ import annotations

import fnmatch
import ipaddress
import operator
import re
from collections.abc import Callable, Mapping
from typing import Any

from oast.estate import SelectorParser, error_at
from oast.platforms import FieldType, ValueKind
from oast.readings.tables import Record
from oast.readings.values import OTHER, OtherValue, Value, convert, to_text
from oast.spelling import spelling_hint

Condition = Callable[[Record], bool]

_ORDER: Mapping[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}
_TOKEN = re.compile(
    r"""\s*(?:(?P<sign>!=|<=|>=|<|>|=|\(|\)|,)|"(?P<quoted>[^"]*)"|(?P<word>[^\s=!<>(),"]+))"""
)
_GLOB = re.compile(r"[*?\[]")
IN_ORDER = (ValueKind.NUMBER, ValueKind.DECIMAL, ValueKind.DURATION)


def condition(text: str, fields: Mapping[str, FieldType]) -> Condition:
    """Whether a record with these `fields` is meant by `text`. Raises EstateError that points at the
    character."""
    return _Where(text, fields).condition()


class _Where(SelectorParser[Record]):
    what = "expression"
    example = "write for example oper-status=down"
    token = _TOKEN

    def __init__(self, text: str, fields: Mapping[str, FieldType]) -> None:
        self._fields = fields
        super().__init__(text, None)

    def condition(self) -> Condition:
        """All of it."""
        return self.whole()

    def test(self) -> Condition:
        name, column = self.name("a field")
        field = self._fields.get(name)
        if field is None:
            raise error_at(
                self.text,
                column,
                f"the reading has no field '{name}'",
                spelling_hint(name, self._fields),
                None,
            )
        for sign, compare in _ORDER.items():
            if self.accept(sign):
                return self._compared(name, field, compare, *self.name("a value"))
        if self.accept("in"):
            self.expect("(")
            parts = [self._equal(name, field, *self.name("a value"))]
            while self.accept(","):
                parts.append(self._equal(name, field, *self.name("a value")))
            self.expect(")")
            return lambda record: any(part(record) for part in parts)
        if self.accept("!="):
            same = self._equal(name, field, *self.name("a value"))
            return lambda record: not same(record)
        self.expect("=", "'=', '!=', 'in', or '<' and the like")
        return self._equal(name, field, *self.name("a value"))

    def _compared(
        self, name: str, field: FieldType, compare: Callable[[Any, Any], bool], text: str, column: int
    ) -> Condition:
        if field.kind not in IN_ORDER:
            raise error_at(
                self.text,
                column,
                f"'{name}' is not a number ({field.kind}) and cannot be compared with < or >",
                None,
                None,
            )
        expected = self._converted(field, text, column)
        return lambda record: record.get(name) is not None and compare(record[name], expected)

    def _converted(self, field: FieldType, text: str, column: int) -> Value:
        try:
            found = convert(field, text)
            if isinstance(found, OtherValue):
                raise ValueError(f"none of {', '.join((*field.choices, OTHER))}")
            return found
        except ValueError as wrong:
            hint = spelling_hint(text, field.choices) if field.choices else None
            raise error_at(self.text, column, f"'{text}' is {wrong}", hint, None) from None

    def _equal(self, name: str, field: FieldType, text: str, column: int) -> Condition:
        network = (
            _network(text)
            if field.kind in (ValueKind.ADDRESS, ValueKind.PREFIX, ValueKind.INTERFACE_ADDRESSES)
            else None
        )
        if network is not None and (field.kind is not ValueKind.PREFIX or "/" in text):
            return lambda record: any(_inside(one, network) for one in _several(record.get(name)))
        if text == "-":
            return lambda record: record.get(name) is None
        if _GLOB.search(text) or field.kind in (
            ValueKind.TEXT,
            ValueKind.NAMES,
            ValueKind.INTERFACE_ADDRESSES,
        ):
            return lambda record: any(
                fnmatch.fnmatchcase(to_text(one), text) for one in _several(record.get(name))
            )
        expected = self._converted(field, text, column)
        return lambda record: record.get(name) == expected


def _several(value: Value) -> tuple[Value, ...]:
    return () if value is None else value if isinstance(value, tuple) else (value,)


def _network(text: str) -> ipaddress.IPv4Network | ipaddress.IPv6Network | None:
    try:
        return ipaddress.ip_network(text, strict=False)
    except ValueError:
        return None


def _inside(value: Value, network: ipaddress.IPv4Network | ipaddress.IPv6Network) -> bool:
    if isinstance(value, ipaddress.IPv4Network | ipaddress.IPv6Network):
        return value.version == network.version and value.subnet_of(network)  # type: ignore[arg-type]
    address = value.ip if isinstance(value, ipaddress.IPv4Interface | ipaddress.IPv6Interface) else value
    return isinstance(address, ipaddress.IPv4Address | ipaddress.IPv6Address) and address in network
