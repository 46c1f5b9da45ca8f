"""Runs every test module in a process of its own, several at a time, as many of them wait, and counts.

Fails on a module without tests, on warnings from our own code, on coroutines never awaited and on errors nobody raised.
    python tests/run.py [WORD ...]     only modules whose name contains one of the words
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
import unittest
import warnings
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

MEMORY = Path("/dev/shm")
HERE = Path(__file__).parent
TOGETHER = 4


class _Result(unittest.TextTestResult):
    """Also counts what passed."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def run_module(name: str) -> int:
    """Run one module here; the counts go to the last line of stdout as JSON."""
    unraisable: list[str] = []
    sys.unraisablehook = lambda event: unraisable.append(f"{event.err_msg or 'unraisable'}: {event.exc_value!r} in {event.object!r}")
    warnings.simplefilter("default")
    warnings.filterwarnings("error", module=r"oast|tests|test_")
    warnings.filterwarnings("error", message=r"coroutine .* was never awaited")
    sys.path.insert(0, str(HERE))
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    runner = unittest.TextTestRunner(resultclass=_Result, verbosity=0, warnings=None)
    result = runner.run(suite)
    for text in unraisable:
        sys.stderr.write(f"UNRAISABLE in {name}: {text}\n")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses) + len(unraisable)
    counts = {"passed": result.passed, "failed": failed, "skipped": len(result.skipped), "run": result.testsRun}
    sys.stdout.write("\n" + json.dumps(counts) + "\n")
    return 0


def run_apart(path: Path) -> tuple[str, dict[str, int], str, float]:
    """Run one module in a process of its own, with an environment that holds nothing of the person's."""
    environment = {k: v for k, v in os.environ.items() if k in ("PATH", "HOME", "LANG", "TMPDIR", "VIRTUAL_ENV")}
    environment["PYTHONWARNINGS"] = "default"
    # Every file of ours is written through to the disk; in memory that costs nothing.
    if MEMORY.is_dir() and os.access(MEMORY, os.W_OK):
        environment.setdefault("TMPDIR", str(MEMORY))
    started = time.monotonic()
    done = subprocess.run(
        [sys.executable, "-X", "faulthandler", str(HERE / "run.py"), "--module", path.stem],
        capture_output=True,
        text=True,
        env=environment,
        stdin=subprocess.DEVNULL,
        check=False,
    )
    try:
        counts = json.loads(done.stdout.strip().rpartition("\n")[2])
    except ValueError:
        counts = {"passed": 0, "failed": 1, "skipped": 0, "run": 1}
    if counts["run"] == 0:
        counts["failed"] += 1
        done.stderr += f"{path.stem} has no tests\n"
    return path.stem, counts, done.stderr, time.monotonic() - started


def main(words: Sequence[str]) -> int:
    modules = sorted(p for p in HERE.rglob("test_*.py") if not words or any(word in p.stem for word in words))
    if not modules:
        sys.stderr.write("no test modules\n")
        return 1
    # The slowest first, so that they do not end alone.
    modules.sort(key=lambda path: -path.stat().st_size * (3 if "LarkwaterTest" in path.read_text(encoding="utf-8") else 1))
    totals = {"passed": 0, "failed": 0, "skipped": 0}
    with ThreadPoolExecutor(TOGETHER) as pool:
        for name, counts, output, seconds in pool.map(run_apart, modules):
            sys.stdout.write(f"{name:32} {counts['passed']:4} passed {counts['failed']:3} failed {seconds:6.1f} s\n")
            if counts["failed"]:
                sys.stdout.write(output)
            sys.stdout.flush()
            for key in totals:
                totals[key] += counts[key]
    sys.stdout.write(f"{totals['passed']} passed, {totals['failed']} failed, {totals['skipped']} skipped\n")
    return 1 if totals["failed"] or not totals["passed"] else 0


if __name__ == "__main__":
    if sys.argv[1:2] == ["--module"]:
        sys.exit(run_module(sys.argv[2]))
    sys.exit(main(sys.argv[1:]))
