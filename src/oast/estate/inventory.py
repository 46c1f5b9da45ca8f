"""The inventory: devices and their attributes, from every YAML file in `inventory/`. The page:
docs/estate.md."""

from __future__ import annotations

import csv
import ipaddress
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from oast.errors import ErrorCollector, EstateError
from oast.estate import inventory_file as sourced, yaml_text
from oast.estate.management import ManagementAccess, management_access
from oast.estate.selectors import Attributes
from oast.estate.yaml_text import YamlList, YamlMap
from oast.records import OF_DEVICES, Place, Problem
from oast.spelling import spelling_hint
from oast.text_file import read_text_file

DEVICE_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
# The files that Oast writes itself: what sources say, below whatever the engineer has written.
OWNED = sourced.ENDING
SUFFIXES = (*yaml_text.YAML_SUFFIXES, ".csv")
_HOST = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9.-]{0,252})")


@dataclass(frozen=True, slots=True)
class InventoryEntry:
    """The origin of an attribute from an outside source, as text: the record it comes from."""

    value: Any
    place: Place
    source: str


@dataclass(frozen=True)
class Device:
    """One device: `attributes` are all that the inventory says of it, the name included; `address` is an IP
    address or a host name. `told` is what sources outside say, by attribute; what the engineer wrote wins
    over it."""

    name: str
    address: str
    platform: str
    port: int | None
    attributes: Mapping[str, Any]
    known_by: Attributes
    place: Place
    places: Mapping[str, Place]
    told: Mapping[str, tuple[InventoryEntry, ...]] = field(default_factory=dict)
    management: ManagementAccess = field(default_factory=lambda: ManagementAccess(""))


@dataclass(frozen=True)
class Link:
    """A cable: two (device, interface) ends."""

    one: tuple[str, str]
    other: tuple[str, str]
    place: Place


def _files(folder: Path) -> list[Path]:
    try:
        every = sorted((folder / "inventory").iterdir())
    except (FileNotFoundError, NotADirectoryError):
        return []
    return [path for path in every if path.suffix in SUFFIXES and not path.name.startswith(".")]


@dataclass(frozen=True)
class Inventory:
    """The devices by name, in file and then written order; `unusable` are those that are written down
    wrongly, by what they say."""

    devices: dict[str, Device]
    unusable: dict[str, Attributes]
    is_whole: bool = True
    """Whether every file could be read to its end."""

    @property
    def known_by(self) -> list[Attributes]:
        """What there is to pick, right or wrong: a mistake in a device is not one in every selector that
        means it."""
        return [*(device.known_by for device in self.devices.values()), *self.unusable.values()]

    def knows(self, name: str) -> bool:
        """Whether the inventory has a device of that name, right or wrong."""
        return name in self.devices or name in self.unusable


def read_inventory(folder: Path, mistakes: ErrorCollector) -> Inventory:
    """The inventory of the estate in `folder`; what is wrong goes to `mistakes`."""
    files = _files(folder)
    if not files:
        with mistakes.collected():
            raise EstateError(
                "the estate has no inventory", place=Place("inventory"), hint="write inventory/devices.yaml"
            )
    devices: dict[str, Device] = {}
    unusable: dict[str, Attributes] = {}
    is_whole = True
    outside = _outside([path for path in files if path.name.endswith(OWNED)], mistakes)
    for path in files:
        if path.name.endswith(OWNED):
            continue
        file = f"inventory/{path.name}"
        is_read = False
        with mistakes.collected():
            for name, attributes, place in (
                _rows(path, file, unusable, mistakes) if path.suffix == ".csv" else _entries(path, file)
            ):
                told = outside.pop(name, None)
                unusable[name] = _loosely(
                    name,
                    (
                        {**(told.attributes if told else {}), **attributes}
                        if isinstance(attributes, dict)
                        else None
                    ),
                )
                with mistakes.collected():
                    if name in devices:
                        message = f"duplicate device '{name}', also in {devices[name].place}"
                        raise EstateError(message, place=place, hint="remove one of the two")
                    devices[name] = device_of(name, attributes, place, told)
            is_read = True
        is_whole = is_whole and is_read
    for name, told in outside.items():
        unusable[name] = _loosely(name, told.attributes)
        with mistakes.collected():
            devices[name] = device_of(name, YamlMap(told.attributes.file), told.place, told)
    rest = {name: known_by for name, known_by in unusable.items() if name not in devices}
    return Inventory(devices, rest, is_whole)


@dataclass(frozen=True)
class _Outside:
    """What a source says of one device, in the file that Oast has written for it."""

    attributes: YamlMap
    place: Place
    source: str
    paths: Mapping[str, str]

    @property
    def told(self) -> dict[str, tuple[InventoryEntry, ...]]:
        """Each attribute with where in the record it stood."""
        found: dict[str, tuple[InventoryEntry, ...]] = {}
        for key, value in self.attributes.items():
            path = self.paths.get(key)
            found[key] = (
                InventoryEntry(
                    value, self.attributes.place(key), f"{self.source}: {path}" if path else self.source
                ),
            )
        return found


def _outside(files: Sequence[Path], mistakes: ErrorCollector) -> dict[str, _Outside]:
    """The devices of all sources, by name."""
    found: dict[str, _Outside] = {}
    for path in files:
        file = f"inventory/{path.name}"
        with mistakes.collected():
            read_file, source = sourced.read_sourced_devices(path, file), path.name.removesuffix(OWNED)
            devices, records, paths = read_file.devices, read_file.records, read_file.paths
            for name, attributes in devices.items():
                with mistakes.collected():
                    place = devices.place(name)
                    if not isinstance(attributes, YamlMap):
                        raise EstateError(
                            f"the device '{name}' has no attributes", place=place, hint="oast source refresh"
                        )
                    if name in found:
                        message = f"two sources list the device '{name}'; also in {found[name].place}"
                        raise EstateError(
                            message, place=place, hint="exclude it from one of them with 'which' in oast.toml"
                        )
                    record = records.get(name)
                    found[name] = _Outside(
                        attributes, place, f"source {source}" + (f", {record}" if record else ""), paths
                    )
    return found


def _loosely(name: str, attributes: Any) -> Attributes:
    """Return the name and the attributes that selectors match, as far as they can be read."""
    known_by: dict[str, frozenset[str]] = {"name": frozenset((name,))}
    for key, value in attributes.items() if isinstance(attributes, dict) else ():
        values = value if isinstance(value, list) else [value]
        known_by["tag" if key == "tags" else key] = frozenset(
            _text(v) for v in values if not isinstance(v, (dict, list))
        )
    return known_by


def read_links(folder: Path, inventory: Inventory, mistakes: ErrorCollector) -> tuple[Link, ...]:
    """The links of the inventory: `links:` with an item `[DEVICE INTERFACE, DEVICE INTERFACE]` each."""
    links: list[Link] = []
    ends: dict[tuple[str, str], Place] = {}
    for path in _files(folder):
        if path.name.endswith(OWNED):
            continue  # no source knows of cables
        try:
            data = (
                yaml_text.read_yaml_map(path, f"inventory/{path.name}")
                if path.suffix != ".csv"
                else YamlMap("")
            )
        except EstateError:
            continue  # told when the devices were read
        written = data.get("links") or YamlList(data.file)
        with mistakes.collected():
            if not isinstance(written, YamlList):
                hint = "write '- [DEVICE INTERFACE, DEVICE INTERFACE]'"
                raise EstateError("'links' must be a list", place=data.place("links"), hint=hint)
            for index, item in enumerate(written):
                with mistakes.collected():
                    links.append(_link(item, written.place(index), inventory, ends))
    return tuple(links)


def _link(item: Any, place: Place, inventory: Inventory, ends: dict[tuple[str, str], Place]) -> Link:
    if (
        not isinstance(item, list)
        or len(item) != 2
        or not all(isinstance(e, str) and len(e.split()) == 2 for e in item)
    ):
        raise EstateError(
            "this is not a link", place=place, hint="write '- [DEVICE INTERFACE, DEVICE INTERFACE]'"
        )
    one, other = ((e.split()[0], e.split()[1]) for e in item)
    for end in (one, other):
        if not inventory.knows(end[0]):
            hint = spelling_hint(end[0], inventory.devices)
            raise EstateError.of([Problem(f"there is no device '{end[0]}'", place, hint, subject=OF_DEVICES)])
        if end in ends:
            raise EstateError(
                f"{end[0]} {end[1]} already has a link in {ends[end]}",
                place=place,
                hint="remove one of the two: an interface has one link",
            )
        ends[end] = place
    return Link(one, other, place)


def _entries(path: Path, file: str) -> Iterator[tuple[str, Any, Place]]:
    """The devices of a YAML file."""
    data = yaml_text.read_yaml_map(path, file)
    for key in data:
        if key not in ("devices", "links"):
            hint = spelling_hint(key, ["devices", "links"])
            raise EstateError(f"unknown key '{key}' in an inventory file", place=data.place(key), hint=hint)
    written = data.get("devices") or YamlMap(file)
    if not isinstance(written, YamlMap):
        raise EstateError("'devices' must contain 'NAME:' with attributes below", place=data.place("devices"))
    for name, attributes in written.items():
        yield name, attributes, written.place(name)


def _rows(
    path: Path, file: str, unusable: dict[str, Attributes], mistakes: ErrorCollector
) -> Iterator[tuple[str, Any, Place]]:
    """The devices of a CSV file (RFC 4180): a heading with `name`, then a row each; an empty cell is no
    attribute. A row that is wrong is a mistake of that row alone; its device is `unusable`."""
    lines = read_text_file(path, file).splitlines(keepends=True)
    _require_closed_quotes(lines, file)
    reader = csv.reader(lines)
    heading: list[str] | None = None
    for row in reader:
        place = Place(file, reader.line_num)
        if not any(cell.strip() for cell in row):
            continue
        if heading is None:
            heading = _heading(row, place)
        elif len(row) == len(heading):
            yield row_of(dict(zip(heading, row, strict=True)), place)
        else:
            name, attributes, _ = row_of({"name": "", **dict(zip(heading, row, strict=False))}, place)
            if name:
                unusable[name] = _loosely(name, attributes)
            with mistakes.collected():
                raise EstateError(
                    f"this row has {len(row)} cells, the heading {len(heading)}",
                    place=place,
                    hint="leave a cell empty for a missing value; put a cell with a comma in double quotes",
                )
    if heading is None:
        raise EstateError(
            "the file is empty", place=Place(file), hint="begin it with a heading: name,address,platform"
        )


def _heading(row: Sequence[str], place: Place) -> list[str]:
    """The names of the columns. Raises EstateError."""
    heading = [cell.strip() for cell in row]
    if "name" in heading and len(set(heading)) == len(heading) and "" not in heading:
        return heading
    mark = next((mark for mark in (";", "\t", "|") if len(heading) == 1 and mark in heading[0]), None)
    if mark is not None:
        shown = "a tab" if mark == "\t" else f"'{mark}'"
        raise EstateError(
            f"the columns are separated by {shown}, not by ','", place=place, hint="save it with commas"
        )
    twice = next((name for name in heading if name and heading.count(name) > 1), None)
    if twice is not None:
        message, hint = f"the column '{twice}' is there twice", "remove or rename one of the two"
    elif "" in heading:
        message, hint = "a column has no name", "name every column in the first line"
    else:
        message, hint = "the heading has no column 'name'", spelling_hint("name", heading)
    raise EstateError(message, place=place, hint=hint)


def _require_closed_quotes(lines: Sequence[str], file: str) -> None:
    """A quote that is not closed would take all rows after it into one cell. Raises EstateError at the line
    where it opens."""
    begun: int | None = None
    for number, line in enumerate(lines, 1):
        if begun is not None:
            begun = begun if line.count('"') % 2 == 0 else None
        # A quote opens a cell only at its beginning.
        elif (line.startswith('"') or ',"' in line) and line.count('"') % 2:
            begun = number
    if begun is not None:
        raise EstateError(
            "a quote is not closed", place=Place(file, begun), hint="add the closing double quote"
        )


def row_of(cells: dict[str, str], place: Place) -> tuple[str, Any, Place]:
    """A device's name, attributes and place, of the cells of a row by the names of their columns."""
    attributes = YamlMap(place.file)
    for key, cell in cells.items():
        value = cell.strip()
        if key != "name" and value:
            attributes[key] = _cell(key, value)
            attributes.lines[key] = place.line or 0
    return cells["name"].strip(), attributes, place


def _cell(key: str, value: str) -> Any:
    """The same value as in YAML: tags are a list, separated by semicolons or spaces; a port is a number."""
    if key == "tags":
        return [tag for tag in re.split(r"[;\s]+", value) if tag]
    return int(value) if key == "port" and re.fullmatch("[0-9]{1,9}", value) else value


def device_of(name: str, attributes: Any, place: Place, outside: _Outside | None = None) -> Device:
    """`attributes` are the engineer's own, and win over those from `outside`. Raises EstateError."""
    told: dict[str, tuple[InventoryEntry, ...]] = {}
    if outside is not None and isinstance(attributes, YamlMap):
        own, attributes = attributes, _over(attributes, outside.attributes)
        told = outside.told
        places = {
            **{key: outside.attributes.place(key) for key in outside.attributes},
            **{key: own.place(key) for key in own},
        }
    elif isinstance(attributes, YamlMap):
        places = {key: attributes.place(key) for key in attributes}
    if not DEVICE_NAME.fullmatch(name):
        raise EstateError(
            f"'{name}' is not a valid device name", place=place, hint="use letters, digits, . _ and -"
        )
    if not isinstance(attributes, YamlMap):
        raise EstateError(
            f"the device '{name}' has no attributes",
            place=place,
            hint="add at least address and platform",
        )
    for needed in ("address", "platform"):
        if not isinstance(attributes.get(needed), str):
            raise EstateError(
                f"the device '{name}' has no '{needed}'",
                place=place,
                hint=f"add '{needed}: ...' below its name",
            )
    if "name" in attributes:
        raise EstateError(
            "'name' is not an attribute; the key of the entry is the device's name",
            place=places["name"],
            hint="remove this line",
        )
    known_by: dict[str, frozenset[str]] = {"name": frozenset((name,))}
    for key, value in attributes.items():
        values = value if isinstance(value, list) else [value]
        if any(isinstance(v, (dict, list)) for v in values):
            message = f"the attribute '{key}' must be a value or a list of values"
            raise EstateError(message, place=places[key], hint="move data for templates to values/")
        known_by["tag" if key == "tags" else key] = frozenset(_text(v) for v in values if v is not None)
    address, port = _address(attributes, places), _port(attributes, places)
    return Device(
        name,
        address,
        attributes["platform"],
        port,
        {"name": name, **attributes},
        known_by,
        place,
        places,
        told,
        management_access(address, port, attributes, places),
    )


def _over(own: YamlMap, outside: YamlMap) -> YamlMap:
    """Both, the engineer's own last."""
    both = YamlMap(own.file)
    both.update({**outside, **own})
    both.lines = {**outside.lines, **own.lines}
    return both


def _text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def _address(attributes: YamlMap, places: Mapping[str, Place]) -> str:
    address: str = attributes["address"]
    try:
        return str(ipaddress.ip_address(address))
    except ValueError:
        if not _HOST.fullmatch(address) or re.fullmatch(r"[0-9.]+", address):
            raise EstateError(f"'{address}' is not an address", place=places["address"]) from None
        return address


def _port(attributes: YamlMap, places: Mapping[str, Place]) -> int | None:
    """The port, where one is said."""
    port = attributes.get("port")
    if port is None and "port" not in attributes:
        return None
    if not isinstance(port, int) or isinstance(port, bool) or not 0 < port < 65536:
        raise EstateError("'port' must be a number from 1 to 65535", place=places["port"])
    return port
