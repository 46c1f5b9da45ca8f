"""`[watch]` in oast.toml: what `oast watch` does on a schedule, and whom it tells. The page:
docs/watch.md."""

from __future__ import annotations

import re
import zoneinfo
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import SplitResult, urlsplit

import cronsim

from oast.errors import ErrorCollector, EstateError
from oast.estate import selectors
from oast.records import Place
from oast.spelling import spelling_hint
from oast.toml_text import Table

BACKUP, DRIFT, VERIFY, REFRESH = "backup", "drift", "verify", "refresh"
DOES = (BACKUP, DRIFT, VERIFY, REFRESH)
WEBHOOK, SYSLOG, COMMAND = "webhook", "syslog", "command"
NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9 ._-]{0,63}")
SYSLOG_PORTS = {"udp": 514, "tls": 6514}
LEAST_EVERY_S = 1
LONGEST_S = 366 * 86400

# RFC 5424, section 6.2.1, table 1: by number.
FACILITIES = (
    "kern",
    "user",
    "mail",
    "daemon",
    "auth",
    "syslog",
    "lpr",
    "news",
    "uucp",
    "cron",
    "authpriv",
    "ftp",
    "ntp",
    "audit",
    "alert",
    "clock",
    "local0",
    "local1",
    "local2",
    "local3",
    "local4",
    "local5",
    "local6",
    "local7",
)


@dataclass(frozen=True, slots=True)
class JobSettings:
    """One thing that is done again and again: `does` is backup, drift or verify, of the devices `on` (None:
    all), or refresh.

    It is due at the times of the cron expression `at`, or every `every_s` seconds. Checks may take `wait_s`
    seconds to come true; after `limit_s` seconds it is given up.
    """

    name: str
    does: str
    at: str | None
    every_s: int | None
    on: str | None
    wait_s: float
    limit_s: float
    place: Place

    @property
    def when(self) -> str:
        """The schedule as the settings have it."""
        return self.at if self.at is not None else f"every {self.every_s} s"


@dataclass(frozen=True, slots=True)
class TargetSettings:
    """A target of notifications. `kind` is webhook, syslog or command; `url` is for the first two, `words`
    are the command's.

    `secret` names the key that signs what is sent to a webhook. TLS is verified, with `authority` (a file of
    PEM certificates) in place of the system's authorities. `of` are the jobs whose news it gets (None: all).
    """

    name: str
    kind: str
    url: SplitResult
    words: tuple[str, ...]
    secret: str | None
    authority: Path | None
    facility: int
    of: tuple[str, ...] | None
    timeout_s: float
    place: Place


@dataclass(frozen=True, slots=True)
class WatchSettings:
    """`zone` is the time zone of cron expressions; every job is begun up to `jitter_s` seconds later than it
    is due; the heartbeat file is written every `heartbeat_s` seconds."""

    jobs: tuple[JobSettings, ...] = ()
    targets: tuple[TargetSettings, ...] = ()
    zone: zoneinfo.ZoneInfo | None = None
    jitter_s: float = 0.0
    heartbeat_s: float = 10.0


def read_schedule_settings(table: Table | None, folder: Path) -> WatchSettings:
    """What is wrong is noted in the table's file."""
    if table is None:
        return WatchSettings()
    mistakes = table.file.mistakes
    zone = _zone(table)
    jobs = tuple(_job(job, mistakes) for job in table.array("jobs"))
    targets = tuple(_target(target, folder) for target in table.array("notify"))
    for kind, named in (("job", jobs), ("target", targets)):
        names = [one.name for one in named]
        for one in named:
            if names.count(one.name) > 1:
                table.file.wrong(
                    f"two {kind}s have the name '{one.name}'",
                    one.place,
                    f"give each {kind} a different 'name'",
                )
                break
    known = [job.name for job in jobs]
    for target in targets:
        for name in target.of or ():
            if name not in known:
                table.file.wrong(
                    f"'of' refers to the unknown job '{name}'", target.place, spelling_hint(name, known)
                )
    settings = WatchSettings(
        jobs, targets, zone, table.count("jitter_s", 0), table.positive("heartbeat_s", 10.0)
    )
    table.finish()
    return settings


def check(
    settings: WatchSettings, devices: Mapping[str, selectors.Attributes], mistakes: ErrorCollector
) -> None:
    """Every job has to pick devices that there are."""
    for job in settings.jobs:
        if job.on is not None:
            with mistakes.collected():
                selectors.parse_selector(job.on, job.place).pick(devices)


def _zone(table: Table) -> zoneinfo.ZoneInfo | None:
    name = table.text("timezone")
    if name is None:
        return None
    try:
        return zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        known = zoneinfo.available_timezones()
        table.wrong("timezone", f"unknown time zone '{name}'", spelling_hint(name, known) if known else None)
        return None


def _job(table: Table, mistakes: ErrorCollector) -> JobSettings:
    does = table.choice("do", DOES)
    at, every = table.text("at"), table.number("every_s", 0, LEAST_EVERY_S, LONGEST_S) or None
    if (at is None) == (every is None) and not (table.has("at") and at is None):
        table.wrong(
            "at" if at else None,
            "a job needs either 'at' or 'every_s'",
            "at = '0 3 * * *' is every night at three",
        )
    if at is not None:
        with mistakes.collected():
            cron(at, table.place("at"))
    job = JobSettings(
        name=_name(table, does),
        does=does,
        at=at,
        every_s=every,
        on=table.text("on"),
        wait_s=table.count("wait_s", 0),
        limit_s=table.positive("limit_s", 3600.0),
        place=table.place("on") if table.has("on") else table.place(),
    )
    if job.on is not None and job.does == REFRESH:
        table.wrong("on", "'on' cannot be used with do = 'refresh', which updates all sources")
    if job.wait_s and job.does != VERIFY:
        table.wrong("wait_s", "'wait_s' can only be used with do = 'verify'")
    table.finish()
    return job


def cron(expression: str, place: Place | None = None) -> None:
    """Raises EstateError when `expression` is invalid, or describes a time that never comes."""
    hint = "minute, hour, day of the month, month, day of the week: '*/30 * * * *' is every half hour"
    try:
        if len(expression.split()) != 5:
            raise cronsim.CronSimError("it needs five fields")
        next(cronsim.CronSim(expression, datetime.now(UTC)))
    except cronsim.CronSimError as wrong:
        why = str(wrong).lower()
        raise EstateError(
            f"'{expression}' is not a valid cron expression ({why})", place=place, hint=hint
        ) from None
    except StopIteration:
        raise EstateError(f"'{expression}' never occurs", place=place, hint=hint) from None


def _name(table: Table, otherwise: str) -> str:
    name = table.text("name") or otherwise
    if not NAME.fullmatch(name):
        table.wrong(
            "name", f"'{name}' is not a valid name", "use up to 64 letters, digits, spaces, '.', '_' and '-'"
        )
    return name


def _target(table: Table, folder: Path) -> TargetSettings:
    kinds = [kind for kind in (WEBHOOK, SYSLOG, COMMAND) if table.has(kind)]
    if len(kinds) != 1:
        table.wrong(None, "it needs exactly one of 'webhook', 'syslog' and 'command'")
    kind = kinds[0] if kinds else WEBHOOK
    words = table.texts(COMMAND) if kind == COMMAND else ()
    if kind == COMMAND and not all(words or ("",)):
        table.wrong(
            COMMAND, "'command' must be a list: a program and its arguments", 'such as ["bin/tell", "duty"]'
        )
    url = urlsplit("") if kind == COMMAND else _url(table, kind)
    authority = table.text("authority")
    path = None if authority is None else (folder / Path(authority).expanduser()).resolve()
    if path is not None and not path.is_file():
        table.wrong("authority", f"no file {path}")
    facility = table.choice("facility", FACILITIES, "daemon")
    for key, expected in (("secret", WEBHOOK), ("facility", SYSLOG)):
        if table.has(key) and kind != expected:
            table.wrong(key, f"'{key}' needs '{expected}'")
    target = TargetSettings(
        name=_name(
            table, (url.hostname if kind != COMMAND else Path(words[0]).name if words else "") or kind
        ),
        kind=kind,
        url=url,
        words=words,
        secret=table.text("secret"),
        authority=path,
        facility=FACILITIES.index(facility),
        of=table.texts("of") if table.has("of") else None,
        timeout_s=table.positive("timeout_s", 20.0),
        place=table.place(),
    )
    table.finish()
    return target


def _url(table: Table, kind: str) -> SplitResult:
    written = table.needed(kind) if table.has(kind) else ""
    schemes = ("https", "http") if kind == WEBHOOK else tuple(SYSLOG_PORTS)
    example = (
        "https://alarm.larkwater.example/oast" if kind == WEBHOOK else "tls://log.larkwater.example:6514"
    )
    nothing = urlsplit("")
    try:
        url = urlsplit(written)
        port = url.port
    except ValueError:
        url, port = nothing, None
    if url.scheme not in schemes or not url.hostname or port == 0 or any(c.isspace() for c in written):
        if written:
            table.wrong(
                kind,
                f"'{kind}' must be {' or '.join(f'{scheme}://…' for scheme in schemes)}",
                f"such as {example}",
            )
        return nothing
    if url.username is not None or url.password is not None:
        table.wrong(
            kind,
            "it contains a secret, which must not be in a file of the estate",
            "remove it, and sign notifications with: secret = 'NAME OF A SECRET'",
        )
        return nothing
    if kind == SYSLOG and (url.path.strip("/") or url.query or url.fragment):
        table.wrong(kind, "a syslog address has only a host and a port", f"such as {example}")
    return url
