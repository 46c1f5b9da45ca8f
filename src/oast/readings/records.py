"""Records from a device's answer of any form, derived fields, and values outside the known ones."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cache
from itertools import repeat
from typing import Any

import jmespath
from jmespath.exceptions import JMESPathError

from oast.answer_parsing import spend
from oast.errors import ProtocolError
from oast.gc_tuning import gc_disabled
from oast.platforms import TEXT, FieldType, ReadingDefinition, ValueKind
from oast.readings.tables import END, Columns, Numbered, Record, Texts, columns_of, rows
from oast.readings.values import OtherValue, Value, convert
from oast.safe_xml import SEPARATOR, NotXml, safe_xml, xpath

# Text in a table that stands for an empty cell.
NOTHING = ("", "-")
BITS = "bit/s"
MOST_DIGITS = 20
HINT = "check this reading in the platform file"


def records(text: str, reading: ReadingDefinition) -> list[Record]:
    """The records of one answer, every field in its type; "-" and nothing are None.

    Raises ProtocolError, with the line, for an answer that is not of the form that the platform says, and for
    what no field can hold.
    """
    if reading.picks:
        found = _from_json(text, reading)
    elif reading.xpaths:
        found = list(enumerate(_from_xml(text, reading), 1))
    elif reading.patterns:
        found = list(_from_blocks(text, reading))
    else:
        table = columns_of(text, reading) if not reading.derived else None
        if table is not None:
            # Ten thousand records are not garbage: scanning them would take longer than making them.
            with gc_disabled():
                return _typed_columns(table, reading)
        found = rows(text, reading)
    if reading.derived:
        found = [(number, _with_derived(record, reading)) for number, record in found]
    return _typed(found, reading)


def _typed(found: Sequence[Numbered], reading: ReadingDefinition) -> list[Record]:
    """Each distinct text of a field is looked at once: most of a listing says the same over and over."""
    known: list[tuple[str, FieldType, dict[str, Value]]] = [
        (name, field, {})
        for name, field in reading.types.items()
        if field.kind is not ValueKind.TEXT and name in reading.fields
    ]
    key = next((name for name, field in reading.types.items() if field.key and name in reading.fields), None)
    made: list[Record] = []
    for number, texts in found:
        spend(1)
        record: dict[str, Value] = texts  # type: ignore[assignment]
        for name, field, values in known:
            text = texts[name]
            if text is not None:
                try:
                    record[name] = values[text]
                except KeyError:
                    record[name] = values[text] = _converted(text, name, field, number, reading)
        if key is not None and record[key] is None:
            raise ProtocolError(f"{_where(number, reading)} has no '{key}'", hint=HINT)
        made.append(record)
    return made


def _typed_columns(table: Columns, reading: ReadingDefinition) -> list[Record]:
    """The same, a column at a time."""
    key = next((name for name, field in reading.types.items() if field.key and name in reading.fields), None)
    columns = [_typed_column(table, name, reading, is_key=name == key) for name in table.cells]
    return _rows_of(tuple(table.cells))(zip(*columns, strict=True))


@cache
def _rows_of(fields: tuple[str, ...]) -> Callable[[Iterable[tuple[Value, ...]]], list[Record]]:
    """What makes records of rows: `[{'name': v0, 'mtu': v1} for v0, v1 in rows]` of these fields. Most of the
    time goes here, and a dictionary that is written out is made in two thirds of the time of
    `dict(zip(fields, row))`. The fields are literals in it, and nothing of what a device says is."""
    names = [f"v{number}" for number in range(len(fields))]
    written = ", ".join(f"{field!r}: {name}" for field, name in zip(fields, names, strict=True))
    source = f"lambda rows: [{{{written}}} for {', '.join(names)}, in rows]"
    made: Callable[[Iterable[tuple[Value, ...]]], list[Record]] = eval(source)  # noqa: S307
    return made


def _typed_column(table: Columns, name: str, reading: ReadingDefinition, *, is_key: bool) -> Iterable[Value]:
    """Every cell of a column. Raises ProtocolError with the line of the first that is wrong."""
    piece, many = table.cells[name], len(table.lines)
    field = reading.types.get(name, TEXT)
    same = many > 1 and piece == piece[: len(piece) // many] * many
    if not same and field.kind is ValueKind.NUMBER and field.unit != BITS:
        numbers = _numbers(piece)
        if numbers is not None:
            return numbers
    cells = piece[:-1].split(END)[: 1 if same else many]
    if field.kind is ValueKind.TEXT and not same:
        texts = list(map(str.strip, piece[:-1].decode("ascii").split("\n"))) if many else []
        if not any(nothing in texts for nothing in NOTHING):
            return texts
    values: dict[bytes, Value] = {}
    for cell in dict.fromkeys(cells):
        text = cell.decode("ascii").strip()
        try:
            values[cell] = (
                None if text in NOTHING else text if field.kind is ValueKind.TEXT else convert(field, text)
            )
        except ValueError:
            _converted(text, name, field, table.lines[cells.index(cell)], reading)
    if is_key and None in values.values():
        empty = next(n for n, cell in enumerate(cells) if values[cell] is None)
        raise ProtocolError(f"{_where(table.lines[empty], reading)} has no '{name}'", hint=HINT)
    return repeat(values[cells[0]], many) if same else map(values.__getitem__, cells)


def _numbers(piece: bytes) -> list[Value] | None:
    """A column of nothing but plain numbers at once, as a list of JSON (RFC 8259): they are all different,
    and each takes long by itself. None for any other."""
    if piece.find(END) > MOST_DIGITS or piece.translate(None, b"0123456789 \n"):
        return None
    try:
        numbers: list[Value] = json.loads(b"[" + piece[:-1].replace(END, b",") + b"]")
    except ValueError:
        return None
    # One cell of nothing is a list of nothing.
    return numbers if len(numbers) == piece.count(END) else None


def _converted(text: str, name: str, field: FieldType, number: int, reading: ReadingDefinition) -> Value:
    try:
        return convert(field, text)
    except ValueError as wrong:
        raise ProtocolError(
            f"{_where(number, reading)} has '{text[:60]}' for '{name}', which is {wrong}", hint=HINT
        ) from None


def _where(number: int, reading: ReadingDefinition) -> str:
    what = "record" if reading.picks or reading.xpaths else "line"
    return f"{what} {number} of the answer to '{reading.command}'"


def _with_derived(record: Texts, reading: ReadingDefinition) -> Texts:
    made = dict(record)
    for name, field in reading.derived.items():
        value = made.get(field.source)
        if value is not None and field.pattern is not None:
            match = re.search(field.pattern, value)
            value = match[1] if match is not None else None
        made[name] = field.values.get(value, value) if value is not None else None
    return made


def _from_json(text: str, reading: ReadingDefinition) -> list[Numbered]:
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        line = f" (line {error.lineno})" if isinstance(error, json.JSONDecodeError) else ""
        raise ProtocolError(f"the answer to '{reading.command}' is not JSON{line}", hint=HINT) from None
    found = data if reading.records is None else _picked(reading.records, data, reading)
    if isinstance(found, Mapping) and reading.key is not None:
        entries = [({reading.key: str(key)}, value) for key, value in found.items()]
    elif isinstance(found, list):
        entries = [({}, value) for value in found]
    elif found is None and reading.records is not None:
        entries = []
    elif isinstance(found, Mapping):
        first = next(iter(found), "")
        message = (
            f"the answer to '{reading.command}' has a mapping at '{reading.records or '@'}', whose keys such"
            f" as '{first}' are data"
        )
        raise ProtocolError(message, hint='name the field for the keys: key = "FIELD"')
    else:
        raise ProtocolError(
            f"the answer to '{reading.command}' has no list at '{reading.records or '@'}'", hint=HINT
        )
    paths = [(name, _search(path, reading)) for name, path in reading.picks.items()]
    return [
        (number, {**first, **{name: _text(search(value)) for name, search in paths}})
        for number, (first, value) in enumerate(entries, 1)
    ]


# A field that is one name of an object, quoted or not.
_NAME = re.compile(r'"([^"\\]+)"|([A-Za-z_][A-Za-z0-9_]*)')


def _search(path: str, reading: ReadingDefinition) -> Callable[[Any], Any]:
    """What finds the value of a path; of the path that is one name, without JMESPath, which takes twenty
    times as long."""
    name = _NAME.fullmatch(path)
    if name is None:
        return lambda value: _picked(path, value, reading)
    key = name[1] or name[2]
    return lambda value: value.get(key) if isinstance(value, dict) else None


def _picked(path: str, data: Any, reading: ReadingDefinition) -> Any:
    try:
        return jmespath.search(path, data)
    except (JMESPathError, TypeError, ValueError) as error:
        message = (
            f"'{path}' cannot be applied to the answer to '{reading.command}': {str(error).splitlines()[0]}"
        )
        raise ProtocolError(message, hint=HINT) from None


def _text(value: Any) -> str | None:
    if value is None or value == "":
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list):
        return ", ".join(str(_text(item)) for item in value) or None
    return json.dumps(value, sort_keys=True) if isinstance(value, dict) else str(value)


def _from_xml(text: str, reading: ReadingDefinition) -> Iterator[Texts]:
    """The answer's elements are found in any envelope; an empty answer has no records."""
    try:
        root = safe_xml(text)
    except NotXml as wrong:
        line = f" (line {wrong.line})" if wrong.line else ""
        raise ProtocolError(
            f"the answer to '{reading.command}' is not XML{line}: {wrong}", hint=HINT
        ) from None
    fields = {name: xpath(path, reading.namespaces) for name, path in reading.xpaths.items()}
    for element in xpath(f"//{reading.elements}", reading.namespaces)(root):
        yield {name: _value(path(element)) for name, path in fields.items()}


def _value(found: Any) -> str | None:
    """Return the result of an XPath as text: the text of elements, several with commas between."""
    if isinstance(found, bool):
        return "true" if found else "false"
    if isinstance(found, float):
        return f"{found:g}"
    texts = [
        one if isinstance(one, str) else "".join(one.itertext())
        for one in (found if isinstance(found, list) else [found])
    ]
    return SEPARATOR.join(text.strip() for text in texts) or None


@cache
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(pattern)


def _from_blocks(text: str, reading: ReadingDefinition) -> Iterator[Numbered]:
    """Each line fills the fields whose patterns it fits. Without `begins` the whole answer is one record."""
    begins = None if reading.begins is None else _compiled(reading.begins)
    block: Texts | None = None
    found, begun = 0, 1
    for number, line in enumerate(text.split("\n"), 1):
        if begins is not None and begins.search(line):
            if block is not None:
                yield begun, block
            block, begun = dict.fromkeys(reading.patterns), number
        elif begins is None and block is None:
            block = dict.fromkeys(reading.patterns)
        for name, pattern in reading.patterns.items() if block is not None else ():
            match = _compiled(pattern).search(line)
            if match is not None and block is not None and block[name] is None:
                block[name] = match[1].strip() or None
                found += 1
    if text.strip() and not found:
        first = next(number for number, line in enumerate(text.split("\n"), 1) if line.strip())
        raise ProtocolError(
            f"the answer to '{reading.command}' has no field of the reading (from line {first})",
            hint=HINT,
        )
    if block is not None:
        yield begun, block


OtherValues = Mapping[tuple[str, str], Counter[str]]
"""By field and the device's own word, the devices, and in how many records of each."""


def find_other_values(records: Mapping[str, Iterable[Record]]) -> OtherValues:
    """Those in the `records` of each device."""
    found: dict[tuple[str, str], Counter[str]] = {}
    for name, of_device in records.items():
        for record in of_device:
            for field, value in record.items():
                if isinstance(value, OtherValue):
                    found.setdefault((field, value.listed), Counter())[name] += 1
    return found


def join_counts(many: Iterable[OtherValues]) -> OtherValues:
    """Those of several devices together."""
    found: dict[tuple[str, str], Counter[str]] = {}
    for one in many:
        for key, devices in one.items():
            found.setdefault(key, Counter()).update(devices)
    return found
