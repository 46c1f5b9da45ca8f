"""What the record of changes costs: a ledger of ten thousand of them, an archive of ten thousand files, and
the share of a push."""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import Any
from unittest import mock

from oast.archive.archive import Archive, backup_file
from oast.change.plan.diff import ApplyMode, ReadDevice, compare
from oast.change.record.journal import DeviceJournal
from oast.change.record.ledger import Ledger
from oast.change.record.ledger_entry import FORMAT, canonical_json, digest
from oast.change.state import Cause, Outcome, State
from oast.config.ownership import Scope
from oast.config.tree import canonical
from oast.connect.management_path import SessionAddresses
from oast.estate.estate import load_estate
from oast.intent.intent import Intent, IntentBuilder
from oast.operations.change_recorder import ChangeInfo, ChangeRecorder

CHANGES = 10_000
THOUSAND = 1_000
STEPS = (
    "prepared",
    "arming",
    "staged",
    "applying",
    "applied",
    "to be kept",
    "confirming",
    "confirmed",
    "saving",
)
MEMORY = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None


def ledger_of(folder: Path, number: int) -> None:
    """An estate whose ledger tells of `number` changes, begun and ended."""
    (folder / "oast.toml").write_text("format = 1\n")
    (folder / "inventory").mkdir()
    (folder / "inventory/devices.yaml").write_text("devices:\n  pier: {address: 192.0.2.1, platform: bine}\n")
    (folder / "changes/content").mkdir(parents=True)
    ledger = Ledger(folder, folder / ".oast")
    plan = ledger.keep({"format": "oast.plan/1", "devices": {}})
    before, lines = None, []
    for entry in range(2 * number):
        about = {
            "plan": plan,
            "reason": "More name servers",
            "author": "ada@larkwater.example",
            "ticket": None,
            "devices": 12,
            "difference": plan,
        }
        said: dict[str, Any] = (
            about if entry % 2 == 0 else {"states": {"delivered": 12}, "verdict": "done", "outcome": plan}
        )
        kind = "begun" if entry % 2 == 0 else "ended"
        at = f"2026-01-01T{entry // 3600:02}:{entry // 60 % 60:02}:{entry % 60:02}.000+00:00"
        line = canonical_json(
            {
                **said,
                "format": FORMAT,
                "number": entry + 1,
                "before": before,
                "kind": kind,
                "change": f"c{entry // 2}",
                "at": at,
                "run": f"c{entry // 2}",
            }
        )
        before = digest(line)
        lines.append(line + b"\n")
    (folder / "changes/ledger-0123456789ab.jsonl").write_bytes(b"".join(lines))


def in_seconds(work: Callable[[], object], times: int = 3) -> float:
    """The best of some times."""
    best = float("inf")
    for _ in range(times):
        began = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - began)
    return best


def listing_and_auditing() -> tuple[float, float]:
    """The program on a ledger of 10,000 changes: to list them, and to audit half of its entries, which are
    10,000."""
    with tempfile.TemporaryDirectory() as name, tempfile.TemporaryDirectory() as half:
        ledger_of(Path(name), CHANGES)
        ledger_of(Path(half), CHANGES // 2)
        command = [sys.executable, "-m", "oast", "change"]
        listed = in_seconds(
            lambda: subprocess.run(
                [*command, "list", "--format", "json"], cwd=name, check=True, capture_output=True
            )
        )
        audited = in_seconds(
            lambda: subprocess.run([*command, "audit"], cwd=half, check=True, capture_output=True)
        )
    return listed, audited


def archiving() -> float:
    """A commit of 10,000 files of 6 KB."""
    with tempfile.TemporaryDirectory() as name:
        archive = Archive(Path(name) / "archive", {"PATH": "/usr/bin:/bin"})
        files = {
            backup_file("running", f"pier-{n}"): (
                f"system\n  contact pier-{n}\n".encode() + b"interface port1\n  mtu 9000\n" * 230
            )
            for n in range(CHANGES)
        }
        began = time.perf_counter()
        archive.commit(files, "nightly", "ada@larkwater.example", "monday")
        return time.perf_counter() - began


@contextmanager
def unrecorded() -> Iterator[None]:
    """Nothing is written down: what a push would take without a record."""

    class Nothing:
        def of(self, run: str, device: str) -> DeviceJournal:
            return DeviceJournal(mock.Mock(), run, device)

    async def no_step(self: DeviceJournal, what: str, *, must: bool = False, **columns: object) -> None:
        return

    with (
        mock.patch.object(ChangeRecorder, "begin", lambda *arguments: None),
        mock.patch.object(ChangeRecorder, "end", lambda *arguments: None),
        mock.patch.object(ChangeRecorder, "journal", property(lambda self: Nothing())),
        mock.patch.object(DeviceJournal, "step", no_step),
    ):
        yield


def in_turn(
    push: Callable[[], object], prepare: Callable[[str], None], rounds: int = 6
) -> tuple[float, float]:
    """The shortest time of a push without its record and with it, in seconds; each in a process of its own,
    as the memory of one that has pushed before makes the next slower by more than what is measured."""
    times = {"bare": float("inf"), "recorded": float("inf")}
    for number in range(rounds):
        for what in sorted(times, reverse=bool(number % 2)):
            prepare(f"{what}{number}")
            times[what] = min(times[what], _in_a_process(push, recorded=what == "recorded"))
    return times["bare"], times["recorded"]


def _in_a_process(push: Callable[[], object], *, recorded: bool) -> float:
    ours, theirs = os.pipe()
    process = os.fork()
    if not process:
        with nullcontext() if recorded else unrecorded():
            began = time.perf_counter()
            push()
            os.write(theirs, f"{time.perf_counter() - began}".encode())
        os._exit(0)
    os.close(theirs)
    with os.fdopen(ours) as told:
        seconds = float(told.read() or "nan")
    os.waitpid(process, 0)
    if seconds != seconds:
        raise AssertionError("the push failed")
    return seconds


def recording_a_thousand() -> tuple[float, float]:
    """To begin the record of a change of 1,000 devices, and to write down the steps of each and end it, in
    seconds."""
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        folder = Path(name)
        (folder / "oast.toml").write_text("format = 1\n")
        (folder / "inventory").mkdir()
        rows = "".join(f"  pier-{n}: {{address: 192.0.2.1, platform: bine}}\n" for n in range(THOUSAND))
        (folder / "inventory/devices.yaml").write_text(f"devices:\n{rows}")
        (folder / "intent.yaml").write_text("sections:\n  - section: interfaces\n")
        (folder / "templates/bine").mkdir(parents=True)
        (folder / "templates/bine/interfaces.j2").write_text(
            "{#\nsection: interfaces\nowns: ['interface */description']\n#}\n"
        )
        estate = load_estate(folder, {**os.environ})
        builder = IntentBuilder(estate)
        comparisons = []
        lines = [f"interface port{n}\n  description gate-{n}\n" for n in range(1, 51)]
        for device in estate.devices.values():
            syntax = builder.syntax(device)
            running = "".join(lines)
            tree = canonical(syntax.parse(running.replace("gate-1", "pier-1")).tree)
            scope = Scope((("interface *", "description"),))
            intent = Intent.of_record(
                device, builder.platform(device), tree, scope, {"interfaces": scope.includes}
            )
            comparisons.append(
                compare(intent, ReadDevice(running, None, SessionAddresses.of((), (), "")), syntax)
            )
        recording = ChangeRecorder(estate, "20260101T000000Z-0000", ChangeInfo("a bench"))
        outcomes = [Outcome(c.name, State.DELIVERED, Cause.NONE, c.counts, 1.0) for c in comparisons]
        began = time.perf_counter()
        recording.begin(comparisons, ApplyMode(), lambda intent: builder.syntax(intent.device))
        begun_s = time.perf_counter() - began
        began = time.perf_counter()
        asyncio.run(_steps(recording, [c.name for c in comparisons]))
        told = recording.end(outcomes, "done", {c.name: c.running_text for c in comparisons})
        ended_s = time.perf_counter() - began
        recording.close()
        if told is not None:
            raise AssertionError(told)
    return begun_s, ended_s


async def _steps(recording: ChangeRecorder, names: list[str]) -> None:
    journals = [recording.journal.of("20260101T000000Z-0000", name) for name in names]
    for step in STEPS:
        await asyncio.gather(*(journal.step(step) for journal in journals))
