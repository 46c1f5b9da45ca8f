"""Records of a source as devices: what its mapping makes of each, and which of them cannot be read."""

from __future__ import annotations

import csv
import ipaddress
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import jmespath
from jmespath.exceptions import JMESPathError

from oast.errors import StateError
from oast.estate import CSV, DEVICE_NAME, ZONE, Mapped, SourceSettings
from oast.json_text import strict_json
from oast.sources import zones
from oast.sources.pages import Page

LONGEST = 200


@dataclass(frozen=True, slots=True)
class RejectedRecord:
    """A record that does not describe a device: its number, its name if that is known, and the reason."""

    record: str
    name: str | None
    why: str


@dataclass
class MappingResult:
    """What a source says: devices by name with their attributes, where each record stands, and what could not
    be read. `raw` are the records themselves, where they were asked for."""

    devices: dict[str, dict[str, Any]] = field(default_factory=dict)
    records: dict[str, str] = field(default_factory=dict)
    wrong: list[RejectedRecord] = field(default_factory=list)
    passed_over: int = 0
    wrong_names: set[str] = field(default_factory=set)
    raw: dict[str, Mapping[str, Any]] = field(default_factory=dict)

    def cannot_be_read(self, record: str, name: str | None, why: str) -> None:
        self.wrong.append(RejectedRecord(record, name, why))
        if name is not None:
            self.wrong_names.add(name)

    @property
    def unnamed(self) -> bool:
        """Return whether some records have no device name."""
        return any(one.name is None for one in self.wrong)


def next_page(source: SourceSettings, page: Page) -> str | None:
    """Where the next page is. Raises StateError."""
    if source.following is None:
        return page.link
    found = _search(source, source.following, _json(source, page))
    if found is not None and not isinstance(found, str):
        raise _no(
            source, (f"'{source.following}' gives {str(found)[:60]!r} instead of the URL of the next page")
        )
    return found or None


def map_records(source: SourceSettings, pages: Sequence[Page], *, raw: bool = False) -> MappingResult:
    """The devices of all pages; the records too, if `raw`. Raises StateError when the answer is not of the
    form that the settings say, or is not whole."""
    made = MappingResult()
    number = 0
    for page in pages:
        for record in _records(source, page):
            number += 1
            if number > source.most_records:
                raise _no(
                    source,
                    f"it has more than {source.most_records} records (limit: 'records' in [sources.limits])",
                )
            if isinstance(record, str):
                made.cannot_be_read(f"record {number}", None, record)
                continue
            name = _take(source, record, _told(source, record) or f"record {number}", made)
            if raw and name is not None:
                made.raw[name] = record
    if source.count is not None:
        told = _search(source, source.count, _json(source, pages[0]))
        if not isinstance(told, int) or isinstance(told, bool):
            raise _no(source, f"'{source.count}' gives {str(told)[:60]!r} instead of a number of records")
        if told != number:
            raise _no(source, f"it announced {told} records and sent {number}; the listing is incomplete")
    return made


def _records(source: SourceSettings, page: Page) -> Iterator[Mapping[str, Any] | str]:
    """Yield each record, or the reason why one is not valid."""
    if source.format == CSV:
        yield from _rows(source, page.text)
        return
    if source.format == ZONE:
        try:
            yield from zones.zone_records(page.text, source.origin)
        except ValueError as wrong:
            raise _no(source, f"it is not a DNS zone: {wrong}") from None
        return
    data = _json(source, page)
    found = data if source.records is None else _search(source, source.records, data)
    if not isinstance(found, list):
        raise _no(source, f"'{source.records or '@'}' is not a list of records")
    for one in found:
        yield one if isinstance(one, dict) else {"value": one}


def _rows(source: SourceSettings, text: str) -> Iterator[Mapping[str, Any] | str]:
    """Yield the rows of a CSV file (RFC 4180) by the names of its columns; a row with more or fewer cells is
    an error of its own."""
    reader = csv.reader(text.splitlines(keepends=True), strict=True)
    heading: list[str] | None = None
    try:
        for row in reader:
            if not any(cell.strip() for cell in row):
                continue
            if heading is None:
                heading = [cell.strip().removeprefix("\ufeff") for cell in row]
                if len(set(heading)) < len(heading) or "" in heading:
                    raise _no(source, "the first line has a duplicate column, or one without a name")
            elif len(row) != len(heading):
                yield f"line {reader.line_num} has {len(row)} cells, the first line has {len(heading)}"
            else:
                yield {key: cell.strip() or None for key, cell in zip(heading, row, strict=True)}
    except csv.Error as wrong:
        raise _no(source, f"line {reader.line_num} is not valid CSV: {wrong}") from None
    if heading is None:
        raise _no(source, "it is empty")


def _take(source: SourceSettings, record: Mapping[str, Any], where: str, made: MappingResult) -> str | None:
    """The name of the device that a record is, if it is one."""
    try:
        if source.which is not None and not _truth(jmespath.search(source.which, record)):
            made.passed_over += 1
            return None
    except (JMESPathError, TypeError, ValueError) as wrong:
        made.cannot_be_read(
            where, None, (f"'{source.which}' cannot be applied to it: {str(wrong).splitlines()[0]}")
        )
        return None
    name: str | None = None
    try:
        name = _name(_value("name", source.attributes["name"], record))
        others = {key: mapped for key, mapped in source.attributes.items() if key != "name"}
        found = {
            key: value for key, mapped in others.items() if (value := _value(key, mapped, record)) is not None
        }
        for needed in ("address", "platform"):
            if needed not in found:
                raise ValueError(f"it has no '{needed}'")
        found["address"] = _address(found["address"])
    except ValueError as wrong:
        made.cannot_be_read(where, name, str(wrong))
        return None
    if name in made.devices:
        del made.devices[name]
        made.raw.pop(name, None)
        made.cannot_be_read(f"{made.records.pop(name)} and {where}", name, f"both have the name '{name}'")
    elif name in made.wrong_names:
        made.cannot_be_read(where, name, f"another record has the name '{name}', too")
    else:
        made.devices[name], made.records[name] = found, where
        return name
    return None


def _told(source: SourceSettings, record: Mapping[str, Any]) -> str | None:
    """The same as text."""
    name = record_name(source, record)
    return f"record {name}" if name is not None and name.isprintable() and len(name) <= LONGEST else None


def record_name(source: SourceSettings, record: Mapping[str, Any]) -> str | None:
    """What the source itself calls the record, if it says."""
    if source.record is None:
        return None
    try:
        found = jmespath.search(source.record, record)
    except (JMESPathError, TypeError, ValueError):
        return None
    return str(found) if isinstance(found, str | int) and not isinstance(found, bool) and str(found) else None


def _value(key: str, mapped: Mapped, record: Mapping[str, Any]) -> Any:
    """What a record says of an attribute; None for nothing. Raises ValueError."""
    try:
        found = mapped.search(record)
    except (JMESPathError, TypeError, ValueError) as wrong:
        raise ValueError(f"'{mapped.path}' cannot be applied to it: {str(wrong).splitlines()[0]}") from None
    if found in (None, "", []):
        return mapped.default
    values = found if isinstance(found, list) else [found]
    if not all(isinstance(one, str | int | float | bool) for one in values):
        raise ValueError(f"'{key}' must be a value or a list of values")
    if mapped.values:
        for one in values:
            if str(one) not in mapped.values and mapped.default is None:
                raise ValueError(f"'{key}' is '{str(one)[:60]}', which is missing in 'values'")
        values = [mapped.values.get(str(one), mapped.default) for one in values]
    values = [one.strip() if isinstance(one, str) else one for one in values]
    if any(isinstance(one, str) and (len(one) > LONGEST or not one.isprintable()) for one in values):
        raise ValueError(f"'{key}' is too long, or has unprintable characters")
    if key == "port":
        return _port(values[0])
    if key == "tags":
        return values
    if isinstance(found, list):
        return values
    return (
        values[0]
        if not isinstance(values[0], bool) and key not in ("platform", "address")
        else str(values[0])
    )


def _name(value: Any) -> str:
    if not isinstance(value, str | int) or not DEVICE_NAME.fullmatch(str(value)):
        raise ValueError(
            f"its name {str(value)[:60]!r} is not a valid device name"
            if value is not None
            else "it has no name"
        )
    return str(value)


def _address(value: Any) -> str:
    """Return an address, without its prefix length if it has one."""
    text = str(value)
    try:
        return str(ipaddress.ip_interface(text).ip)
    except ValueError:
        if not text.replace(".", "").replace("-", "").isalnum() or text.replace(".", "").isdigit():
            raise ValueError(f"'{text[:60]}' is not an address") from None
        return text


def _port(value: Any) -> int:
    if not str(value).isdecimal() or not 0 < int(value) < 65536:
        raise ValueError(f"its port '{str(value)[:20]}' is invalid")
    return int(value)


def _truth(value: Any) -> bool:
    """Truth as in JMESPath: null, false and everything empty are false."""
    return value not in (None, False, "", [], {})


def _json(source: SourceSettings, page: Page) -> Any:
    try:
        return strict_json(page.text)
    except ValueError as wrong:
        raise _no(source, f"its answer is not JSON ({str(wrong)[:80]})") from None


def _search(source: SourceSettings, path: str, data: Any) -> Any:
    try:
        return jmespath.search(path, data)
    except (JMESPathError, TypeError, ValueError) as wrong:
        raise _no(source, f"'{path}' cannot be applied to its answer: {str(wrong).splitlines()[0]}") from None


def _no(source: SourceSettings, what: str) -> StateError:
    return StateError(f"source '{source.name}': {what}", hint="the inventory is unchanged")
