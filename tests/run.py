"""Runs every test module in a process of its own, several at a time, as many of them wait, and counts.

Fails on a module without tests, on warnings from our own code, on coroutines never awaited and on errors nobody raised.
    python tests/run.py [WORD ...]     only modules whose name contains one of the words
    python tests/run.py --fresh [N] [WORD ...]     only tests of properties, with N examples that were never tried (default: 50)
"""

from __future__ import annotations

import ctypes
import faulthandler
import gc
import importlib
import json
import os
import secrets
import signal
import sys
import tempfile
import time
import traceback
import unittest
import warnings
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path

import hypothesis
from hypothesis.configuration import set_hypothesis_home_dir

MEMORY = Path("/dev/shm")
HERE = Path(__file__).parent
SOURCE = HERE.parent / "src"
TOGETHER = 9
# Far longer than any module takes on the slowest machine.
LONGEST_S = 1200
PR_SET_PDEATHSIG = 1
# With fewer modules, what they share is made when it is needed.
MANY = 8
# Those that take longest, most of the time waiting for timers, in the order in which they are begun.
LONGEST = (
    "test_docs_network",
    "test_hostile_fleet",
    "test_killed",
    "test_program",
    "test_interrupts",
    "test_onboarding",
    "test_sources",
    "test_watch",
    "test_misconfigured",
    "test_secret_keeping",
    "test_bring_up",
    "test_faults",
    "test_secrets",
    "test_pipeline",
    "test_waves",
    "test_docs",
    "test_ways",
    "test_roundel_disturbed",
    "test_backup",
    "test_delivery",
    "test_checks",
    "test_colleagues",
    "test_startup",
    "test_drift",
    "test_approval",
    "test_order",
    "test_cowl",
    "test_odd_systems",
    "test_many",
    "test_hostile_devices",
    "test_ask",
    "test_python",
    "test_native",
    "test_in_band",
    "test_roundel",
    "test_disturbed",
)
IMPORTED = (
    "larkwater",
    "hypothesis",
    "oast",
    "oast.operations.deliver",
    "oast.operations.verify",
    "oast.operations.lint",
    *(f"oast.cli.{path.stem}" for path in sorted((SOURCE / "oast" / "cli").glob("*.py"))),
)


class _Result(unittest.TextTestResult):
    """Also counts what passed."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def properties_of(suite: unittest.TestSuite, examples: int, seed: int) -> unittest.TestSuite:
    """The tests of properties in `suite`, each to be tried with `examples` drawn by `seed`."""
    found = unittest.TestSuite()
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            found.addTest(properties_of(test, examples, seed))
            continue
        method = getattr(test, getattr(test, "_testMethodName", ""), None)
        function = getattr(method, "__func__", None)
        if getattr(function, "is_hypothesis_test", False):
            given = function._hypothesis_internal_use_settings  # type: ignore[union-attr]
            fresh = hypothesis.settings(
                given, max_examples=examples, derandomize=False, database=None, deadline=None
            )
            function._hypothesis_internal_use_settings = fresh  # type: ignore[union-attr]
            function._hypothesis_internal_use_seed = seed  # type: ignore[union-attr]
            found.addTest(test)
    return found


def run_module(name: str, fresh: tuple[int, int] | None = None) -> dict[str, int]:
    """Run one module here, or its properties with so many `fresh` examples drawn by a seed; what was counted."""
    unraisable: list[str] = []
    sys.unraisablehook = lambda event: unraisable.append(
        f"{event.err_msg or 'unraisable'}: {event.exc_value!r} in {event.object!r}"
    )
    warnings.resetwarnings()
    warnings.simplefilter("default")
    warnings.filterwarnings("error", module=r"oast|tests|test_")
    warnings.filterwarnings("error", message=r"coroutine .* was never awaited")
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    if fresh is not None:
        suite = properties_of(suite, *fresh)
    runner = unittest.TextTestRunner(resultclass=_Result, verbosity=0, warnings=None)
    result = runner.run(suite)
    gc.collect()
    for text in unraisable:
        sys.stderr.write(f"UNRAISABLE in {name}: {text}\n")
    is_empty = not result.testsRun and fresh is None
    if is_empty:
        sys.stderr.write(f"{name} has no tests\n")
    failed = (
        len(result.failures)
        + len(result.errors)
        + len(result.unexpectedSuccesses)
        + len(unraisable)
        + is_empty
    )
    return {"passed": result.passed, "failed": failed, "skipped": len(result.skipped)}


def fork_module(name: str, folder: Path, fresh: tuple[int, int] | None) -> int:
    """Run one module in a fork of this process, which has imported what takes long; its number. It leaves NAME.out, what
    it put out, and NAME.json, what it counted."""
    number = os.fork()
    if number:
        return number
    try:
        faulthandler.enable()
        # Whatever hangs says where, and ends; and nothing runs on for hours when nobody waits for it any more.
        faulthandler.dump_traceback_later(LONGEST_S, exit=True)
        with suppress(OSError, AttributeError):
            ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
        with (folder / f"{name}.out").open("wb") as out, Path(os.devnull).open("rb") as nothing:
            for target, source in ((0, nothing), (1, out), (2, out)):
                os.dup2(source.fileno(), target)
        counts = run_module(name, fresh)
        (folder / f"{name}.json").write_text(json.dumps(counts), encoding="utf-8")
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(0)


def run_all(
    names: Sequence[str], folder: Path, fresh: tuple[int, int] | None
) -> Iterator[tuple[str, dict[str, int], str, float]]:
    """Run the modules, several at a time; each as it ends: its name, counts, output and seconds."""
    waiting = list(reversed(names))
    running: dict[int, tuple[str, float]] = {}
    while waiting or running:
        while waiting and len(running) < TOGETHER:
            name = waiting.pop()
            running[fork_module(name, folder, fresh)] = name, time.monotonic()
        number, _, used = os.wait4(-1, 0)
        if number not in running:
            continue  # The simulator of what was made ready before the first module.
        name, started = running.pop(number)
        counts = folder / f"{name}.json"
        ended = (
            json.loads(counts.read_text()) if counts.exists() else {"passed": 0, "failed": 1, "skipped": 0}
        )
        ended["cpu"] = round(used.ru_utime + used.ru_stime)
        yield name, ended, (folder / f"{name}.out").read_text(errors="replace"), time.monotonic() - started


def scrub() -> None:
    """An environment that holds nothing of the person's, and no signal that a shell or `nohup` has switched off for us."""
    for number, handler in (
        (signal.SIGINT, signal.default_int_handler),
        (signal.SIGTERM, signal.SIG_DFL),
        (signal.SIGHUP, signal.SIG_DFL),
    ):
        signal.signal(number, handler)
    kept = {k: v for k, v in os.environ.items() if k in ("PATH", "HOME", "LANG", "TMPDIR", "VIRTUAL_ENV")}
    # Every file of ours is written through to the disk; in memory that costs nothing.
    if MEMORY.is_dir() and os.access(MEMORY, os.W_OK):
        kept.setdefault("TMPDIR", str(MEMORY))
    os.environ.clear()
    # Programs that tests start run the tree that the tests stand in, whatever is installed.
    os.environ.update(kept, PYTHONWARNINGS="default", PYTHONPATH=str(SOURCE))


def _turn(name: str) -> int:
    return LONGEST.index(name) if name in LONGEST else len(LONGEST)


def main(words: Sequence[str]) -> int:
    words, fresh = list(words), None
    if "--fresh" in words:
        words.remove("--fresh")
        examples = int(words.pop(0)) if words and words[0].isdigit() else 50
        fresh = examples, int(os.environ.get("OAST_SEED") or secrets.randbelow(10**6))
    modules = sorted(p for p in HERE.rglob("test_*.py") if not words or any(word in p.stem for word in words))
    if fresh is not None:
        modules = [path for path in modules if "@given" in path.read_text(encoding="utf-8")]
        sys.stdout.write(
            f"{fresh[0]} fresh examples of each property, by the seed {fresh[1]}; again: OAST_SEED={fresh[1]}\n"
        )
    if not modules:
        sys.stderr.write("no test modules\n")
        return 1
    scrub()
    sys.path[:0] = [str(HERE), str(SOURCE)]
    for name in IMPORTED:
        importlib.import_module(name)
    import larkwater

    tested = Path(str(sys.modules["oast"].__file__)).resolve().parent
    if tested != (SOURCE / "oast").resolve():
        sys.stderr.write(f"the tests would run {tested}, and stand beside {SOURCE / 'oast'}\n")
        return 1
    sys.stdout.write(f"testing {tested}\n")
    # The same examples every time, so that no run fails by luck; `--fresh` looks for new ones.
    if fresh is None:
        hypothesis.settings.register_profile(
            "same", max_examples=50, derandomize=True, database=None, deadline=None
        )
        hypothesis.settings.load_profile("same")
    # What was imported is never garbage: no fork has to look through it, or to copy it for doing so.
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 20)
    # The slowest first, so that they do not end alone; of the others, those with devices.
    modules.sort(
        key=lambda path: (
            _turn(path.stem),
            "LarkwaterTest" not in path.read_text(encoding="utf-8"),
            -path.stat().st_size,
        )
    )
    totals = {"passed": 0, "failed": 0, "skipped": 0}
    with tempfile.TemporaryDirectory(prefix="oast-test-") as shared:
        os.environ["OAST_TEST_SHARED"] = shared
        # What it keeps of its own would appear in the checkout in the middle of a test that looks for files of ours.
        set_hypothesis_home_dir(Path(shared) / "hypothesis")
        if len(modules) > MANY:
            # What every test with devices begins with is made once, before the first fork: also compiled templates are shared then.
            larkwater.make_ready()
            gc.collect()
            gc.freeze()
        for name, counts, output, seconds in run_all([path.stem for path in modules], Path(shared), fresh):
            sys.stdout.write(
                f"{name:32} {counts['passed']:4} passed {counts['failed']:3} failed {seconds:6.1f} s, {counts['cpu']:3} of the processor\n"
            )
            if counts["failed"]:
                sys.stdout.write(output)
            sys.stdout.flush()
            for key in totals:
                totals[key] += counts[key]
    sys.stdout.write(f"{totals['passed']} passed, {totals['failed']} failed, {totals['skipped']} skipped\n")
    return 1 if totals["failed"] or not totals["passed"] else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
