"""The journal: every action on a device is written down before it is done, so that an interrupted run leaves
nothing unknown.

It is a SQLite database in the estate's working folder (WAL, synchronous FULL). One thread of a run writes to
it, and commits waiting entries together. Readers open it separately. docs/formats.md describes every field.
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
from contextlib import suppress
from pathlib import Path
from typing import Any

from oast.change import Outcome, Phase, State
from oast.change.record.journal_reader import BUSY_S, FILE, SCHEMA, VERSION, journal_error, now_text
from oast.errors import DeviceError
from oast.files import make_private

# What the steps, the outcome and the transcript of one device may take on the disk, in bytes.
ROOM_FOR_DEVICE = 24_000
ROOM_AT_LEAST = 100_000

COLUMNS = frozenset(
    ("phase", "token", "timer_s", "armed", "decision", "state", "cause", "reason", "ended", "open")
)

Statement = tuple[str, Sequence[Any]]


class Journal:
    """The journal, for one run that writes to it. `broken` says why something could not be written, once
    nothing can be refused."""

    def __init__(self, working: Path) -> None:
        """Raises StateError when it cannot be written."""
        self._path = working / FILE
        self.broken: str | None = None
        self._waiting: queue.SimpleQueue[tuple[Sequence[Statement], Future[None]] | None] = (
            queue.SimpleQueue()
        )
        try:
            make_private(working)
            self._database = _opened(self._path)
        except (OSError, sqlite3.Error) as error:
            raise journal_error(self._path, error) from None
        self._writer = threading.Thread(target=self._write_all, name="journal", daemon=True)
        self._writer.start()

    def begin(
        self, run: str, change: str, process: int, plan: Mapping[str, Any], devices: Sequence[str]
    ) -> None:
        """Write down that `run` begins, and make sure of the room for what is to be written until it has
        ended. Raises StateError."""
        packed = zlib.compress(json.dumps(plan, separators=(",", ":")).encode(), 1)
        statements: list[Statement] = [
            (
                "INSERT INTO run (id, change, began, process, plan) VALUES (?, ?, ?, ?, ?)",
                (run, change, now_text(), process, packed),
            ),
            *(("INSERT INTO device (run, name) VALUES (?, ?)", (run, name)) for name in devices),
        ]
        room = max(ROOM_AT_LEAST, ROOM_FOR_DEVICE * len(devices))
        try:
            # What is written and taken away again leaves its pages to the database.
            self.put([*statements, ("INSERT INTO room VALUES (zeroblob(?))", (room,))]).result()
            self.put([("DELETE FROM room", ())]).result()
        except (OSError, sqlite3.Error) as error:
            raise journal_error(self._path, error) from None

    def of(self, run: str, device: str) -> DeviceJournal:
        """The part of it that is about one device."""
        return DeviceJournal(self, run, device)

    def end(self, run: str, *, recorded: bool) -> None:
        """The run is over: what it was going to do is kept while a device is open, its steps until they are
        `recorded` elsewhere.

        Raises StateError.
        """
        kept = "CASE WHEN EXISTS (SELECT 1 FROM device WHERE device.run = run.id AND open) THEN plan END"
        statements: list[Statement] = [
            (f"UPDATE run SET ended = ?, plan = {kept} WHERE id = ?", (now_text(), run))  # noqa: S608
        ]
        if recorded:
            statements.append(("DELETE FROM step WHERE run = ?", (run,)))
        try:
            self.put(statements).result()
        except (OSError, sqlite3.Error) as error:
            raise journal_error(self._path, error) from None

    def close(self) -> None:
        """Safe to call again."""
        self._waiting.put(None)
        self._writer.join()
        self._database.close()

    def put(self, statements: Sequence[Statement]) -> Future[None]:
        """Done when `statements` are on the disk, in the order in which they were put; or sqlite3.Error."""
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
            # The waiting task may have been cancelled in the meantime; the entry is written all the same.
            if done.set_running_or_notify_cancel():
                done.set_result(None) if failed is None else done.set_exception(failed)


class DeviceJournal:
    """What one run does to one device, step by step."""

    def __init__(self, journal: Journal, run: str, device: str) -> None:
        self._journal = journal
        self._run = run
        self._device = device

    async def step(self, what: str, *, first: bool = False, must: bool = False, **columns: object) -> None:
        """Write a step down, and what is so from now on. With `first` it is on the disk when this returns,
        and all that was written before it; what comes after a step need not be waited for. Raises DeviceError
        when it `must` be written and cannot be.
        """
        written = self._journal.put(self._statements(what, columns))
        if not first:
            written.add_done_callback(self._noticed)
            return
        try:
            await asyncio.wrap_future(written)
        except (OSError, sqlite3.Error) as error:
            self._journal.broken = self._journal.broken or str(error)
            if must:
                raise DeviceError(
                    f"cannot write the journal ({error}); nothing more was sent to the device"
                ) from None

    @staticmethod
    def step_together(journals: Iterable[DeviceJournal], what: str, **columns: object) -> None:
        """Write the same step of several devices down, of all of them or of none, whenever the run dies;
        before all that comes after."""
        every = list(journals)
        if every:
            statements = [statement for one in every for statement in one._statements(what, columns)]
            every[0]._journal.put(statements).add_done_callback(every[0]._noticed)

    def _statements(self, what: str, columns: Mapping[str, object]) -> list[Statement]:
        if not columns.keys() <= COLUMNS:
            raise ValueError(f"the journal has no {', '.join(columns.keys() - COLUMNS)}")
        statements: list[Statement] = [
            ("INSERT INTO step VALUES (?, ?, ?, ?)", (self._run, self._device, now_text(), what))
        ]
        if columns:
            sets = ", ".join(f"{name} = ?" for name in columns)
            sql = f"UPDATE device SET {sets} WHERE run = ? AND name = ?"  # noqa: S608  # only names of columns
            statements.append((sql, (*columns.values(), self._run, self._device)))
        return statements

    def _noticed(self, written: Future[None]) -> None:
        error = None if written.cancelled() else written.exception()
        if error is not None:
            self._journal.broken = self._journal.broken or str(error)

    async def ended(self, outcome: Outcome, phase: Phase, *, asked: bool) -> None:
        """Record the outcome. A device whose state is unknown because it could not be `asked` stays open if
        anything was sent to it."""
        still_open = outcome.state is State.UNKNOWN and phase > Phase.UNTOUCHED and not asked
        await self.step(
            outcome.state.shown,
            state=str(outcome.state),
            cause=str(outcome.cause),
            reason=outcome.reason,
            ended=now_text(),
            open=int(still_open),
        )


def _opened(path: Path) -> sqlite3.Connection:
    with suppress(FileExistsError):
        path.touch(mode=0o600, exist_ok=False)
    database = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None, check_same_thread=False)
    try:
        version = database.execute("PRAGMA user_version").fetchone()[0]
        if version not in (0, VERSION):
            raise sqlite3.DatabaseError(f"its version is {version}; this version of Oast reads {VERSION}")
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("PRAGMA synchronous = FULL")
        database.executescript(f"BEGIN IMMEDIATE; {SCHEMA} PRAGMA user_version = {VERSION}; COMMIT;")
    except BaseException:
        database.close()
        raise
    return database
