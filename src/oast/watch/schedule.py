"""When a job is due: by its schedule, by its last start, and by a clock that may jump.

A job that was due while no watch ran is started once, however often it was due. A clock that was set back
makes no job wait for the time that it had shown before.
"""

from __future__ import annotations

import hashlib
import zoneinfo
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta, tzinfo
from pathlib import Path

from cronsim import CronSim

from oast.estate import JobSettings

LOCAL_TIME = Path("/etc/localtime")
NEVER = datetime.max.replace(tzinfo=UTC)


def zone_of_machine(environment: Mapping[str, str]) -> tzinfo:
    """The time zone that the machine is set to; UTC when that cannot be found out."""
    try:
        if name := environment.get("TZ", "").lstrip(":"):
            return zoneinfo.ZoneInfo(name)
        with LOCAL_TIME.open("rb") as file:
            return zoneinfo.ZoneInfo.from_file(file, key="local time")
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        return UTC


def due_at(job: JobSettings, last: datetime, now: datetime, zone: tzinfo) -> datetime:
    """The time that `job` is due at next, or that it was due at last (then it is not after `now`). All times
    are in UTC; `zone` is that in which cron expressions are read.

    `last` is the time for which it was begun last, or since when the job is known. If that is after `now`,
    the clock was put back: the job counts as begun now.
    """
    since = min(last, now)
    if job.every_s is not None:
        every = timedelta(seconds=job.every_s)
        return since + every * max(int((now - since) / every), 1)
    before = _cron(job, now + timedelta(seconds=1), zone, back=True)
    if before is not None and since < before <= now:
        return before
    return _cron(job, now, zone) or NEVER


def _cron(job: JobSettings, since: datetime, zone: tzinfo, *, back: bool = False) -> datetime | None:
    """Return the first time of the expression after `since`, or the last one before it; None when there is
    none within about fifty years."""
    for found in CronSim(job.at or "", since.astimezone(zone), reverse=back):
        at = found.astimezone(UTC)
        # In the hour that summer time repeats, a time of the day can be meant that has been.
        if (at < since) if back else (at > since):
            return at
    return None


def delay_s(estate: str, job: str, due: datetime, jitter_s: float) -> float:
    """How many seconds after it is due the job is begun: as if drawn by lot, from 0 to `jitter_s`, and the
    same each time it is asked."""
    digest = hashlib.sha256(f"{estate}\0{job}\0{due.isoformat()}".encode()).digest()
    return jitter_s * int.from_bytes(digest[:4], "big") / 2**32
