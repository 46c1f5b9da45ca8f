"""The store of `oast watch`: starts of jobs, current problems, their history, and notifications that still
must be sent.

It is a SQLite database in the estate's working folder (WAL, synchronous FULL). The findings of a run and the
notification of what is new in them are one transaction: after a crash either both are there, or the next run
finds the same again. docs/formats.md describes the fields.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from oast.errors import StateError
from oast.files import make_private
from oast.watch.alerts import Alert, AlertFinding, AlertKey, JobFindings, KnownFinding, Transition

FILE = "watch.sqlite"
VERSION = 1
BUSY_S = 20.0

SCHEMA = """
CREATE TABLE IF NOT EXISTS job (
    name TEXT PRIMARY KEY, schedule TEXT NOT NULL, last TEXT NOT NULL, began TEXT, ended TEXT,
    result TEXT, told TEXT
) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS wrong (
    job TEXT NOT NULL, about TEXT NOT NULL, device TEXT NOT NULL, what TEXT NOT NULL,
    told TEXT NOT NULL, severity TEXT NOT NULL,
    place TEXT NOT NULL, state TEXT NOT NULL, since TEXT NOT NULL, PRIMARY KEY (job, about, device, what)
) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS trend (at TEXT NOT NULL, job TEXT NOT NULL, does TEXT NOT NULL,
    measures TEXT NOT NULL) STRICT;
CREATE INDEX IF NOT EXISTS trend_at ON trend (at);
CREATE TABLE IF NOT EXISTS notice (number INTEGER PRIMARY KEY AUTOINCREMENT, made TEXT NOT NULL,
    body TEXT NOT NULL) STRICT;
CREATE TABLE IF NOT EXISTS sending (
    notice INTEGER NOT NULL REFERENCES notice, target TEXT NOT NULL,
    attempts INTEGER NOT NULL DEFAULT 0, next TEXT, refused TEXT,
    said TEXT, PRIMARY KEY (notice, target)
) STRICT, WITHOUT ROWID;
"""


@dataclass(frozen=True, slots=True)
class JobRun:
    """How a job stands. `last` is the time (UTC) for which it was begun last, or since when it is known;
    `result` is how it ended."""

    name: str
    schedule: str
    last: datetime
    began: str | None
    ended: str | None
    result: str | None
    told: str | None

    @property
    def is_cut_short(self) -> bool:
        """Whether it was begun and did not come to an end, as when the process was killed."""
        return self.began is not None and self.ended is None


@dataclass(frozen=True, slots=True)
class QueuedNotification:
    """A notification that still must be sent to `target`. Not before `next` (UTC); `refused` if the target
    rejected it."""

    number: int
    target: str
    made: str
    attempts: int
    next: datetime | None
    refused: bool
    said: str | None


@dataclass(frozen=True, slots=True)
class Sample:
    """What one run of a job has counted."""

    at: datetime
    job: str
    does: str
    measures: Mapping[str, int]


class Store:
    """The database of one estate. One process writes to it; who only looks opens it with `looking`."""

    def __init__(self, working: Path, *, looking: bool = False) -> None:
        """Raises StateError when it cannot be used."""
        self._path = working / FILE
        try:
            if looking and not self._path.exists():
                self._database = sqlite3.connect(":memory:", isolation_level=None)
            else:
                make_private(working)
                with suppress(FileExistsError):
                    self._path.touch(mode=0o600, exist_ok=False)
                self._database = sqlite3.connect(
                    self._path, timeout=BUSY_S, isolation_level=None, check_same_thread=False
                )
            self._prepare()
        except (OSError, sqlite3.Error) as error:
            raise self._unusable(error) from None

    def _prepare(self) -> None:
        try:
            version = self._database.execute("PRAGMA user_version").fetchone()[0]
            if version not in (0, VERSION):
                raise sqlite3.DatabaseError(f"its version is {version}; this version of Oast reads {VERSION}")
            self._database.execute("PRAGMA journal_mode = WAL")
            self._database.execute("PRAGMA synchronous = FULL")
            self._database.executescript(
                f"BEGIN IMMEDIATE; {SCHEMA} PRAGMA user_version = {VERSION}; COMMIT;"
            )
        except BaseException:
            self._database.close()
            raise

    def close(self) -> None:
        """Safe to call again."""
        self._database.close()

    @contextmanager
    def _transaction(self) -> Iterator[sqlite3.Connection]:
        try:
            self._database.execute("BEGIN IMMEDIATE")
            yield self._database
            self._database.execute("COMMIT")
        except (OSError, sqlite3.Error) as error:
            with suppress(sqlite3.Error):
                self._database.execute("ROLLBACK")
            raise self._unusable(error) from None

    def _rows(self, sql: str, values: Sequence[object] = ()) -> list[tuple[object, ...]]:
        try:
            return self._database.execute(sql, values).fetchall()
        except (OSError, sqlite3.Error) as error:
            raise self._unusable(error) from None

    def _unusable(self, error: Exception) -> StateError:
        said = getattr(error, "strerror", None) or str(error)
        return StateError(
            f"cannot use {self._path}: {said}",
            hint="free disk space; if it is damaged, move it away, and Oast starts a new one",
        )

    # --- jobs

    def job(self, name: str, schedule: str, now: datetime) -> JobRun:
        """The job as it is known; one that is new, or has another schedule than before, is known from `now`
        on. Raises StateError."""
        found = self.jobs().get(name)
        if found is None or found.schedule != schedule:
            with self._transaction() as database:
                again = "ON CONFLICT DO UPDATE SET schedule = ?2, last = ?3, began = NULL"
                sql = f"INSERT INTO job (name, schedule, last) VALUES (?, ?, ?) {again}"  # noqa: S608
                database.execute(sql, (name, schedule, now.isoformat()))
            found = self.jobs()[name]
        return found

    def jobs(self) -> dict[str, JobRun]:
        """Every job that was ever known. Raises StateError."""
        rows = self._rows("SELECT name, schedule, last, began, ended, result, told FROM job ORDER BY name")
        return {
            str(row[0]): JobRun(str(row[0]), str(row[1]), _time(row[2]), *(_text(field) for field in row[3:]))
            for row in rows
        }

    def begin(self, name: str, due: datetime, now: datetime) -> None:
        """Record that the job starts `now`, due at `due`: however it ends, it is not started again for that
        time. Raises StateError."""
        with self._transaction() as database:
            database.execute(
                "UPDATE job SET last = ?, began = ?, ended = NULL WHERE name = ?",
                (due.isoformat(), now.isoformat(), name),
            )

    # --- what is wrong

    def wrong(self, job: str) -> list[KnownFinding]:
        """What the job knows to be wrong. Raises StateError."""
        sql = (
            "SELECT about, device, what, told, severity, place, state, since FROM wrong WHERE job = ? ORDER"
            " BY about, device, what"
        )
        rows = self._rows(sql, (job,))
        return [
            KnownFinding(
                AlertFinding(
                    AlertKey(str(about), str(device), str(what)),
                    str(told),
                    str(severity),
                    str(place),
                    str(state),
                ),
                str(since),
            )
            for about, device, what, told, severity, place, state, since in rows
        ]

    def keep(
        self,
        job: str,
        does: str,
        found: JobFindings,
        result: str,
        news: Sequence[Alert],
        told: Sequence[tuple[str, str]],
        now: datetime,
    ) -> None:
        """What a run has found, and what is to be `told` of it, each a body with a target: all or nothing.
        Raises StateError."""
        at = now.isoformat()
        with self._transaction() as database:
            database.execute(
                "UPDATE job SET ended = ?, result = ?, told = ? WHERE name = ?", (at, result, found.told, job)
            )
            for one in news:
                key = one.finding.key
                if one.became is Transition.NEW:
                    continue
                if one.became is Transition.RIGHT:
                    sql = "DELETE FROM wrong WHERE job = ? AND about = ? AND device = ? AND what = ?"
                    database.execute(sql, (job, key.about, key.device, key.what))
                else:
                    finding = one.finding
                    row = (
                        job,
                        key.about,
                        key.device,
                        key.what,
                        finding.told,
                        finding.severity,
                        finding.place,
                        finding.state,
                        one.since or at,
                    )
                    database.execute("INSERT OR REPLACE INTO wrong VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", row)
            if found.measures:
                measures = json.dumps(dict(found.measures), separators=(",", ":"))
                database.execute("INSERT INTO trend VALUES (?, ?, ?, ?)", (at, job, does, measures))
            for body in dict.fromkeys(body for body, _ in told):
                number = database.execute(
                    "INSERT INTO notice (made, body) VALUES (?, ?)", (at, body)
                ).lastrowid
                rows = [(number, target) for one, target in told if one == body]
                database.executemany("INSERT INTO sending (notice, target) VALUES (?, ?)", rows)

    def trend(self, does: Sequence[str] = ()) -> list[Sample]:
        """What was counted, the oldest first. Raises StateError."""
        rows = self._rows("SELECT at, job, does, measures FROM trend ORDER BY at, rowid")
        found = [
            Sample(_time(at), str(job), str(kind), json.loads(str(measures)))
            for at, job, kind, measures in rows
        ]
        return [one for one in found if not does or one.does in does]

    # --- notifications to send

    def waiting(self, target: str | None = None) -> list[QueuedNotification]:
        """Return what still must be sent, to `target` or to all, in order. Raises StateError."""
        sql = (
            "SELECT notice, target, made, attempts, next, refused, said FROM sending JOIN notice ON number ="
            " notice WHERE ?1 IS NULL OR target = ?1 ORDER BY notice, target"
        )
        return [
            QueuedNotification(
                int(str(number)),
                str(to),
                str(made),
                int(str(attempts)),
                _time(at) if at else None,
                refused is not None,
                _text(said),
            )
            for number, to, made, attempts, at, refused, said in self._rows(sql, (target,))
        ]

    def body(self, number: int) -> str:
        """The notification. Raises StateError."""
        return str(self._rows("SELECT body FROM notice WHERE number = ?", (number,))[0][0])

    def sent(self, number: int, target: str) -> None:
        """Record that it was delivered. Raises StateError."""
        with self._transaction() as database:
            database.execute("DELETE FROM sending WHERE notice = ? AND target = ?", (number, target))
            sql = (
                "DELETE FROM notice WHERE number = ? AND NOT EXISTS (SELECT 1 FROM sending WHERE notice ="
                " number)"
            )
            database.execute(sql, (number,))

    def failed(self, number: int, target: str, next_: datetime, said: str, *, refused: bool) -> None:
        """Record a failed attempt; the next one is at `next_`. Raises StateError."""
        sql = (
            "UPDATE sending SET attempts = attempts + 1, next = ?, said = ?, refused = ? WHERE notice = ? AND"
            " target = ?"
        )
        with self._transaction() as database:
            database.execute(sql, (next_.isoformat(), said, "yes" if refused else None, number, target))


def _time(value: object) -> datetime:
    return datetime.fromisoformat(str(value)).astimezone(UTC)


def _text(value: object) -> str | None:
    return None if value is None else str(value)
