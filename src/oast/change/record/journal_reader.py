"""What the journal says of runs that are not over: read by every command, so that none goes on as if nothing
had happened."""

from __future__ import annotations

import json
import sqlite3
import zlib
from collections.abc import Iterable
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from oast.change import Cause, Phase, State
from oast.change.record.locks import RunLock
from oast.errors import DeviceError, StateError

FILE = "journal.sqlite"
VERSION = 1
# What was decided of a device when the checks of its wave were judged.
KEEP, REVERT = "keep", "revert"
# Another run that writes at the same moment.
BUSY_S = 20.0

SCHEMA = """
CREATE TABLE IF NOT EXISTS run (
    id TEXT PRIMARY KEY, change TEXT NOT NULL, began TEXT NOT NULL, process INTEGER NOT NULL, plan BLOB,
    ended TEXT
) STRICT;
CREATE TABLE IF NOT EXISTS device (
    run TEXT NOT NULL REFERENCES run, name TEXT NOT NULL, phase INTEGER NOT NULL DEFAULT 0, token TEXT,
    timer_s REAL, armed TEXT,
    decision TEXT, state TEXT, cause TEXT, reason TEXT, ended TEXT, open INTEGER NOT NULL DEFAULT 1,
    PRIMARY KEY (run, name)
) STRICT, WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS open_device ON device (name) WHERE open;
CREATE TABLE IF NOT EXISTS step (run TEXT NOT NULL, device TEXT NOT NULL, at TEXT NOT NULL,
    what TEXT NOT NULL) STRICT;
CREATE INDEX IF NOT EXISTS step_of_run ON step (run);
CREATE TABLE IF NOT EXISTS room (filler BLOB) STRICT;
"""


def now_text() -> str:
    """The time in UTC, as it is written down."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


@dataclass(frozen=True)
class OpenDevice:
    """A device that a run has begun and of which it is not known what became: as the journal has it. `armed`
    is when (UTC) a timer of `timer_s` seconds may have been armed; `decision` is "keep" or "revert" once the
    checks of its wave were judged.
    """

    run: str
    name: str
    phase: Phase
    token: str | None
    timer_s: float | None
    armed: datetime | None
    decision: str | None


@dataclass(frozen=True)
class FinishedDevice:
    """A device of which the run that was left open did come to know what became."""

    name: str
    state: State
    cause: Cause
    reason: str | None


@dataclass(frozen=True)
class OpenRun:
    """A run that has not ended, or with `devices` of which it is not known what became; whether it is alive
    is for its lock to tell."""

    run: str
    change: str
    began: str
    process: int
    devices: tuple[OpenDevice, ...]
    known: tuple[FinishedDevice, ...] = ()

    @property
    def devices_in_unknown_state(self) -> tuple[OpenDevice, ...]:
        """Those to which something was sent that could change something."""
        return tuple(device for device in self.devices if device.phase > Phase.UNTOUCHED)


def open_runs(working: Path) -> list[OpenRun]:
    """The runs that have not ended, and those that ended with devices of which it is not known what became.
    Raises StateError."""
    if not (working / FILE).exists():
        return []
    try:
        with closing(open_journal(working / FILE)) as database:
            runs = database.execute(
                "SELECT id, change, began, process FROM run WHERE ended IS NULL OR EXISTS"
                " (SELECT 1 FROM device WHERE device.run = run.id AND open AND phase > 0) ORDER BY began"
            ).fetchall()
            return [
                OpenRun(
                    run, change, began, process, tuple(_left(database, run)), tuple(_known(database, run))
                )
                for run, change, began, process in runs
            ]
    except (OSError, sqlite3.Error, ValueError) as error:
        raise journal_error(working / FILE, error) from None


def interrupted_runs(working: Path) -> list[OpenRun]:
    """Return the runs that are open although their process has ended. Raises StateError."""
    try:
        return [left for left in open_runs(working) if not RunLock(working, left.run).is_held()]
    except OSError as error:
        raise journal_error(working / FILE, error) from None


def devices_in_unknown_state(working: Path) -> dict[str, OpenRun]:
    """Return the devices that interrupted runs left in an unknown state. Raises StateError."""
    return {
        device.name: left for left in interrupted_runs(working) for device in left.devices_in_unknown_state
    }


class DeviceInUnknownState(DeviceError):
    """An interrupted run left the device in an unknown state."""


def unknown_state_error(left: OpenRun) -> DeviceInUnknownState:
    """Why nothing is delivered to a device."""
    message = f"the run {left.run} left this device in an unknown state; nothing was sent to it"
    return DeviceInUnknownState(message, hint="recover the interrupted run with: oast change recover")


def stored_plan_of(working: Path, run: str) -> dict[str, Any]:
    """What a run that is left open was going to do: see `oast.change.plan.stored_plan`. Raises StateError."""
    try:
        with closing(open_journal(working / FILE)) as database:
            row = database.execute("SELECT plan FROM run WHERE id = ?", (run,)).fetchone()
        plan: dict[str, Any] = json.loads(zlib.decompress(row[0]))
    except (OSError, sqlite3.Error, TypeError, ValueError, zlib.error) as error:
        raise journal_error(working / FILE, error) from None
    return plan


def timeline_of(working: Path, run: str) -> list[tuple[str, str, str]]:
    """The steps of a run in order: when (UTC), the device, what. Raises StateError."""
    if not (working / FILE).exists():
        return []
    try:
        with closing(open_journal(working / FILE)) as database:
            return database.execute(
                "SELECT at, device, what FROM step WHERE run = ? ORDER BY rowid", (run,)
            ).fetchall()
    except (OSError, sqlite3.Error) as error:
        raise journal_error(working / FILE, error) from None


def _left(database: sqlite3.Connection, run: str) -> Iterable[OpenDevice]:
    sql = (
        "SELECT name, phase, token, timer_s, armed, decision FROM device WHERE run = ? AND open ORDER BY name"
    )
    for name, phase, token, timer_s, armed, decision in database.execute(sql, (run,)):
        yield OpenDevice(
            run,
            name,
            Phase(phase),
            token,
            timer_s,
            datetime.fromisoformat(armed) if armed else None,
            decision,
        )


def _known(database: sqlite3.Connection, run: str) -> Iterable[FinishedDevice]:
    sql = (
        "SELECT name, state, cause, reason FROM device WHERE run = ? AND NOT open AND state IS NOT NULL ORDER"
        " BY name"
    )
    for name, state, cause, reason in database.execute(sql, (run,)):
        yield FinishedDevice(name, State(state), Cause(cause), reason)


def open_journal(path: Path) -> sqlite3.Connection:
    """Open the journal, and make its tables where it is still empty. Raises sqlite3.Error."""
    database = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None)
    version = database.execute("PRAGMA user_version").fetchone()[0]
    if version == 0:
        # The process that created it ended before writing to it; it is empty.
        database.executescript(f"{SCHEMA} PRAGMA user_version = {VERSION};")
    elif version != VERSION:
        database.close()
        raise sqlite3.DatabaseError(f"its version is {version}; this version of Oast reads {VERSION}")
    return database


def journal_error(path: Path, error: Exception) -> StateError:
    """The error for a journal that cannot be read or written."""
    said = getattr(error, "strerror", None) or str(error)
    hint = (
        "free disk space; if it is damaged, recover interrupted runs (oast change recover), then move it away"
    )
    return StateError(f"cannot use the journal {path}: {said}", hint=hint)
