"""What the record of changes costs: a ledger of ten thousand of them, an archive of ten thousand files, and the share of a push."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

from oast.archive.archive import Archive, file_of
from oast.change.journal import DeviceJournal
from oast.change.ledger import FORMAT, Ledger, canonical_json, digest
from oast.operations.recording import Recording

CHANGES = 10_000


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
        said: dict[str, Any] = about if entry % 2 == 0 else {"states": {"delivered": 12}, "verdict": "done", "outcome": plan}
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
    """The program on a ledger of 10,000 changes: to list them, and to audit half of its entries, which are 10,000."""
    with tempfile.TemporaryDirectory() as name, tempfile.TemporaryDirectory() as half:
        ledger_of(Path(name), CHANGES)
        ledger_of(Path(half), CHANGES // 2)
        command = [sys.executable, "-m", "oast", "change"]
        listed = in_seconds(lambda: subprocess.run([*command, "list", "--format", "json"], cwd=name, check=True, capture_output=True))
        audited = in_seconds(lambda: subprocess.run([*command, "audit"], cwd=half, check=True, capture_output=True))
    return listed, audited


def archiving() -> float:
    """A commit of 10,000 files of 6 KB."""
    with tempfile.TemporaryDirectory() as name:
        archive = Archive(Path(name) / "archive", {"PATH": "/usr/bin:/bin"})
        files = {
            file_of("running", f"pier-{n}"): f"system\n  contact pier-{n}\n".encode() + b"interface port1\n  mtu 9000\n" * 230
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
        mock.patch.object(Recording, "begin", lambda *arguments: None),
        mock.patch.object(Recording, "end", lambda *arguments: None),
        mock.patch.object(Recording, "journal", property(lambda self: Nothing())),
        mock.patch.object(DeviceJournal, "step", no_step),
    ):
        yield
