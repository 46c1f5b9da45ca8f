"""What is known of new devices: a SQLite database in the estate's working folder (WAL), and the log of
requests beside it.

Fields: docs/formats.md.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path
from typing import Any

from oast.errors import StateError
from oast.files import make_private

FOLDER = "onboarding"
FILE = "devices.sqlite"
REQUESTS = "requests.jsonl"
# Bytes in one file of requests, and how many former ones are kept.
REQUESTS_AT_MOST, REQUESTS_KEPT = 5_000_000, 3
VERSION = 2
BUSY_S = 20.0
SCHEMA = """
CREATE TABLE IF NOT EXISTS device (
    serial TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE, attributes TEXT NOT NULL, state TEXT NOT NULL,
    since TEXT NOT NULL,
    staged TEXT NOT NULL, why TEXT, certificate TEXT, host_keys TEXT NOT NULL DEFAULT '[]', noted TEXT,
    change TEXT
) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS artifact (
    serial TEXT PRIMARY KEY REFERENCES device ON DELETE CASCADE, conveyed BLOB NOT NULL,
    owner BLOB NOT NULL, voucher BLOB NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS refused (
    serial TEXT PRIMARY KEY, at TEXT NOT NULL, times INTEGER NOT NULL, why TEXT NOT NULL
) STRICT, WITHOUT ROWID;
"""
ROWS = (
    "SELECT serial, name, attributes, state, since, staged, why, certificate, host_keys, noted, change FROM"
    " device"
)
# A client can create any number of certificates; the oldest are forgotten.
MOST_REFUSED = 1000


class NewDeviceState(StrEnum):
    """How far a new device has come."""

    STAGED = "staged"
    ASKED = "asked"
    CONFIGURED = "configured"
    CALLED = "called home"
    MANAGED = "managed"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class NewDevice:
    """A new device. `since` (UTC) is when it reached its `state`, `why` the reason for a failure;
    `certificate` is the SHA-256 of the one that it showed first, and `noted` the last special event, such as
    a second device with its serial number."""

    serial: str
    name: str
    attributes: Mapping[str, Any]
    state: NewDeviceState
    since: datetime
    staged: datetime
    why: str | None
    certificate: str | None
    host_keys: tuple[str, ...]
    noted: str | None
    change: str | None = None
    """The approved change that staged it, where one did."""


@dataclass(frozen=True, slots=True)
class OnboardingRefusal:
    """A serial number that was refused: when last (UTC), how many times, and why."""

    serial: str
    at: datetime
    times: int
    why: str


@dataclass(frozen=True, slots=True)
class Artifacts:
    """What a device is given: conveyed information, the owner's certificates and the voucher, each as CMS in
    DER."""

    conveyed: bytes
    owner: bytes
    voucher: bytes


class NewDeviceStore:
    """The database of one estate; use as a context. Every method raises StateError when it cannot be read or
    written."""

    def __init__(self, working: Path) -> None:
        self._folder = working / FOLDER
        self._connection: sqlite3.Connection | None = None

    def __enter__(self) -> NewDeviceStore:
        with self._told():
            make_private(self._folder)
            path = self._folder / FILE
            path.touch(mode=0o600)
            connection = self._connection = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None)
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = FULL")
            connection.execute("PRAGMA foreign_keys = ON")
            found = connection.execute("PRAGMA user_version").fetchone()[0]
            if found == 1:
                connection.execute("ALTER TABLE device ADD COLUMN change TEXT")
            elif found not in (0, VERSION):
                raise StateError(f"{path} was written by another version of Oast (format {found})")
            connection.executescript(SCHEMA)
            connection.execute(f"PRAGMA user_version = {VERSION}")
        return self

    def __exit__(self, *error: object) -> None:
        if self._connection is not None:
            self._connection.close()

    @contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            raise StateError(f"cannot use {self._folder / FILE}: {error}") from None
        except OSError as error:
            raise StateError(f"cannot write {error.filename}: {error.strerror}") from None

    def _do(self, sql: str, *values: object) -> list[tuple[Any, ...]]:
        assert self._connection is not None  # noqa: S101  # it is used as a context
        with self._told():
            return self._connection.execute(sql, values).fetchall()

    def all(self) -> list[NewDevice]:
        """Every device, in the order of their names."""
        rows = self._do(f"{ROWS} ORDER BY name")
        return [_box(row) for row in rows]

    def one(self, serial: str) -> NewDevice | None:
        """The device with that serial number, if it is expected."""
        rows = self._do(f"{ROWS} WHERE serial = ?", serial)
        return _box(rows[0]) if rows else None

    def stage(
        self,
        serial: str,
        name: str,
        attributes: Mapping[str, Any],
        given: Artifacts,
        change: str | None = None,
    ) -> None:
        """Expect a device from now on, as the approved `change` says, if there is one; a device that is
        staged again starts again."""
        now = _now()
        self._do("BEGIN IMMEDIATE")
        try:
            self._do("DELETE FROM device WHERE serial = ?", serial)
            self._do("DELETE FROM refused WHERE serial = ?", serial)
            self._do(
                "INSERT INTO device (serial, name, attributes, state, since, staged, change) "
                "VALUES (?, ?, ?, ?, ?, ?, ?)",
                serial, name, json.dumps(dict(attributes)), NewDeviceState.STAGED, now, now, change,
            )  # fmt: skip
            self._do(
                "INSERT INTO artifact VALUES (?, ?, ?, ?)", serial, given.conveyed, given.owner, given.voucher
            )
            self._do("COMMIT")
        except BaseException:
            with suppress(StateError):
                self._do("ROLLBACK")
            raise

    def forget(self, serial: str) -> bool:
        """Whether it was expected; it is not any more."""
        return bool(self._do("DELETE FROM device WHERE serial = ? RETURNING serial", serial))

    def artifacts(self, serial: str) -> Artifacts | None:
        """What the device is given."""
        rows = self._do("SELECT conveyed, owner, voucher FROM artifact WHERE serial = ?", serial)
        return Artifacts(*rows[0]) if rows else None

    def is_its(self, serial: str, certificate: str) -> bool:
        """Whether that is the certificate which the device has shown first; the first one is."""
        rows = self._do(
            "UPDATE device SET certificate = coalesce(certificate, ?) WHERE serial = ? RETURNING certificate",
            certificate,
            serial,
        )
        return bool(rows) and rows[0][0] == certificate

    def come_to(
        self,
        serial: str,
        state: NewDeviceState,
        why: str | None = None,
        host_keys: tuple[str, ...] | None = None,
    ) -> None:
        """The device has come so far."""
        self._do(
            "UPDATE device SET state = ?, since = ?, why = ? WHERE serial = ?", state, _now(), why, serial
        )
        if host_keys is not None:
            self._do("UPDATE device SET host_keys = ? WHERE serial = ?", json.dumps(host_keys), serial)

    def note(self, serial: str, what: str) -> None:
        """Something that does not change how far it has come."""
        self._do("UPDATE device SET noted = ? WHERE serial = ?", what, serial)

    def refuse(self, serial: str, why: str) -> None:
        """A device was refused."""
        self._do(
            "INSERT INTO refused VALUES (?, ?, 1, ?) ON CONFLICT DO UPDATE SET at = excluded.at,"
            " times = times + 1, why = excluded.why",
            serial, _now(), why,
        )  # fmt: skip
        self._do(
            "DELETE FROM refused WHERE serial IN (SELECT serial FROM refused ORDER BY at DESC LIMIT -1"
            " OFFSET ?)",
            MOST_REFUSED,
        )

    def refusals(self) -> list[OnboardingRefusal]:
        """Who was refused, the last first."""
        rows = self._do("SELECT serial, at, times, why FROM refused ORDER BY at DESC, serial")
        return [
            OnboardingRefusal(serial, datetime.fromisoformat(at), times, why)
            for serial, at, times, why in rows
        ]

    def log(self, entry: Mapping[str, Any]) -> None:
        """One request, as a line of JSON; of a file that is full, the former one is kept."""
        path = self._folder / REQUESTS
        with self._told():
            path.touch(mode=0o600)
            if path.stat().st_size > REQUESTS_AT_MOST:
                for number in range(REQUESTS_KEPT, 0, -1):
                    former = self._folder / (f"{REQUESTS}.{number - 1}" if number > 1 else REQUESTS)
                    if former.exists():
                        former.replace(self._folder / f"{REQUESTS}.{number}")
                path.touch(mode=0o600)
            with path.open("a", encoding="utf-8") as file:
                file.write(json.dumps({"at": _now(), **entry}, ensure_ascii=True) + "\n")


def _box(row: tuple[Any, ...]) -> NewDevice:
    serial, name, attributes, state, since, staged, why, certificate, host_keys, noted, change = row
    times = datetime.fromisoformat(since), datetime.fromisoformat(staged)
    return NewDevice(
        serial,
        name,
        json.loads(attributes),
        NewDeviceState(state),
        *times,
        why,
        certificate,
        tuple(json.loads(host_keys)),
        noted,
        change,
    )


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")
