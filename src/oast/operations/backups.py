"""Backups: what devices run, or start with, read and kept; what was kept, compared."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oast.answer_parsing import parse_if_long
from oast.archive import BRANCH, RUNNING, STARTUP, BackupEntry, Backups, ConfigSnapshot
from oast.change.record import Drift, author_identity
from oast.config import difference, root_of, tree_as_listed
from oast.connect import Capability, Session
from oast.errors import DeviceError, StateError
from oast.estate import Device, Estate
from oast.fleet import OnEvent, ignore_event
from oast.intent import IntentBuilder
from oast.operations.per_device import run_on_devices


@dataclass(frozen=True)
class BackupResult:
    """A backup: the devices that were read and what is new of them, those that could not be, and the commit
    (None: nothing is new)."""

    read: tuple[str, ...]
    failed: tuple[tuple[str, DeviceError], ...]
    commit: str | None
    label: str | None
    unpushed: str | None = None


async def backup(
    estate: Estate,
    on: str | None = None,
    *,
    label: str | None = None,
    why: str | None = None,
    startup: bool = False,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
) -> BackupResult:
    """Read the devices, and keep what they list. Raises EstateError, UsageError, StateError; then nothing was
    kept."""
    backups = Backups(estate)
    try:
        backups.archive.prepare()
        if label is not None:
            backups.archive.need_free(label)
        devices = estate.pick(on)
        kinds = (RUNNING, STARTUP) if startup else (RUNNING,)
        listings, failed = await list_backups(
            estate, devices, kinds, parallel=parallel, timeout_s=timeout_s, on_event=on_event
        )
        every = [listing for device in devices for listing in listings.get(device.name, ())]
        who = author_identity(estate.folder, estate.environment)
        commit = backups.keep(every, why or label or "backup", who, label) if every else None
    except OSError as error:
        raise StateError(f"cannot write the archive: {error.filename}: {error.strerror}") from None
    unpushed = None
    try:
        backups.push()
    except StateError as error:
        unpushed = error.message
    read = tuple(device.name for device in devices if device.name in listings)
    return BackupResult(read, tuple(failed.items()), commit, label if every else None, unpushed)


async def list_backups(
    estate: Estate,
    devices: Sequence[Device],
    kinds: Sequence[str] = (RUNNING,),
    *,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
) -> tuple[Mapping[str, list[ConfigSnapshot]], Mapping[str, DeviceError]]:
    """What each device lists of `kinds`, where it has them, and why that of the others could not be had."""
    builder = IntentBuilder(estate)

    async def one(device: Device, session: Session) -> list[ConfigSnapshot]:
        syntax = builder.syntax(device)
        texts = {RUNNING: await session.read_running()} if RUNNING in kinds else {}
        if STARTUP in kinds and Capability.STARTUP in session.capabilities:
            texts[STARTUP] = await session.read_startup()
        for text in texts.values():
            await parse_if_long(
                (text,), tree_as_listed, syntax, text
            )  # a text that cannot be parsed is not a backup
        return [ConfigSnapshot(device.name, kind, syntax, text) for kind, text in texts.items()]

    found, failed, _ = await run_on_devices(estate, devices, builder, one, parallel, timeout_s, on_event)
    return found, dict(failed)


def backup_differences(estate: Estate, first: str, second: str | None, on: str | None) -> list[Drift]:
    """What is different between two points in time, or between one and what was kept last. Raises
    EstateError, UsageError, StateError."""
    backups = Backups(estate)
    one = backups.archive.point(first)
    other = backups.archive.point(second) if second is not None else BackupEntry(None, BRANCH, 0, "")
    devices = estate.pick(on, everything=True)
    builder = IntentBuilder(estate)
    names = [device.name for device in devices]
    before, after = backups.texts(one, names), backups.texts(other, names)
    found = []
    for device in devices:
        syntax = builder.syntax(device)
        trees = [
            backups.tree(syntax, texts[device.name]) if device.name in texts else root_of(syntax.grammar)
            for texts in (before, after)
        ]
        found.append(Drift(device.name, None, tuple(difference(trees[0], trees[1]))))
    return found
