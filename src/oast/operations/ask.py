"""Asking devices: one reading of many as records, or what a command lists on each. Nothing is changed on any
of them."""

from __future__ import annotations

import difflib
import ipaddress
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import jmespath
from jmespath.exceptions import JMESPathError

from oast.config import IndentedSyntax, secrets_below
from oast.connect import Session
from oast.errors import DeviceError, UsageError
from oast.estate import Device, Estate
from oast.fleet import OnEvent, ignore_event
from oast.intent import IntentBuilder
from oast.operations.per_device import run_on_devices
from oast.platforms import READINGS, TEXT, FieldType, Platform
from oast.readings import OtherValue, Record, condition, natural_sort_key, read_readings, to_json, to_text
from oast.spelling import spelling_hint

DEVICE = "device"
UNIFIED = 3


@dataclass(frozen=True)
class QueryResult:
    """One reading of many devices: the records of each that answered, and why the others did not; both in the
    order of the inventory."""

    reading: str
    fields: Mapping[str, FieldType]
    records: Mapping[str, Sequence[Record]]
    failed: tuple[tuple[str, DeviceError], ...]
    logs: Path

    def where(self, text: str) -> QueryResult:
        """Only the records that the expression `text` means; `device` is a field, too. Raises EstateError."""
        meant = condition(text, {DEVICE: TEXT, **self.fields})
        kept = {
            name: [one for one in records if meant({DEVICE: name, **one})]
            for name, records in self.records.items()
        }
        return QueryResult(self.reading, self.fields, kept, self.failed, self.logs)

    def rows(self, sort: str | None = None, *, descending: bool = False) -> list[Record]:
        """All records, each with its device, in order of the inventory, or of the field `sort`."""
        rows: list[Record] = [
            {DEVICE: name, **one} for name, records in self.records.items() for one in records
        ]
        if sort is None:
            return rows
        return sorted(rows, key=lambda row: _in_order(row.get(sort)), reverse=descending)

    def picked(self, path: str) -> dict[str, Any]:
        """What a JMESPath gives of the records of each device. Raises UsageError."""
        expression = compiled(path)
        return {name: expression(records_document(records)) for name, records in self.records.items()}


def compiled(path: str) -> Callable[[Any], Any]:
    """A JMESPath, ready to be asked. Raises UsageError, also when it does not fit what it is asked about."""
    try:
        parsed = jmespath.compile(path)
    except JMESPathError as wrong:
        raise UsageError(
            f"--pick: '{path}' is not a valid JMESPath expression: {str(wrong).splitlines()[0]}"
        ) from None

    def search(data: Any) -> Any:
        try:
            return parsed.search(data)
        except (JMESPathError, TypeError, ValueError) as wrong:
            raise UsageError(
                f"--pick: '{path}' does not fit the records: {str(wrong).splitlines()[0]}"
            ) from None

    return search


def records_document(records: Sequence[Record]) -> list[dict[str, Any]]:
    """Records as plain data; a value outside a field's closed list has the device's own word beside it, as
    FIELD-listed."""
    return [_plain(one) for one in records]


def _plain(record: Record) -> dict[str, Any]:
    found = {name: to_json(value) for name, value in record.items()}
    listed = {
        f"{name}-listed": value.listed for name, value in record.items() if isinstance(value, OtherValue)
    }
    return found | listed


def _in_order(value: Any) -> tuple[Any, ...]:
    """Sorts values of one field: nothing first, numbers by size, addresses by family and number, names as
    people do."""
    if value is None:
        return (0,)
    if isinstance(value, bool | int | float):
        return 1, value
    if hasattr(value, "version"):
        return 1, value.version, value
    return (1, natural_sort_key(to_text(value)))


def readings_known(platforms: Sequence[Platform]) -> dict[str, Mapping[str, FieldType]]:
    """The readings of these platforms with all their fields, by name."""
    found: dict[str, dict[str, FieldType]] = {}
    for platform in platforms:
        for name, definition in platform.readings.items():
            fields = found.setdefault(name, {})
            fields.update(
                READINGS[name].fields if name in READINGS else dict.fromkeys(definition.fields, TEXT)
            )
    return dict(sorted(found.items()))


def fields_of(estate: Estate, reading: str, on: str | None = None) -> Mapping[str, FieldType]:
    """The fields of a reading of the devices that `on` picks. Raises EstateError, and UsageError when none of
    them has such a reading."""
    builder = IntentBuilder(estate)
    known = readings_known(
        list({device.platform: builder.platform(device) for device in estate.pick(on)}.values())
    )
    if reading not in known:
        raise UsageError(
            f"no selected device has the reading '{reading}'", hint=spelling_hint(reading, known)
        )
    return known[reading]


async def ask_devices(
    estate: Estate,
    reading: str,
    on: str | None = None,
    *,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
    to: str | None = None,
) -> QueryResult:
    """Read `reading` of the devices that `on` picks; of a ping or a trace, to the address `to`. Raises
    EstateError, and UsageError when none of them has such a reading."""
    name = parse_query(reading, to)
    devices = estate.pick(on)
    builder = IntentBuilder(estate)
    platforms = {device.platform: builder.platform(device) for device in devices}
    fields = fields_of(estate, reading, on)

    async def one(device: Device, session: Session) -> list[Record]:
        platform = platforms[device.platform]
        if reading not in platform.readings:
            raise DeviceError(f"its platform '{platform.name}' has no reading '{reading}'")
        hide = session.transcript.masking.hide
        found = (await read_readings(session, platform, [name]))[name]
        return [
            {name: hide(value) if isinstance(value, str) else value for name, value in record.items()}
            for record in found
        ]

    found, failed, logs = await run_on_devices(estate, devices, builder, one, parallel, timeout_s, on_event)
    return QueryResult(reading, fields, found, failed, logs)


def parse_query(reading: str, to: str | None) -> str:
    """The reading with what it asks for. Raises UsageError."""
    asks = READINGS[reading].asks if reading in READINGS else None
    if asks is None and to is not None:
        raise UsageError(f"the reading '{reading}' takes no destination", hint="use --to with ping and trace")
    if asks is None or to is None:
        if asks is not None:
            raise UsageError(f"'{reading}' needs a {asks}", hint=f"oast ask {reading} --to ADDRESS")
        return reading
    try:
        return f"{reading} {ipaddress.ip_address(to)}"
    except ValueError:
        raise UsageError(f"'{to}' is not an address") from None


@dataclass(frozen=True)
class CommandListing:
    """What a command listed on each device, and why it did not on the others."""

    command: str
    texts: Mapping[str, str]
    failed: tuple[tuple[str, DeviceError], ...]
    logs: Path

    def groups(self) -> list[tuple[str, list[str]]]:
        """Equal answers with the devices that gave them, the most common first."""
        found: dict[str, list[str]] = {}
        for name, text in self.texts.items():
            found.setdefault(text, []).append(name)
        return sorted(found.items(), key=lambda one: -len(one[1]))


def different_lines(common: str, other: str) -> list[str]:
    """What is different in `other`, with a few lines around it (unified, without the names)."""
    lines = difflib.unified_diff(common.splitlines(), other.splitlines(), n=UNIFIED, lineterm="")
    return [line for line in lines if not line.startswith(("--- ", "+++ "))]


async def list_raw(
    estate: Estate,
    command: str,
    on: str | None = None,
    *,
    allow_any: bool = False,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
) -> CommandListing:
    """What `command` lists on the devices that `on` picks. Only what their platforms know to change nothing,
    unless `allow_any`.

    Raises EstateError, UsageError; then nothing was sent to any device.
    """
    devices = estate.pick(on)
    builder = IntentBuilder(estate)
    _need_one_line(command)
    if not allow_any:
        require_read_only(builder, devices, command)

    async def one(device: Device, session: Session) -> str:
        return await list_commands(session, command, builder.syntax(device))

    texts, failed, logs = await run_on_devices(estate, devices, builder, one, parallel, timeout_s, on_event)
    return CommandListing(command, texts, failed, logs)


async def list_commands(session: Session, command: str, syntax: IndentedSyntax) -> str:
    """What a command lists, without secrets: it may be the configuration, or a part of it. Raises
    DeviceError."""
    text = session.transcript.masking.hide(await session.listing(command, written_down=False))
    found = [secret for secret in secrets_below(syntax.parse(text).tree) if not secret.is_forgotten]
    # The longest first: one may stand inside of another. A text may have them quoted, or as XML has them.
    for secret in sorted(found, key=lambda one: len(one.reveal()), reverse=True):
        value = secret.reveal()
        for spelt in {value, escape(value), value.replace("\\", "\\\\").replace('"', '\\"')}:
            text = text.replace(spelt, str(secret))
    return text


def require_read_only(builder: IntentBuilder, devices: Sequence[Device], command: str) -> None:
    """Whether it is known of the command, on each of these devices, that it changes nothing. Raises
    UsageError."""
    _need_one_line(command)
    for device in devices:
        platform = builder.platform(device)
        if not is_read_only(platform, command):
            message = (
                f"'{command}' is not known to be read-only on the platform {platform.name}"
                f" ({device.name}); nothing was sent to any device"
            )
            raise UsageError(
                message,
                hint=(
                    "add it to [session] read_only of the platform, or use oast ask --raw with --allow-any"
                ),
            )


def _need_one_line(command: str) -> None:
    if not command.strip() or any(ord(character) < ord(" ") for character in command):
        raise UsageError("a command must be one line")


def is_read_only(platform: Platform, command: str) -> bool:
    """Whether the platform says so of a command; over NETCONF what is asked for is a path, and cannot do
    anything else."""
    if platform.netconf is not None:
        return True
    dialect = platform.dialect
    listed = {dialect.running, dialect.startup, *(reading.command for reading in platform.readings.values())}
    return command in listed or any(re.fullmatch(pattern, command) for pattern in dialect.read_only)
