"""The journal: what is done to every device is written down before it is done, so that a run that dies leaves nothing unknown.

A SQLite database in the estate's working folder (WAL, synchronous FULL). One thread of a run writes to it; what waits there together
is committed together. Readers open it anew. The page with every field: docs/formats.md.
"""

from __future__ import annotations

import asyncio
import json
import queue
import sqlite3
import threading
import zlib
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import Future
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from oast.change.locks import RunLock
from oast.change.outcome import Cause, Outcome, State
from oast.change.strategies.contract import Phase
from oast.errors import DeviceError, StateError
from oast.files import make_private

FILE = "journal.sqlite"
VERSION = 1
# What was decided of a device when the checks of its wave were judged.
KEEP, REVERT = "keep", "revert"
# Another run that writes at the same moment.
BUSY_S = 20.0
# What the steps, the outcome and the transcript of one device may take on the disk, in bytes.
ROOM_FOR_DEVICE = 24_000
ROOM_AT_LEAST = 1_000_000

SCHEMA = """
CREATE TABLE IF NOT EXISTS run (
    id TEXT PRIMARY KEY, change TEXT NOT NULL, began TEXT NOT NULL, process INTEGER NOT NULL, plan BLOB, ended TEXT
) STRICT;
CREATE TABLE IF NOT EXISTS device (
    run TEXT NOT NULL REFERENCES run, name TEXT NOT NULL, phase INTEGER NOT NULL DEFAULT 0, token TEXT, timer_s REAL, armed TEXT,
    decision TEXT, state TEXT, cause TEXT, reason TEXT, ended TEXT, open INTEGER NOT NULL DEFAULT 1,
    PRIMARY KEY (run, name)
) STRICT, WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS open_device ON device (name) WHERE open;
CREATE TABLE IF NOT EXISTS step (run TEXT NOT NULL, device TEXT NOT NULL, at TEXT NOT NULL, what TEXT NOT NULL) STRICT;
CREATE INDEX IF NOT EXISTS step_of_run ON step (run);
CREATE TABLE IF NOT EXISTS room (filler BLOB) STRICT;
"""
COLUMNS = frozenset(("phase", "token", "timer_s", "armed", "decision", "state", "cause", "reason", "ended", "open"))

Statement = tuple[str, Sequence[Any]]


def now() -> str:
    """The time in UTC, as it is written down."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class Journal:
    """The journal, for one run that writes to it. `broken` says why something could not be written, once nothing can be refused."""

    def __init__(self, working: Path) -> None:
        """Raises StateError when it cannot be written."""
        self._path = working / FILE
        self.broken: str | None = None
        self._waiting: queue.SimpleQueue[tuple[Sequence[Statement], Future[None]] | None] = queue.SimpleQueue()
        try:
            make_private(working)
            self._database = _opened(self._path)
        except (OSError, sqlite3.Error) as error:
            raise _unusable(self._path, error) from None
        self._writer = threading.Thread(target=self._write_all, name="journal", daemon=True)
        self._writer.start()

    def begin(self, run: str, change: str, process: int, plan: Mapping[str, Any], devices: Sequence[str]) -> None:
        """Write down that `run` begins, and make sure of the room for what is to be written until it has ended. Raises StateError."""
        packed = zlib.compress(json.dumps(plan, separators=(",", ":")).encode(), 1)
        statements: list[Statement] = [
            ("INSERT INTO run (id, change, began, process, plan) VALUES (?, ?, ?, ?, ?)", (run, change, now(), process, packed)),
            *(("INSERT INTO device (run, name) VALUES (?, ?)", (run, name)) for name in devices),
        ]
        room = max(ROOM_AT_LEAST, ROOM_FOR_DEVICE * len(devices))
        try:
            # What is written and taken away again leaves its pages to the database.
            self._put([*statements, ("INSERT INTO room VALUES (zeroblob(?))", (room,))]).result()
            self._put([("DELETE FROM room", ())]).result()
        except (OSError, sqlite3.Error) as error:
            raise _unusable(self._path, error) from None

    async def write(self, statements: Sequence[Statement]) -> None:
        """Returns when `statements` are on the disk. Raises sqlite3.Error."""
        await asyncio.wrap_future(self._put(statements))

    def of(self, run: str, device: str) -> DeviceJournal:
        """The part of it that is about one device."""
        return DeviceJournal(self, run, device)

    def end(self, run: str, *, recorded: bool) -> None:
        """The run is over: what it was going to do is kept while a device is open, its steps until they are `recorded` elsewhere.

        Raises StateError.
        """
        kept = "CASE WHEN EXISTS (SELECT 1 FROM device WHERE device.run = run.id AND open) THEN plan END"
        statements: list[Statement] = [(f"UPDATE run SET ended = ?, plan = {kept} WHERE id = ?", (now(), run))]  # noqa: S608
        if recorded:
            statements.append(("DELETE FROM step WHERE run = ?", (run,)))
        try:
            self._put(statements).result()
        except (OSError, sqlite3.Error) as error:
            raise _unusable(self._path, error) from None

    def close(self) -> None:
        """Safe to call again."""
        self._waiting.put(None)
        self._writer.join()
        self._database.close()

    def _put(self, statements: Sequence[Statement]) -> Future[None]:
        done: Future[None] = Future()
        self._waiting.put((statements, done))
        return done

    def _write_all(self) -> None:
        """What waits by now is one commit."""
        while (first := self._waiting.get()) is not None:
            batch = [first]
            last = False
            with suppress(queue.Empty):
                while not last:
                    more = self._waiting.get_nowait()
                    last = more is None
                    if more is not None:
                        batch.append(more)
            self._commit(batch)
            if last:
                return

    def _commit(self, batch: Sequence[tuple[Sequence[Statement], Future[None]]]) -> None:
        failed: Exception | None = None
        try:
            self._database.execute("BEGIN IMMEDIATE")
            for statements, _ in batch:
                for sql, values in statements:
                    self._database.execute(sql, values)
            self._database.execute("COMMIT")
        except (OSError, sqlite3.Error) as error:
            failed = error
            with suppress(sqlite3.Error):
                self._database.execute("ROLLBACK")
        for _, done in batch:
            # Whoever waited may have been cancelled meanwhile; it is written all the same.
            if done.set_running_or_notify_cancel():
                done.set_result(None) if failed is None else done.set_exception(failed)


class DeviceJournal:
    """What one run does to one device, step by step."""

    def __init__(self, journal: Journal, run: str, device: str) -> None:
        self._journal = journal
        self._run = run
        self._device = device

    async def step(self, what: str, *, must: bool = False, **columns: object) -> None:
        """Write a step down, and what is so from now on. Raises DeviceError when it `must` be written and cannot be."""
        if not columns.keys() <= COLUMNS:
            raise ValueError(f"the journal has no {', '.join(columns.keys() - COLUMNS)}")
        statements: list[Statement] = [
            ("INSERT INTO step VALUES (?, ?, ?, ?)", (self._run, self._device, now(), what)),
        ]
        if columns:
            sets = ", ".join(f"{name} = ?" for name in columns)
            sql = f"UPDATE device SET {sets} WHERE run = ? AND name = ?"  # noqa: S608  # only names of columns
            statements.append((sql, (*columns.values(), self._run, self._device)))
        try:
            await self._journal.write(statements)
        except (OSError, sqlite3.Error) as error:
            self._journal.broken = self._journal.broken or str(error)
            if must:
                raise DeviceError(f"the journal cannot be written ({error}): nothing more was sent to it") from None

    async def ended(self, outcome: Outcome, phase: Phase, *, asked: bool) -> None:
        """What became of it. What is not known, as the device could not be `asked`, stays open as far as anything was sent to it."""
        still_open = outcome.state is State.UNKNOWN and phase > Phase.UNTOUCHED and not asked
        await self.step(
            str(outcome.state), state=str(outcome.state), cause=str(outcome.cause), reason=outcome.reason, ended=now(), open=int(still_open)
        )  # fmt: skip


@dataclass(frozen=True)
class Left:
    """A device that a run has begun and of which it is not known what became: as the journal has it. `armed` is when (UTC) a timer of
    `timer_s` seconds may have been armed; `decision` is "keep" or "revert" once the checks of its wave were judged."""

    run: str
    name: str
    phase: Phase
    token: str | None
    timer_s: float | None
    armed: datetime | None
    decision: str | None


@dataclass(frozen=True)
class Known:
    """A device of which the run that was left open did come to know what became."""

    name: str
    state: State
    cause: Cause
    reason: str | None


@dataclass(frozen=True)
class LeftRun:
    """A run that has not ended, or with `devices` of which it is not known what became; whether it is alive is for its lock to tell."""

    run: str
    change: str
    began: str
    process: int
    devices: tuple[Left, ...]
    known: tuple[Known, ...] = ()

    @property
    def in_flight(self) -> tuple[Left, ...]:
        """Those to which something was sent that could change something."""
        return tuple(device for device in self.devices if device.phase > Phase.UNTOUCHED)


def left_open(working: Path) -> list[LeftRun]:
    """The runs that have not ended, and those that ended with devices of which it is not known what became. Raises StateError."""
    if not (working / FILE).exists():
        return []
    try:
        with closing(_reading(working / FILE)) as database:
            runs = database.execute(
                "SELECT id, change, began, process FROM run WHERE ended IS NULL OR EXISTS"
                " (SELECT 1 FROM device WHERE device.run = run.id AND open AND phase > 0) ORDER BY began"
            ).fetchall()
            return [
                LeftRun(run, change, began, process, tuple(_left(database, run)), tuple(_known(database, run)))
                for run, change, began, process in runs
            ]
    except (OSError, sqlite3.Error, ValueError) as error:
        raise _unusable(working / FILE, error) from None


def dead_runs(working: Path) -> list[LeftRun]:
    """The runs left open that nobody is at work on any more. Raises StateError."""
    try:
        return [left for left in left_open(working) if not RunLock(working, left.run).is_held()]
    except OSError as error:
        raise _unusable(working / FILE, error) from None


def in_flight(working: Path) -> dict[str, LeftRun]:
    """The devices that a run which died, or could not wait, has left in a state that nobody knows. Raises StateError."""
    return {device.name: left for left in dead_runs(working) for device in left.in_flight}


def left_in_flight(left: LeftRun) -> DeviceError:
    """Why nothing is delivered to a device."""
    message = f"the run {left.run} did not come to know what became of it: it was not touched"
    return DeviceError(message, hint="find out, and leave it in order, with: oast change resume")


def plan_of(working: Path, run: str) -> dict[str, Any]:
    """What a run that is left open was going to do: see `oast.change.planned`. Raises StateError."""
    try:
        with closing(_reading(working / FILE)) as database:
            row = database.execute("SELECT plan FROM run WHERE id = ?", (run,)).fetchone()
        plan: dict[str, Any] = json.loads(zlib.decompress(row[0]))
    except (OSError, sqlite3.Error, TypeError, ValueError, zlib.error) as error:
        raise _unusable(working / FILE, error) from None
    return plan


def timeline_of(working: Path, run: str) -> list[tuple[str, str, str]]:
    """The steps of a run in order: when (UTC), the device, what. Raises StateError."""
    if not (working / FILE).exists():
        return []
    try:
        with closing(_reading(working / FILE)) as database:
            return database.execute("SELECT at, device, what FROM step WHERE run = ? ORDER BY rowid", (run,)).fetchall()
    except (OSError, sqlite3.Error) as error:
        raise _unusable(working / FILE, error) from None


def _left(database: sqlite3.Connection, run: str) -> Iterable[Left]:
    sql = "SELECT name, phase, token, timer_s, armed, decision FROM device WHERE run = ? AND open ORDER BY name"
    for name, phase, token, timer_s, armed, decision in database.execute(sql, (run,)):
        yield Left(run, name, Phase(phase), token, timer_s, datetime.fromisoformat(armed) if armed else None, decision)


def _known(database: sqlite3.Connection, run: str) -> Iterable[Known]:
    sql = "SELECT name, state, cause, reason FROM device WHERE run = ? AND NOT open AND state IS NOT NULL ORDER BY name"
    for name, state, cause, reason in database.execute(sql, (run,)):
        yield Known(name, State(state), Cause(cause), reason)


def _opened(path: Path) -> sqlite3.Connection:
    with suppress(FileExistsError):
        path.touch(mode=0o600, exist_ok=False)
    database = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None, check_same_thread=False)
    try:
        version = database.execute("PRAGMA user_version").fetchone()[0]
        if version not in (0, VERSION):
            raise sqlite3.DatabaseError(f"it has the version {version}, known is {VERSION}")
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("PRAGMA synchronous = FULL")
        database.executescript(f"BEGIN IMMEDIATE; {SCHEMA} PRAGMA user_version = {VERSION}; COMMIT;")
    except BaseException:
        database.close()
        raise
    return database


def _reading(path: Path) -> sqlite3.Connection:
    database = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None)
    version = database.execute("PRAGMA user_version").fetchone()[0]
    if version == 0:
        # Whoever was making it did not come to an end: there is nothing in it.
        database.executescript(f"{SCHEMA} PRAGMA user_version = {VERSION};")
    elif version != VERSION:
        database.close()
        raise sqlite3.DatabaseError(f"it has the version {version}, known is {VERSION}")
    return database


def _unusable(path: Path, error: Exception) -> StateError:
    said = getattr(error, "strerror", None) or str(error)
    hint = "without it nothing is delivered: make room, or move it away if it is damaged (first look at what it holds: oast change resume)"
    return StateError(f"the journal {path} cannot be used: {said}", hint=hint)
