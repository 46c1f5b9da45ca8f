"""The inventory: devices and their attributes, from every YAML file in `inventory/`. The page: docs/estate.md."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.estate import yaml_text
from oast.estate.selectors import Attributes
from oast.estate.yaml_text import YamlMap
from oast.nearest import suggestion
from oast.records import Place, Problem

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
_HOST = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9.-]{0,252})")


@dataclass(frozen=True)
class Device:
    """One device: `attributes` are all that the inventory says of it, the name included; `address` is an IP address or a host name."""

    name: str
    address: str
    platform: str
    port: int
    attributes: Mapping[str, Any]
    known_by: Attributes
    place: Place


def read(folder: Path) -> dict[str, Device]:
    """All devices of the estate in `folder`, by name, in file and then written order. Raises EstateError."""
    files = sorted((folder / "inventory").glob("*.yaml"))
    if not files:
        raise EstateError("the estate has no inventory", place=Place("inventory"), hint="write inventory/devices.yaml")
    devices: dict[str, Device] = {}
    problems: list[Problem] = []
    for path in files:
        shown = f"inventory/{path.name}"
        data = yaml_text.read_map(path, shown)
        for key in data:
            if key != "devices":
                problems.append(Problem(f"'{key}' is not known in an inventory file", data.place(key), suggestion(key, ["devices"])))
        written = data.get("devices") or YamlMap(shown)
        if not isinstance(written, YamlMap):
            raise EstateError("'devices' has to hold 'NAME:' with attributes below", place=data.place("devices"))
        for name, attributes in written.items():
            place = written.place(name)
            try:
                if name in devices:
                    raise EstateError(f"the device '{name}' is already in {devices[name].place}", place=place, hint="keep one of the two")
                devices[name] = _device(name, attributes, place)
            except EstateError as error:
                problems.extend(error.problems())
    if problems:
        raise EstateError.of(problems)
    return devices


def _device(name: str, attributes: Any, place: Place) -> Device:
    if not NAME.fullmatch(name):
        raise EstateError(f"'{name}' cannot be a device's name", place=place, hint="use letters, digits, . _ and -")
    if not isinstance(attributes, YamlMap):
        raise EstateError(f"the device '{name}' has no attributes", place=place, hint="it needs at least address and platform")
    for needed in ("address", "platform"):
        if not isinstance(attributes.get(needed), str):
            raise EstateError(f"the device '{name}' lacks '{needed}'", place=place, hint=f"add '{needed}: ...' below its name")
    if "name" in attributes:
        raise EstateError("'name' is the device's key, not an attribute", place=attributes.place("name"), hint="remove this line")
    known_by: dict[str, frozenset[str]] = {"name": frozenset((name,))}
    for key, value in attributes.items():
        values = value if isinstance(value, list) else [value]
        if any(isinstance(v, (dict, list)) for v in values):
            message = f"the attribute '{key}' is neither a value nor a list of values"
            raise EstateError(message, place=attributes.place(key), hint="data for templates belongs in values/")
        known_by["tag" if key == "tags" else key] = frozenset(_text(v) for v in values if v is not None)
    return Device(
        name,
        _address(attributes),
        attributes["platform"],
        _port(attributes),
        {"name": name, **attributes},
        known_by,
        place,
    )


def _text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def _address(attributes: YamlMap) -> str:
    address: str = attributes["address"]
    try:
        return str(ipaddress.ip_address(address))
    except ValueError:
        if not _HOST.fullmatch(address) or re.fullmatch(r"[0-9.]+", address):
            raise EstateError(f"'{address}' is not an address", place=attributes.place("address")) from None
        return address


def _port(attributes: YamlMap) -> int:
    port = attributes.get("port", 22)
    if not isinstance(port, int) or isinstance(port, bool) or not 0 < port < 65536:
        raise EstateError("'port' has to be a number from 1 to 65535", place=attributes.place("port"))
    return port
