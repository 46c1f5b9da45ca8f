"""oast watch: backups, drift and checks on a schedule, and what is new told to others."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from rich.text import Text

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import Subcommand, flag
from oast.cli.estate_option import folder_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.shared_options import EstateOptions, FormatOptions
from oast.cli.terminal import print_hanging
from oast.errors import EstateError
from oast.estate import WatchSettings, read_settings as read_settings
from oast.operations import (
    FAILED as JOB_FAILED,
    POLICY,
    RIGHT,
    JobFinished,
    JobStarted,
    JobTrouble,
    Watch,
    WatchEvent,
    jobs_document,
    waiting_document,
)
from oast.watch import Alert, AlertFinding, Store, Transition, due_at, zone_of_machine

SHOWN_NEWS = 12
STYLES = {
    Transition.WRONG: "red",
    Transition.OTHERWISE: "yellow",
    Transition.RIGHT: "green",
    Transition.NEW: "cyan",
}
HINT = """add to oast.toml, for example:
        [[watch.jobs]]
        do = "drift"
        at = "*/30 * * * *\""""


@dataclass(frozen=True, kw_only=True)
class WatchOptions(FormatOptions, EstateOptions):
    """The options of `oast watch`."""

    now: bool = flag("--now", group="how", help="start with every job, due or not")
    once: bool = flag("--once", group="how", help="run every job once, send notifications, and exit")
    listing: bool = flag(
        "--list", group="how", help="list the jobs, their last results, and unsent notifications"
    )


def run(options: WatchOptions) -> int:
    # Each job reads the rest of the estate; its mistakes are reported like those of any job.
    folder = folder_of(options)
    settings = read_settings(folder)
    if not settings.watch.jobs:
        raise EstateError("oast.toml has no [[watch.jobs]]", hint=HINT)
    if options.listing:
        return _list(options, folder, settings.watch)
    watch = Watch(folder, os.environ, _teller(options))
    if options.once:
        results = run_to_end(watch.once())
        return DONE if all(result == RIGHT for result in results) else FAILED if JOB_FAILED in results else NO
    if options.format == "text" and not options.quiet:
        jobs, targets = settings.watch.jobs, settings.watch.targets
        sys.stderr.write(
            f"watching: {plural(len(jobs), 'job')}, {plural(len(targets), 'target')}; Ctrl-C ends it\n"
        )
    try:
        run_to_end(watch.run(now=options.now))
    except KeyboardInterrupt:
        # A signal is the normal end of a watch; only an interrupted job is reported.
        if watch.cut_short is not None:
            sys.stderr.write(
                f"the job '{watch.cut_short}' was interrupted; it runs again at the next start\n"
            )
            raise
    return DONE


def _teller(options: WatchOptions) -> Callable[[WatchEvent], object]:
    def as_json(event: WatchEvent) -> None:
        sys.stdout.write(json.dumps({"format": "oast.watch/1", "at": _now(), **_document(event)}) + "\n")
        sys.stdout.flush()

    def as_text(event: WatchEvent) -> None:
        _show(event, quiet=bool(options.quiet))
        sys.stdout.flush()
        sys.stderr.flush()

    return as_json if options.format == "json" else as_text


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _document(event: WatchEvent) -> dict[str, Any]:
    if isinstance(event, JobStarted):
        return {"event": "begun", "job": event.job, "due": event.due.isoformat(timespec="seconds")}
    if isinstance(event, JobFinished):
        return {
            "event": "ended",
            "job": event.job,
            "result": event.result,
            "told": event.told,
            "news": [one.document() for one in event.news],
            "next": event.next.isoformat(timespec="seconds") if event.next else None,
        }
    if isinstance(event, JobTrouble):
        return {"event": "trouble", "what": event.what}
    return {
        "event": "told" if event.answer.told else "not told",
        "target": event.target,
        "number": event.number,
        "attempts": event.attempts,
        "said": event.answer.said or None,
        "next": event.next.isoformat(timespec="seconds") if event.next else None,
    }


def _show(event: WatchEvent, *, quiet: bool) -> None:
    if isinstance(event, JobStarted):
        return
    at = datetime.now().astimezone().strftime("%Y-%m-%d %H:%M:%S")
    if isinstance(event, JobFinished):
        out = console()
        style = "green" if event.result == RIGHT else "red"
        again = f"; next {_local(event.next)}" if event.next and not quiet else ""
        print_hanging(
            out,
            Text.assemble((f"{at}  ", "dim"), (event.job, "bold"), ": ", (event.told, style), (again, "dim")),
        )
        for one in event.news[:SHOWN_NEWS]:
            print_hanging(out, _line(one))
        if len(event.news) > SHOWN_NEWS:
            out.print(f"    and {len(event.news) - SHOWN_NEWS} more")
        return
    err = console(error=True)
    if isinstance(event, JobTrouble):
        print_hanging(err, Text.assemble((f"{at}  ", "dim"), ("warning: ", "yellow"), event.what))
    elif not event.answer.told:
        refused = "refuses" if event.answer.refused else "could not be sent"
        again = f"; again {_local(event.next)}" if event.next else ""
        told = f"{event.target} {refused} notification {event.number}: {event.answer.said}{again}"
        print_hanging(err, Text.assemble((f"{at}  ", "dim"), (told, "yellow")))
    elif event.attempts > 1:
        err.print(f"{at}  notification {event.number} delivered to {event.target} (attempt {event.attempts})")


def _line(news: Alert) -> Text:
    told = replace(news.finding, place="") if news.became is Transition.RIGHT else news.finding
    return Text.assemble("    ", (f"{news.became}: ", STYLES[news.became]), _subject(told))


def _subject(finding: AlertFinding) -> Text:
    key = finding.key
    subject = ", ".join(filter(None, (key.device, key.what if key.about != POLICY else "")))
    place = f"  ({finding.place})" if finding.place else ""
    return Text.assemble(f"{subject}: " if subject else "", finding.told, (place, "dim"))


def _local(at: datetime | None) -> str:
    return at.astimezone().strftime("%Y-%m-%d %H:%M:%S") if at else ""


def _list(options: WatchOptions, folder: Path, watch: WatchSettings) -> int:
    store = Store(folder / ".oast", looking=True)
    try:
        jobs = [jobs_document(store, job) for job in watch.jobs]
        nexts = _nexts(store, watch)
        waiting = waiting_document(store)
        wrong = [known for job in watch.jobs for known in store.wrong(job.name)]
    finally:
        store.close()
    if options.format == "json":
        listed = [
            {**job, "next": at.isoformat(timespec="seconds")} for job, at in zip(jobs, nexts, strict=True)
        ]
        print_json(
            "watching",
            1,
            {"jobs": listed, "targets": [target.name for target in watch.targets], "waiting": waiting},
        )
        return DONE
    out = console()
    listing = table(
        "job", "does", "schedule", "next", "last", "result", numbers=(), whole=("schedule", "next", "last")
    )
    for job, at in zip(jobs, nexts, strict=True):
        ended = datetime.fromisoformat(job["ended"]) if job["ended"] else None
        listing.add_row(
            job["job"], job["does"], job["schedule"], _local(at), _local(ended), job["told"] or "not run yet"
        )
    print_table(out, listing)
    if wrong:
        out.print()
        out.print("1 open finding, since:" if len(wrong) == 1 else f"{len(wrong)} open findings, since:")
        for known in wrong[:SHOWN_NEWS]:
            since = _local(datetime.fromisoformat(known.since))
            print_hanging(out, Text.assemble("    ", (f"{since}  ", "dim"), _subject(known.finding)))
        if len(wrong) > SHOWN_NEWS:
            out.print(f"    and {len(wrong) - SHOWN_NEWS} more")
    _show_waiting(watch, waiting)
    return DONE


def _show_waiting(watch: WatchSettings, waiting: list[dict[str, Any]]) -> None:
    out = console()
    names = [target.name for target in watch.targets]
    if waiting:
        out.print()
    for row in waiting:
        gone = "" if row["target"] in names else ", which is no longer in oast.toml"
        said = f": {row['said']}" if row["said"] else ""
        oldest = _local(datetime.fromisoformat(row["oldest"]))
        told = (
            f"{plural(row['number'], 'notification')} for {row['target']}{gone} not sent yet, oldest "
            f"{oldest}{said}"
        )
        print_hanging(out, Text(told, style="yellow"))


def _nexts(store: Store, watch: WatchSettings) -> list[datetime]:
    now = datetime.now(UTC)
    zone = watch.zone or zone_of_machine(os.environ)
    known = store.jobs()
    return [due_at(job, known[job.name].last if job.name in known else now, now, zone) for job in watch.jobs]


COMMAND = Subcommand(
    WatchOptions,
    run,
    examples=(
        ("oast watch --once", "run all jobs now, for example from cron"),
        ("oast watch", "run jobs on their schedule until interrupted"),
        ("oast watch --list", "show the last result of each job"),
    ),
    exits=(0, 1, 2, 3, 4, 130),
    no="with --once or --list: a job found a problem",
)
