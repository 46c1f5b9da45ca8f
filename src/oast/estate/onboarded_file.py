"""inventory/onboarded.source.yaml: the devices that have come by themselves, or are expected to; a file that
Oast writes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from oast.errors import StateError
from oast.estate import inventory_file as sourced
from oast.estate.inventory import Device
from oast.files import directory_lock, write_whole

SOURCE = "onboarded"
ONBOARDED_FILE = f"inventory/{SOURCE}{sourced.ENDING}"
# An attribute of a device that is not there yet: nothing is done to it, and nothing is expected of it.
ATTRIBUTE, EXPECTED = "onboarding", "expected"


def is_expected(device: Device) -> bool:
    """Whether the device is still to come."""
    return device.attributes.get(ATTRIBUTE) == EXPECTED


def put_onboarded(folder: Path, devices: Mapping[str, Mapping[str, Any]], serials: Mapping[str, str]) -> None:
    """Write devices, by their names with their attributes and serial numbers, beside those that are there.
    Raises StateError, EstateError."""

    def change(there: dict[str, dict[str, Any]], records: dict[str, str]) -> None:
        there.update(
            {
                name: {key: value for key, value in one.items() if key != "name"}
                for name, one in devices.items()
            }
        )
        records.update({name: f"serial number {serials[name]}" for name in devices})

    _change(folder, change)


def remove_onboarded(folder: Path, names: Sequence[str]) -> None:
    """Take away those of the devices that are still expected. Raises StateError, EstateError."""

    def change(there: dict[str, dict[str, Any]], records: dict[str, str]) -> None:
        for name in names:
            if there.get(name, {}).get(ATTRIBUTE) == EXPECTED:
                del there[name]
                records.pop(name, None)

    _change(folder, change)


def _change(folder: Path, change: Callable[[dict[str, dict[str, Any]], dict[str, str]], None]) -> None:
    path = folder / ONBOARDED_FILE
    try:
        with directory_lock(path.parent):
            there: dict[str, dict[str, Any]] = {}
            records: dict[str, str] = {}
            if path.exists():
                read = sourced.read_sourced_devices(path, ONBOARDED_FILE)
                there = {str(name): dict(attributes or {}) for name, attributes in read.devices.items()}
                records = dict(read.records)
            change(there, records)
            if there:
                write_whole(path, sourced.inventory_text(SOURCE, {}, there, records))
            else:
                path.unlink(missing_ok=True)
    except OSError as error:
        raise StateError(f"cannot write {ONBOARDED_FILE}: {error.strerror or error}") from None
