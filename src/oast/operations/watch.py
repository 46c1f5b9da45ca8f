"""Watch: scheduled jobs, notifications of what is new, and a heartbeat, until it is ended."""

from __future__ import annotations

import asyncio
import json
import os
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Protocol

from oast.change.record import RunLock
from oast.errors import EstateError, OastError, StateError
from oast.estate import (
    REFRESH,
    SETTINGS_FILE as SETTINGS_FILE,
    JobSettings,
    Settings,
    load_estate,
    read_settings,
    secrets_of,
)
from oast.files import write_whole
from oast.operations.jobs import describe_result, failed_whole, run_job
from oast.operations.sources import refresh_all
from oast.records import Secret
from oast.watch import (
    ERROR,
    JOB,
    Alert,
    Attempt,
    JobFindings,
    Notifier,
    Store,
    alerts_from,
    delay_s,
    due_at,
    zone_of_machine,
)

HEARTBEAT = "watch.heartbeat"
LOCK = "watch"
# No sleep is longer than this, so that the clock and the settings are looked at.
LOOK_S = 5.0
# One notification holds this many news: receivers limit the size of a body.
TOLD_TOGETHER = 200
# What a problem may prevent, beside the heartbeat.
SETTINGS, KEEPING = "settings", "keeping"
RIGHT, WRONG, FAILED = "right", "wrong", "failed"


class WallClock(Protocol):
    """The time of the day, which may jump, and waiting, which does not."""

    def now(self) -> datetime:
        """The time in UTC."""

    async def sleep(self, seconds: float) -> None:
        """Wait."""


class MachineClock:
    """The clock of the machine."""

    def now(self) -> datetime:
        return datetime.now(UTC)

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)


@dataclass(frozen=True, slots=True)
class JobStarted:
    """A job begins; it was due at `due`."""

    job: str
    due: datetime


@dataclass(frozen=True, slots=True)
class JobFinished:
    """A job has ended: how, what is new, and when it is due next (None: it is done once only)."""

    job: str
    result: str
    told: str
    news: Sequence[Alert]
    next: datetime | None


@dataclass(frozen=True, slots=True)
class JobTrouble:
    """Something is in the way of the watch itself: it goes on, and tries again."""

    what: str


WatchEvent = JobStarted | JobFinished | JobTrouble | Attempt


class Watch:
    """Watches the estate in `folder`. `heard` is called with what happens."""

    def __init__(
        self,
        folder: Path,
        environment: Mapping[str, str],
        heard: Callable[[WatchEvent], object],
        clock: WallClock | None = None,
    ) -> None:
        """Raises EstateError when the settings are wrong, or name an unknown key."""
        self._folder = folder
        self._environment = environment
        self._listener = heard
        self._clock = clock or MachineClock()
        self._settings = read_settings(folder)
        self._stamp = self._stamp_now()
        self._running: tuple[str, datetime] | None = None
        # What is in the way, by what it is in the way of, until it is out of it.
        self._troubles: dict[str, str] = {}
        # The job that was being done when the watch was ended.
        self.cut_short: str | None = None
        # When a job that is due is begun: a while later, as others may be due at the same moment.
        self._begins: dict[str, tuple[datetime, datetime]] = {}
        for target in self._settings.watch.targets:
            if target.secret is not None:
                self._key(target.secret)

    async def run(self, *, now: bool = False) -> None:
        """Watch until cancelled; with `now`, begin with every job, due or not. Raises StateError when another
        process watches."""
        with self._alone() as store:
            sender = self._sender(store)
            async with asyncio.TaskGroup() as group:
                group.create_task(self._beat(store))
                telling = group.create_task(sender.run(self._settings.watch.targets))
                if now:
                    for job in self._settings.watch.jobs:
                        await self._do_safely(store, sender, job, self._clock.now())
                while True:
                    if self._settings_are_new():
                        telling.cancel()
                        telling = group.create_task(sender.run(self._settings.watch.targets))
                    pause = LOOK_S
                    try:
                        ready, due, pause = self._next(store)
                        if ready is not None:
                            await self._do(store, sender, ready, due)
                    except StateError as error:
                        self._in_trouble(KEEPING, error.message)
                        pause = LOOK_S
                    await self._clock.sleep(pause)

    async def once(self) -> list[str]:
        """Every job now, and what is new told as far as it can be; how each job ended. Raises StateError."""
        with self._alone() as store:
            sender = self._sender(store)
            results = [
                await self._do(store, sender, job, self._clock.now(), once=True)
                for job in self._settings.watch.jobs
            ]
            await sender.once(self._settings.watch.targets)
            return results

    @contextmanager
    def _alone(self) -> Iterator[Store]:
        """Two that watch one estate would tell everything twice."""
        lock = RunLock(self._folder / ".oast", LOCK)
        try:
            if not lock.try_acquire():
                hint = f"check it with: oast watch --list (heartbeat: {self._folder / '.oast' / HEARTBEAT})"
                raise StateError("another oast watch is running on this estate", hint=hint)
        except OSError as error:
            raise StateError(f"cannot use the working folder: {error.filename}: {error.strerror}") from None
        try:
            store = Store(self._folder / ".oast")
            try:
                yield store
            finally:
                store.close()
        finally:
            with suppress(OSError):
                lock.release(done=True)

    def _sender(self, store: Store) -> Notifier:
        return Notifier(store, self._folder, self._environment, self._key, self._heard)

    def _key(self, name: str) -> Secret:
        """Looked up each time, as it may be rotated while this runs. Raises EstateError."""
        return secrets_of(self._folder, self._environment).get(name)

    # --- when

    def _next(self, store: Store) -> tuple[JobSettings | None, datetime, float]:
        """The job that is to be begun now, with the time it was due at; or None, and how many seconds to
        wait. Raises StateError."""
        watch, now = self._settings.watch, self._clock.now()
        zone = watch.zone or zone_of_machine(self._environment)
        pause, first = LOOK_S, None
        for job in watch.jobs:
            ran = store.job(job.name, f"{job.does} {job.when}", now)
            if ran.is_cut_short:
                return job, ran.last, 0.0
            due = due_at(job, ran.last, now, zone)
            begins = self._begins.get(job.name)
            if begins is None or begins[0] > now or begins[1] > now + timedelta(seconds=watch.jitter_s):
                begins = (
                    due,
                    due
                    + timedelta(seconds=delay_s(str(self._folder.resolve()), job.name, due, watch.jitter_s)),
                )
                self._begins[job.name] = begins
            wait = (begins[1] - now).total_seconds()
            if wait <= 0 and (first is None or begins[1] < first[2]):
                first = (job, begins[0], begins[1])
            pause = min(pause, max(wait, 0.0))
        return (first[0], first[1], 0.0) if first else (None, now, max(pause, 0.01))

    def next_of(self, store: Store, job: JobSettings) -> datetime:
        """When the job is due next. Raises StateError."""
        now = self._clock.now()
        zone = self._settings.watch.zone or zone_of_machine(self._environment)
        return due_at(job, store.job(job.name, f"{job.does} {job.when}", now).last, now, zone)

    def _settings_are_new(self) -> bool:
        """Read the settings again if the file has changed. Settings with a mistake change nothing, and are
        reported."""
        stamp = self._stamp_now()
        if stamp == self._stamp:
            return False
        self._stamp = stamp
        try:
            self._settings = read_settings(self._folder)
        except EstateError as error:
            self._in_trouble(SETTINGS, f"the settings were not reloaded: {describe_result(error)}")
            return False
        self._troubles.pop(SETTINGS, None)
        self._begins.clear()
        return True

    def _stamp_now(self) -> object:
        try:
            stat = (self._folder / SETTINGS_FILE).stat()
        except OSError:
            return None
        return (stat.st_mtime_ns, stat.st_ino, stat.st_size)

    # --- doing

    async def _do_safely(self, store: Store, sender: Notifier, job: JobSettings, due: datetime) -> None:
        try:
            await self._do(store, sender, job, due)
        except StateError as error:
            self._in_trouble(KEEPING, error.message)

    async def _do(
        self, store: Store, sender: Notifier, job: JobSettings, due: datetime, *, once: bool = False
    ) -> str:
        """Run a job, and store its findings together with the notifications of them. Raises StateError when
        that fails."""
        began = self._clock.now()
        store.job(job.name, f"{job.does} {job.when}", began)
        store.begin(job.name, due, began)
        self._begins.pop(job.name, None)
        self._heard(JobStarted(job.name, due))
        self._running = (job.name, began)
        try:
            found = await self._found(job)
        except asyncio.CancelledError:
            self.cut_short = job.name
            raise
        finally:
            self._running = None
        result = result_of(found)
        now = self._clock.now()
        news = alerts_from(store.wrong(job.name), found)
        receivers = [
            target.name
            for target in self._settings.watch.targets
            if target.of is None or job.name in target.of
        ]
        bodies = [json.dumps(one) for one in notifications(self._settings, job, found, news, now)]
        store.keep(
            job.name,
            job.does,
            found,
            result,
            news,
            [(body, target) for body in bodies for target in receivers],
            now,
        )
        self._troubles.pop(KEEPING, None)
        sender.something_new()
        self._heard(
            JobFinished(job.name, result, found.told, news, None if once else self.next_of(store, job))
        )
        return result

    async def _found(self, job: JobSettings) -> JobFindings:
        try:
            async with asyncio.timeout(job.limit_s):
                if job.does == REFRESH:
                    # It is there to mend an inventory that may be wrong.
                    return await refresh_all(self._folder, self._environment, self._settings.sources)
                estate = await asyncio.to_thread(load_estate, self._folder, self._environment)
                return await run_job(estate, job)
        except TimeoutError:
            return failed_whole(job, f"not finished within {job.limit_s:g} s")
        except OastError as error:
            return failed_whole(job, describe_result(error))
        except OSError as error:
            return failed_whole(job, f"{error.filename or 'a file'}: {error.strerror or error}")
        except Exception as error:
            # An internal error in one job does not end the watch: it is reported like any other problem.
            return failed_whole(job, f"internal error in Oast: {type(error).__name__}: {error}")

    def _in_trouble(self, way: str, what: str) -> None:
        if self._troubles.get(way) != what:
            self._troubles[way] = what
            self._heard(JobTrouble(what))

    def _heard(self, event: WatchEvent) -> None:
        """A callback may fail, as with a log on a full disk: the watch goes on."""
        with suppress(Exception):
            self._listener(event)

    # --- the heartbeat

    async def _beat(self, store: Store) -> None:
        while True:
            try:
                content = json.dumps(self._heartbeat(store), indent=2) + "\n"
                write_whole(self._folder / ".oast" / HEARTBEAT, content, mode=0o600, durable=False)
                self._troubles.pop(HEARTBEAT, None)
            except StateError as error:
                self._in_trouble(HEARTBEAT, error.message)
            except OSError as error:
                self._in_trouble(HEARTBEAT, f"cannot write the heartbeat: {error.strerror}")
            await asyncio.sleep(self._settings.watch.heartbeat_s)

    def _heartbeat(self, store: Store) -> dict[str, Any]:
        now, jobs = self._clock.now(), self._settings.watch.jobs
        return {
            "format": "oast.heartbeat/1",
            "at": now.isoformat(timespec="seconds"),
            "process": os.getpid(),
            "running": (
                {"job": self._running[0], "began": self._running[1].isoformat(timespec="seconds")}
                if self._running
                else None
            ),
            "jobs": [
                {**jobs_document(store, job), "next": self.next_of(store, job).isoformat(timespec="seconds")}
                for job in jobs
            ],
            "waiting": waiting_document(store),
            "trouble": "; ".join(self._troubles.values()) or None,
        }


def result_of(found: JobFindings) -> str:
    """How a job ended: failed if it, a device or a source could not be looked at; wrong if something is not
    as it should be."""
    if found.measures.get("failed") or any(finding.key.about == JOB for finding in found.findings):
        return FAILED
    return WRONG if any(finding.severity == ERROR for finding in found.findings) else RIGHT


def notifications(
    settings: Settings, job: JobSettings, found: JobFindings, news: Sequence[Alert], now: datetime
) -> list[dict[str, Any]]:
    """Return the notification of a run: `oast.notification/1`, in several parts if there is much; nothing
    without news."""
    parts = [news[first : first + TOLD_TOGETHER] for first in range(0, len(news), TOLD_TOGETHER)]
    return [
        {
            "format": "oast.notification/1",
            "id": uuid.uuid4().hex,
            "at": now.isoformat(timespec="milliseconds"),
            "estate": settings.name,
            "job": job.name,
            "does": job.does,
            "told": found.told,
            "part": number,
            "parts": len(parts),
            "news": [one.document() for one in part],
        }
        for number, part in enumerate(parts, 1)
    ]


def jobs_document(store: Store, job: JobSettings) -> dict[str, Any]:
    """How a job stands. Raises StateError."""
    ran = store.jobs().get(job.name)
    return {
        "job": job.name,
        "does": job.does,
        "schedule": job.when,
        "on": job.on,
        "began": ran.began if ran else None,
        "ended": ran.ended if ran else None,
        "result": ran.result if ran else None,
        "told": ran.told if ran else None,
        "wrong": len(store.wrong(job.name)),
    }


def waiting_document(store: Store) -> list[dict[str, Any]]:
    """Return what still must be sent, by target. Raises StateError."""
    found: dict[str, dict[str, Any]] = {}
    for one in store.waiting():
        row = found.setdefault(
            one.target, {"target": one.target, "number": 0, "refused": 0, "oldest": one.made, "said": None}
        )
        row["number"] += 1
        row["refused"] += one.refused
        row["said"] = one.said or row["said"]
    return list(found.values())
