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

from oast.errors import EstateError, OastError, StateError
from oast.estate.estate import Estate
from oast.estate.inventory import Device, device_of, row_of
from oast.estate.onboarding import OnboardingSettings
from oast.intent.intent import IntentBuilder
from oast.onboarding import cms, conveyed, keys, trust, vouchers
from oast.onboarding.cms import NotAsSigned
from oast.onboarding.keys import Keys
from oast.onboarding.store import Artifacts, Boxes
from oast.records import Place

SERIAL = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")
NEEDED = ("serial", "name", "address", "platform")
# As makers hand them out (RFC 8366).
ENDINGS = (".vcj", ".cms")


@dataclass(frozen=True)
class Row:
    """A row of the file: the device it stages, or why it does not."""

    place: Place
    serial: str
    name: str
    wrong: tuple[str, ...] = ()
    hint: str | None = None
    device: Device | None = None
    given: Artifacts | None = None


def settings_of(estate: Estate) -> OnboardingSettings:
    """Raises EstateError when nothing is said of onboarding."""
    if estate.settings.onboarding is None:
        raise EstateError("oast.toml says nothing of onboarding: there is no [onboarding]", hint="docs/onboarding.md")
    return estate.settings.onboarding


class Staging:
    """Makes what the rows of a file say ready; every row by itself."""

    def __init__(self, estate: Estate, at: datetime | None = None) -> None:
        """Raises StateError, EstateError when the keys or the maker's authorities cannot be read."""
        self._estate = estate
        self._settings = settings_of(estate)
        self._keys: Keys = keys.read(self._settings.keys)
        self._trusted = trust.authorities(self._settings.voucher_authorities, "the authorities of vouchers")
        self._at = at or datetime.now(UTC)
        known = {use.name for use in IntentBuilder(estate).uses}
        for name in self._settings.first:
            if name not in known:
                raise EstateError(f"there is no section '{name}' in intent.yaml", place=self._settings.place)

    def rows(self, path: Path, file: str) -> list[Row]:
        """What becomes of each row. Raises EstateError when the file as a whole cannot be read."""
        found: list[Row] = []
        serials: dict[str, Place] = {}
        taken = {device.address: name for name, device in self._estate.devices.items()}
        with Boxes(self._estate.working) as boxes:
            expected = {box.name: box.serial for box in boxes.all()}
        for place, cells in _cells(path, file):
            row = self._row(place, cells, expected)
            if row.device is not None and row.serial in serials:
                row = replace(row, wrong=(f"the serial number {row.serial} is in {serials[row.serial]} already",), device=None)
            elif row.device is not None and (other := taken.get(row.device.address)) is not None:
                row = replace(row, wrong=(f"the address {row.device.address} is that of {other}",), device=None)
            if row.device is not None:
                serials[row.serial], taken[row.device.address], expected[row.name] = place, row.name, row.serial
            found.append(row)
        return found

    def _row(self, place: Place, cells: Mapping[str, str] | str, expected: Mapping[str, str]) -> Row:
        if isinstance(cells, str):
            return Row(place, "", "", (cells,))
        serial, name = cells.get("serial", ""), cells.get("name", "")
        missing = [key for key in NEEDED if not cells.get(key)]
        if missing:
            return Row(place, serial, name, (f"it has no {' and no '.join(missing)}",))
        if not SERIAL.fullmatch(serial):
            return Row(place, serial, name, (f"'{serial[:60]}' cannot be a serial number",))
        if name in self._estate.devices:
            return Row(place, serial, name, (f"{name} is in the inventory already ({self._estate.devices[name].place})",))
        if expected.get(name, serial) != serial:
            return Row(place, serial, name, (f"{name} is expected with the serial number {expected[name]} already",))
        try:
            device = device_of(*row_of(dict(cells), place))
            voucher = self._voucher(serial)
            return Row(place, serial, name, device=device, given=self._given(device, voucher))
        except OastError as error:
            problems = error.problems()
            told = (p.message if p.place in (None, place) else f"{p.message} ({p.place})" for p in problems)
            return Row(place, serial, name, tuple(told), problems[0].hint)

    def _voucher(self, serial: str) -> bytes:
        folder = self._settings.vouchers
        path = next((path for ending in ENDINGS if (path := folder / f"{serial}{ending}").is_file()), None)
        if path is None:
            raise StateError(f"there is no voucher: {folder / serial}{ENDINGS[0]}", hint="whoever has made the device hands it out")
        try:
            message = path.read_bytes()
        except OSError as error:
            raise StateError(f"the voucher {path} cannot be read: {error.strerror}") from None
        try:
            why = vouchers.is_of(vouchers.read(message, self._trusted, self._at), serial, self._keys.owner)
        except NotAsSigned as wrong:
            why = str(wrong)
        if why is not None:
            raise StateError(f"the voucher {path.name} is not right: {why}")
        return message

    def _given(self, device: Device, voucher: bytes) -> Artifacts:
        """The device's first configuration, signed. Raises EstateError with what is wrong in it, or in what it is going to be for life."""
        estate = replace(self._estate, devices={**self._estate.devices, device.name: device})
        IntentBuilder(estate).build(device)
        first = IntentBuilder(estate, only=self._settings.first)
        if not first.concerned([device]):
            raise EstateError(f"none of its sections is one of 'first' ({', '.join(self._settings.first)})", place=self._settings.place)
        text = first.syntax(device).written(first.build(device).tree)
        own: tuple[x509.Certificate, ...] = (self._keys.signer, self._keys.owner)
        information = cms.signed(conveyed.onboarding(text), cms.CONVEYED, self._keys.signer, self._keys.signer_key)
        return Artifacts(information, cms.certificates_only(own), voucher)


def stage(estate: Estate, rows: list[Row]) -> list[str]:
    """Expect the devices of the rows that are right; their serial numbers."""
    staged = []
    with Boxes(estate.working) as boxes:
        for row in rows:
            if row.device is not None and row.given is not None:
                attributes: dict[str, Any] = dict(row.device.attributes)
                boxes.stage(row.serial, row.name, attributes, row.given)
                staged.append(row.serial)
    return staged


def _cells(path: Path, file: str) -> Iterator[tuple[Place, Mapping[str, str] | str]]:
    """The rows of a CSV file (RFC 4180); for one that has more or fewer cells than the heading, what is wrong with it."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise EstateError(f"the file is not UTF-8 text (byte {error.start})", place=Place(file)) from None
    except OSError as error:
        raise StateError(f"{path} cannot be read: {error.strerror}") from None
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
                    what = f"no column '{missing[0]}'" if missing else "a column twice, or one without a name"
                    raise EstateError(f"the heading has {what}", place=place, hint=f"it names the columns: {','.join(NEEDED)},site,role")
            elif len(row) != len(heading):
                yield place, f"it has {len(row)} of the {len(heading)} cells that the heading has"
            else:
                yield place, {key: cell.strip() for key, cell in zip(heading, row, strict=True)}
    except csv.Error as wrong:
        raise EstateError(f"this is no CSV: {wrong}", place=Place(file, reader.line_num)) from None
    if heading is None:
        raise EstateError("the file is empty", place=Place(file), hint=f"its first line names the columns: {','.join(NEEDED)},site,role")
