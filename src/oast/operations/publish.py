"""Publishing: what is known of devices is written back to the service of their records, only to the fields
that Oast owns."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from oast.archive import RUNNING, Backups, backup_file
from oast.connect import Session
from oast.errors import DeviceError, OastError, StateError
from oast.estate import Device, Estate, PublishSettings, SourceSettings, secrets_of
from oast.fleet import OnEvent, for_each, ignore_event
from oast.intent import IntentBuilder
from oast.json_text import strict_json
from oast.operations.ask import records_document
from oast.operations.drift import find_drift
from oast.operations.intent_context import prepare_intents
from oast.operations.per_device import run_on_devices
from oast.operations.sources import owned, pages_of
from oast.platforms import READINGS
from oast.readings import read_readings
from oast.sources import Service, map_records, record_name

JSON = {"Accept": "application/json"}
PATCH = {**JSON, "Content-Type": "application/merge-patch+json"}
AT_ONCE = 10
# A record that changes at the same moment is read again this many times.
TRIES = 3
NOTHING: Mapping[str, Any] = {}


@dataclass(frozen=True)
class FieldUpdate:
    """A record to update: by field, its value now and its future value."""

    device: str
    record: str
    fields: Mapping[tuple[str, ...], tuple[Any, Any]]


@dataclass(frozen=True)
class PublishPlan:
    """What publishing would write. `failed` are devices that could not be read: what the service says of them
    stays; so it does of fields that are `unknown`, by device. `unlisted` are devices that came from the
    source, which does not list them now.
    """

    source: SourceSettings
    settings: PublishSettings
    records: int
    changes: tuple[FieldUpdate, ...]
    failed: tuple[tuple[str, DeviceError], ...]
    unknown: Mapping[str, tuple[str, ...]]
    unlisted: tuple[str, ...]


@dataclass
class PublishResult:
    """The result: the devices whose records are up to date, and the errors of the others."""

    written: list[str] = field(default_factory=list)
    failed: dict[str, str] = field(default_factory=dict)


async def plan_publishing(
    estate: Estate,
    source: SourceSettings,
    settings: PublishSettings,
    on: str | None,
    environment: Mapping[str, str],
    *,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
) -> PublishPlan:
    """Read the devices that came from `source`, and find what its records have to say otherwise. Raises
    StateError, EstateError."""
    pages, _ = await pages_of(estate.folder, environment, source)
    listed = map_records(source, pages, raw=True)
    own = owned(estate.folder, source)
    picked = [device for device in estate.pick(on) if device.name in own]
    devices = [device for device in picked if device.name in listed.raw]
    known, failed = await _known(estate, devices, settings, on, parallel, timeout_s, on_event)
    changes, unknown = [], {}
    for device in devices:
        if device.name not in known:
            continue
        record = listed.raw[device.name]
        fields, not_known = _fields(settings, known[device.name], record)
        if not_known:
            unknown[device.name] = not_known
        if fields:
            changes.append(FieldUpdate(device.name, _called(source, record), fields))
    unlisted = tuple(device.name for device in picked if device.name not in listed.raw)
    return PublishPlan(source, settings, len(devices), tuple(changes), failed, unknown, unlisted)


def _called(source: SourceSettings, record: Mapping[str, Any]) -> str:
    called = record_name(source, record)
    if called is None:
        raise StateError(f"source '{source.name}': '{source.record}' gives no key to write a record with")
    return called


def _fields(
    settings: PublishSettings, known: Mapping[str, Any], record: Mapping[str, Any]
) -> tuple[Mapping[tuple[str, ...], tuple[Any, Any]], tuple[str, ...]]:
    """Those that differ, and the names of those that nothing is known for."""
    differ: dict[tuple[str, ...], tuple[Any, Any]] = {}
    unknown: list[str] = []
    for one in settings.fields:
        expected, now = one.of(known), _at(record, one.at)
        if expected is None:
            unknown.append(".".join(one.at))
        elif expected != now:
            differ[one.at] = now, expected
    return differ, tuple(unknown)


def _at(record: Any, names: Sequence[str]) -> Any:
    for name in names:
        record = record.get(name) if isinstance(record, Mapping) else None
    return record


# --- what is known of devices


async def _known(
    estate: Estate,
    devices: Sequence[Device],
    settings: PublishSettings,
    on: str | None,
    parallel: int | None,
    timeout_s: float | None,
    on_event: OnEvent,
) -> tuple[dict[str, dict[str, Any]], tuple[tuple[str, DeviceError], ...]]:
    """Of every device that could be read its readings, its last change and backup, and its drift: those of
    them that are spoken of."""
    names = frozenset(name for one in settings.fields for name in one.names)
    asked = [name for name in READINGS if name in names and READINGS[name].asks is None]
    found: dict[str, dict[str, Any]] = {device.name: {} for device in devices}
    failed: dict[str, DeviceError] = {}
    if asked and devices:
        builder = IntentBuilder(estate)

        async def one(device: Device, session: Session) -> dict[str, Any]:
            platform = builder.platform(device)
            answers = await read_readings(
                session, platform, [name for name in asked if name in platform.readings]
            )
            made: dict[str, Any] = {}
            for name, records in answers.items():
                told = records_document(records)
                made[name] = (told[0] if told else None) if READINGS[name].single else told
            return made

        answers, wrong, _ = await run_on_devices(estate, devices, builder, one, parallel, timeout_s, on_event)
        failed.update(wrong)
        for name, told in answers.items():
            found[name].update(told)
    if names & {"drift", "last_change"} and devices:
        drifted = await find_drift(prepare_intents(estate, on), parallel=parallel, timeout_s=timeout_s)
        failed.update({name: error for name, error in drifted.failed if name in found})
        for drift in drifted.drifts:
            if drift.name in found:
                since = (
                    None
                    if drift.since is None
                    else {"id": drift.since.run, "at": drift.since.at.isoformat(timespec="seconds")}
                )
                found[drift.name].update(
                    drift={
                        "statements": len(drift.edits),
                        "state": "drifted" if drift.edits else "as delivered",
                    }
                )
                found[drift.name].update(last_change=since)
    if "last_backup" in names and devices:
        _backups(estate, found)
    return {name: told for name, told in found.items() if name not in failed}, tuple(failed.items())


def _backups(estate: Estate, found: Mapping[str, dict[str, Any]]) -> None:
    last = Backups(estate).archive.last([backup_file(RUNNING, name) for name in found])
    for name, known in found.items():
        kept = last.get(backup_file(RUNNING, name))
        if kept is not None:
            known["last_backup"] = {"commit": kept.commit[:12], "at": kept.when}


# --- writing


async def publish_facts(folder: Path, environment: Mapping[str, str], found: PublishPlan) -> PublishResult:
    """Write what differs; afterwards each record is read again, and says what it has to, or it has failed."""
    source, result = found.source, PublishResult()
    token = None if source.token is None else secrets_of(folder, environment).get(source.token, source.place)
    async with Service(source, token) as service:

        async def one(change: FieldUpdate) -> None:
            await _write(service, found.settings, change)

        def done(change: FieldUpdate, outcome: DeviceError | None) -> None:
            if outcome is None:
                result.written.append(change.device)
            else:
                result.failed[change.device] = outcome.message

        await for_each(found.changes, one, AT_ONCE, done)
    return result


async def _write(service: Service, settings: PublishSettings, change: FieldUpdate) -> None:
    """Raises DeviceError when the record does not say it in the end."""
    url = settings.url(change.record)
    try:
        service.need_same_place(url, "the record")
        for _ in range(TRIES):
            record, etag = await _record(service, url)
            patch = _patch(record, {at: expected for at, (_, expected) in change.fields.items()})
            if not patch:
                return
            match = {"If-Match": etag} if etag is not None else NOTHING
            answer = await service.ask(
                "PATCH", url, {**PATCH, **match}, (200, 202, 204, 412), json.dumps(patch).encode()
            )
            if answer.status != 412 and not _patch(
                (await _record(service, url))[0], {at: w for at, (_, w) in change.fields.items()}
            ):
                return
    except OastError as error:
        raise DeviceError(error.message, hint=error.hint) from None
    raise DeviceError(
        f"the source accepted the update of record {change.record}, but returns other values; another"
        " system may write it, too"
    )


async def _record(service: Service, url: str) -> tuple[Mapping[str, Any], str | None]:
    answer = await service.ask("GET", url, JSON, (200,))
    try:
        record = strict_json(answer.data)
    except ValueError:
        record = None
    if not isinstance(record, dict):
        raise service.wrong(f"no record at {url}")
    return record, answer.headers.get("etag")


def _patch(record: Mapping[str, Any], expected: Mapping[tuple[str, ...], Any]) -> dict[str, Any]:
    """Return the merge patch that makes `record` hold the expected values (RFC 7396); empty when it does."""
    patch: dict[str, Any] = {}
    for at, value in expected.items():
        now = _at(record, at)
        if now != value:
            inner = patch
            for name in at[:-1]:
                inner = inner.setdefault(name, {})
            inner[at[-1]] = _merging(now, value)
    return patch


def _merging(now: Any, value: Any) -> Any:
    """Merge objects: a member of the record that is not expected is removed by null."""
    if not isinstance(value, Mapping):
        return value
    gone = dict.fromkeys(now.keys() - value.keys()) if isinstance(now, Mapping) else {}
    return {
        **gone,
        **{
            name: _merging(now.get(name) if isinstance(now, Mapping) else None, one)
            for name, one in value.items()
        },
    }
