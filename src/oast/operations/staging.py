"""Staging: what new devices are going to be given when they ask, made of the estate's own templates."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from cryptography import x509

from oast.errors import ErrorCollector, EstateError, OastError, StateError, UsageError
from oast.estate import (
    ATTRIBUTE,
    EXPECTED,
    Device,
    Estate,
    OnboardingSettings,
    YamlMap,
    device_of,
    is_expected,
    load_estate,
    put_onboarded,
    read_inventory,
    read_settings,
    remove_onboarded,
    row_of,
)
from oast.intent import Intent, IntentBuilder
from oast.onboard import (
    CONVEYED,
    Artifacts,
    Keys,
    NewDeviceStore,
    SignatureError,
    authorities,
    certificates_only,
    matches_owner,
    onboarding_information,
    read_keys,
    read_voucher,
    sign_data,
)
from oast.records import Place

SERIAL = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")
NEEDED = ("serial", "name", "address", "platform")
# As makers hand them out (RFC 8366).
ENDINGS = (".vcj", ".cms")


@dataclass(frozen=True)
class StagedRow:
    """A row of the file: the device it stages, or why it does not."""

    place: Place
    serial: str
    name: str
    wrong: tuple[str, ...] = ()
    hint: str | None = None
    device: Device | None = None
    given: Artifacts | None = None
    first: str = ""
    """Its first configuration, secrets masked."""
    intent: Intent | None = None
    """What it is going to be after its first delivery."""


def settings_of(folder: Path) -> OnboardingSettings:
    """Raises EstateError when nothing is said of onboarding."""
    found = read_settings(folder).onboarding
    if found is None:
        raise EstateError("oast.toml has no [onboarding]", hint="docs/onboarding.md")
    return found


class Staging:
    """Makes what the rows of a file say ready; every row by itself."""

    def __init__(self, folder: Path, environment: Mapping[str, str], at: datetime | None = None) -> None:
        """Raises StateError, EstateError when the keys or the maker's authorities cannot be read."""
        self._folder, self._environment = folder, environment
        self._settings = found = settings_of(folder)
        self._keys: Keys = read_keys(found.keys)
        self._trusted = authorities(found.voucher_authorities, "voucher authorities")
        self._at = at or datetime.now(UTC)
        self._estate: Estate | None = None

    def rows(self, path: Path, file: str) -> list[StagedRow]:
        """What becomes of each row. Raises EstateError when the file, or the estate with its devices in it,
        cannot be read."""
        rows: list[StagedRow] = []
        serials: dict[str, Place] = {}
        there = read_inventory(self._folder, ErrorCollector()).devices
        with NewDeviceStore(self._folder / ".oast") as boxes:
            expected = {box.name: box.serial for box in boxes.all()}
        taken = {device.address: name for name, device in there.items()}
        for place, cells in _cells(path, file):
            row = _row(place, cells, there, expected)
            if row.device is not None and row.serial in serials:
                row = replace(
                    row,
                    wrong=(f"duplicate serial number {row.serial}, also in {serials[row.serial]}",),
                    device=None,
                )
            elif row.device is not None and taken.get(row.device.address, row.name) != row.name:
                row = replace(
                    row,
                    wrong=(f"duplicate address {row.device.address}, also of {taken[row.device.address]}",),
                    device=None,
                )
            if row.device is not None:
                serials[row.serial], taken[row.device.address], expected[row.name] = (
                    place,
                    row.name,
                    row.serial,
                )
            rows.append(row)
        return self._made_ready(rows)

    def rows_of(self, staged: Mapping[str, Mapping[str, Any]], file: str) -> list[StagedRow]:
        """What becomes of devices that were recorded, by name `serial` and `attributes`. Raises EstateError,
        StateError."""
        rows = []
        for name, one in staged.items():
            attributes = YamlMap(file)
            attributes.update({key: value for key, value in one["attributes"].items() if key != "name"})
            rows.append(
                StagedRow(
                    Place(file), str(one["serial"]), name, device=device_of(name, attributes, Place(file))
                )
            )
        return self._made_ready(rows)

    @property
    def estate(self) -> Estate:
        """The estate with the devices in it, once their rows were made ready."""
        if self._estate is None:
            raise StateError("there are no rows to stage")
        return self._estate

    def _made_ready(self, rows: list[StagedRow]) -> list[StagedRow]:
        """Those whose voucher is right, with what they are given."""
        devices = [row.device for row in rows if row.device is not None]
        self._estate = estate = load_estate(self._folder, self._environment, besides=devices)
        whole, first = IntentBuilder(estate), IntentBuilder(estate, only=self._settings.first)
        made = []
        for row in rows:
            if row.device is not None:
                try:
                    voucher = self._voucher(row.serial)
                    intent = whole.build(row.device)
                    given, text = self._given(first, row.device, voucher)
                    row = replace(row, given=given, first=text, intent=intent)
                except OastError as error:
                    problems = error.problems()
                    told = (
                        p.message if p.place in (None, row.place) else f"{p.message} ({p.place})"
                        for p in problems
                    )
                    row = replace(row, wrong=tuple(told), hint=problems[0].hint, device=None)
            made.append(row)
        return made

    def _voucher(self, serial: str) -> bytes:
        folder = self._settings.vouchers
        path = next((path for ending in ENDINGS if (path := folder / f"{serial}{ending}").is_file()), None)
        if path is None:
            raise StateError(
                f"the voucher {folder / serial}{ENDINGS[0]} is missing",
                hint="get it from the manufacturer of the device",
            )
        try:
            message = path.read_bytes()
        except OSError as error:
            raise StateError(f"cannot read the voucher {path}: {error.strerror}") from None
        try:
            why = matches_owner(read_voucher(message, self._trusted, self._at), serial, self._keys.owner)
        except SignatureError as wrong:
            why = str(wrong)
        if why is not None:
            raise StateError(f"the voucher {path.name} is invalid: {why}")
        return message

    def _given(self, first: IntentBuilder, device: Device, voucher: bytes) -> tuple[Artifacts, str]:
        """The device's first configuration, signed; and as it may be shown. Raises EstateError with what is
        wrong in it."""
        try:
            first.concerned([device])
        except EstateError:
            message = f"it has none of the sections in 'first' ({', '.join(self._settings.first)})"
            raise EstateError(message, place=self._settings.place) from None
        syntax, tree = first.syntax(device), first.build(device).tree
        text = syntax.written(tree)
        own: tuple[x509.Certificate, ...] = (self._keys.signer, self._keys.owner)
        information = sign_data(
            onboarding_information(text), CONVEYED, self._keys.signer, self._keys.signer_key
        )
        return Artifacts(information, certificates_only(own), voucher), syntax.masked(tree)


def _row(
    place: Place, cells: Mapping[str, str] | str, there: Mapping[str, Device], expected: Mapping[str, str]
) -> StagedRow:
    """Read a row, as far as the row itself, the inventory, and the devices that are `expected` allow it."""
    if isinstance(cells, str):
        return StagedRow(place, "", "", (cells,))
    serial, name = cells.get("serial", ""), cells.get("name", "")
    missing = [key for key in NEEDED if not cells.get(key)]
    if missing:
        return StagedRow(place, serial, name, (f"it has no {' and no '.join(missing)}",))
    if not SERIAL.fullmatch(serial):
        return StagedRow(place, serial, name, (f"'{serial[:60]}' is not a valid serial number",))
    if name in there and not is_expected(there[name]):
        return StagedRow(place, serial, name, (f"{name} is already in the inventory ({there[name].place})",))
    if expected.get(name, serial) != serial:
        return StagedRow(
            place, serial, name, (f"{name} is already expected with the serial number {expected[name]}",)
        )
    if ATTRIBUTE in cells:
        return StagedRow(place, serial, name, (f"the attribute '{ATTRIBUTE}' cannot be set",))
    try:
        return StagedRow(place, serial, name, device=device_of(*row_of(dict(cells), place)))
    except EstateError as error:
        return StagedRow(place, serial, name, (error.message,), error.hint)


def stage(folder: Path, rows: list[StagedRow], change: str | None = None) -> list[str]:
    """Expect the devices of the rows that are right, as the approved `change` says, if there is one; their
    serial numbers. From then on the inventory knows them, and nothing is done to them. Raises StateError,
    EstateError."""
    right = {row.name: row for row in rows if row.device is not None and row.given is not None}
    attributes = {
        name: {**row.device.attributes, ATTRIBUTE: EXPECTED} for name, row in right.items() if row.device
    }
    put_onboarded(folder, attributes, {name: row.serial for name, row in right.items()})
    with NewDeviceStore(folder / ".oast") as boxes:
        for name, row in right.items():
            if row.given is not None:
                boxes.stage(row.serial, name, attributes[name], row.given, change)
    return [row.serial for row in right.values()]


def forget(folder: Path, serial: str) -> None:
    """Expect a device no longer. Raises StateError, UsageError when it is not expected."""
    with NewDeviceStore(folder / ".oast") as boxes:
        box = boxes.one(serial)
        if box is None:
            raise UsageError(
                f"no new device with the serial number {serial} is expected", hint="oast onboard status"
            )
        remove_onboarded(folder, [box.name])
        boxes.forget(serial)


def _cells(path: Path, file: str) -> Iterator[tuple[Place, Mapping[str, str] | str]]:
    """The rows of a CSV file (RFC 4180); for one that has more or fewer cells than the heading, what is wrong
    with it."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise EstateError(f"the file is not UTF-8 text (byte {error.start})", place=Place(file)) from None
    except OSError as error:
        raise StateError(f"cannot read {path}: {error.strerror}") from None
    reader = csv.reader(text.splitlines(keepends=True), strict=True)
    heading: list[str] | None = None
    try:
        for row in reader:
            place = Place(file, reader.line_num)
            if not any(cell.strip() for cell in row):
                continue
            if heading is None:
                heading = [cell.strip() for cell in row]
                missing = [name for name in NEEDED if name not in heading]
                if missing or len(set(heading)) < len(heading) or "" in heading:
                    what = (
                        f"no column '{missing[0]}'"
                        if missing
                        else ("a duplicate column, or one without a name")
                    )
                    raise EstateError(
                        f"the heading has {what}",
                        place=place,
                        hint=f"begin the file with the columns, such as {','.join(NEEDED)},site,role",
                    )
            elif len(row) != len(heading):
                yield place, f"this row has {len(row)} cells, the heading {len(heading)}"
            else:
                yield place, {key: cell.strip() for key, cell in zip(heading, row, strict=True)}
    except csv.Error as wrong:
        raise EstateError(f"this is not valid CSV: {wrong}", place=Place(file, reader.line_num)) from None
    if heading is None:
        raise EstateError(
            "the file is empty",
            place=Place(file),
            hint=f"begin it with the columns, such as {','.join(NEEDED)},site,role",
        )
