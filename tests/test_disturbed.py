"""Runs that are killed, told to end, and disturbed in every way at once: what is reported in the end is what devices run and start with.

`make faults` does a thousand rounds; OAST_ROUNDS=40 python -m unittest test_disturbed (in tests/) as many, OAST_SEED=N from another seed.
"""

from __future__ import annotations

import json
import os
import random
import re
import resource
import shutil
import signal
import subprocess
import time
import unittest
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import forked
from hostile import PASSWORDS
from larkwater import clean_environment, simulator_of
from test_seeded_faults import KINDS, LINES, SETTINGS, Piers

ROUNDS = int(os.environ.get("OAST_ROUNDS", "1"))
SEED = int(os.environ.get("OAST_SEED", "90210"))
DEVICES = 6
EXITS = {"done": 0, "reverted": 5, "failed": 4, "interrupted": 130}
NUMBER = re.compile(r"(?:desk-|round )(\d+)")
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
WAYS = ("kill", "signals", "fault", "fault", "types", "arms", "copy", "disk", "reader", "simulator")


@dataclass
class Pushing:
    """One push under way, from one copy of the estate."""

    estate: Path
    number: int
    process: subprocess.Popen[bytes]
    killed: bool = False
    signals: int = 0
    told: dict[str, dict[str, Any]] = field(default_factory=dict)


def copy_what_is_there(source: str, target: str) -> None:
    """A temporary file of a run that is at work may be gone by now."""
    with suppress(FileNotFoundError):
        shutil.copy2(source, target)


class DisturbedTest(Piers):
    def test_what_is_reported_in_the_end_is_what_devices_run_and_start_with(self) -> None:
        self.systems = self.lay_out(DEVICES)
        self.write(
            "oast.toml",
            SETTINGS.replace(
                "max_failures = 1000", "max_failures = 1000\n[delivery.limits]\nlast_of = []\nshare = 1"
            ),
        )
        self.simulator = simulator_of(self.estate, PASSWORDS)
        self.simulator.start()
        self.addCleanup(lambda: self.simulator.stop())
        self.oast("devices", "trust", "--yes")
        self.assertEqual(self.oast("push", "-m", "first", "--yes").code, 0)
        for number in range(ROUNDS):
            seed = SEED + number
            with self.subTest(seed=seed):
                self.round(100 + 2 * number, random.Random(seed))

    def round(self, number: int, chance: random.Random) -> None:
        ways = chance.sample(WAYS, chance.choice((1, 1, 2, 2, 3, 4)))
        self.ways = ways
        before = self.numbers("running")
        started = {name: self.numbers("startup")[name] for name in self.systems}
        runs = [self.begun(self.estate, number, chance, ways)]
        if "copy" in ways:
            copy = self.copied()
            runs.append(self.begun(copy, number + 1, chance, []))
        for at, act in sorted(self.acts(runs[0], chance, ways), key=lambda one: one[0]):
            self.wait_until(at)
            act()
        for run in runs:
            run.process.wait(timeout=180)
        self.mended()
        for run in runs:
            self.resumed(run)
            self.report(run)
        self.until_nothing_waits()
        self.judge_round(runs, before, started)
        self.settled(number)

    # --- what is done -----------------------------------------------------------------------------------------------

    def begun(self, estate: Path, number: int, chance: random.Random, ways: list[str]) -> Pushing:
        (estate / "values/all.yaml").write_text(f"everywhere:\n  round: {number}\n  read: {{secret: read}}\n")
        small = chance.choice((40_000, 300_000, 1_500_000, 3_000_000)) if "disk" in ways else 0
        limited: Callable[[], None] | None = (
            (lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (small, small))) if small else None
        )
        self.began = time.monotonic()
        heard = os.open(estate / ".oast" / "round.err", os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        process = forked.Process(
            [*forked.OAST, "push", "-m", f"round {number}", "--yes", *chance.choice(((), ("--one-wave",)))],
            cwd=estate,
            env={**clean_environment(), **PASSWORDS, "OAST_IDENTITY": "ada@larkwater.example"},
            stdout=subprocess.PIPE if "reader" in ways else subprocess.DEVNULL,
            stderr=heard,
            preexec_fn=limited,
        )
        os.close(heard)
        return Pushing(estate, number, process)

    def acts(
        self, run: Pushing, chance: random.Random, ways: list[str]
    ) -> list[tuple[float, Callable[[], object]]]:
        """What is done, and when (seconds after the push began)."""
        found: list[tuple[float, Callable[[], object]]] = []
        name = chance.choice([n for n, system in self.systems.items() if system == "bine"])
        when = chance.uniform(0.8, 3.0)
        if "reader" in ways and run.process.stdout is not None:
            found.append((when, run.process.stdout.close))
        if "types" in ways:
            found.append((when, lambda: self.typed(name, f"edit\nuser visitor-{run.number}\nclose")))
        if "arms" in ways:
            found.append((when, lambda: self.typed(name, "revert-timer arm 8 as hers")))
        for way in ways:
            if way == "fault":
                found.append((chance.uniform(0.0, 2.5), self.fault(chance)))
        if "simulator" in ways:
            found.append((when + 0.3, self.simulator_killed))
        if "signals" in ways:
            at = chance.uniform(0.6, 3.0)
            for _ in range(chance.randint(1, 3)):
                found.append((at, self.signalled(run, chance.choice(SIGNALS))))
                at += chance.uniform(0.03, 0.5)
        if "kill" in ways:
            found.append((chance.uniform(0.8, 3.0), lambda: self.killed(run)))
        return found

    def wait_until(self, at: float) -> None:
        time.sleep(max(0.0, self.began + at - time.monotonic()))

    def killed(self, run: Pushing) -> None:
        run.killed = run.process.poll() is None
        run.process.kill()

    def signalled(self, run: Pushing, number: signal.Signals) -> Callable[[], None]:
        def act() -> None:
            if run.process.poll() is None:
                run.signals += 1
                run.process.send_signal(number)

        return act

    def fault(self, chance: random.Random) -> Callable[[], object]:
        name, kind, match = chance.choice(list(self.systems)), chance.choice(KINDS), chance.choice(LINES)
        match = match or "no such line" if kind in ("refuse", "untrue") else match
        told = {"match": match, "after": chance.randrange(6), "seed": chance.randrange(1000), "seconds": 0.3}
        return lambda: self.asked({"do": "fault", "device": name, "kind": kind, **told})

    def asked(self, question: dict[str, Any]) -> Any:
        try:
            return self.simulator.ask(question)
        except OSError:
            return {}

    def typed(self, name: str, lines: str) -> None:
        """A colleague at a bine: whatever the device says to that."""
        self.oast(
            "sim", "console", name, stdin=f"raise\n{PASSWORDS['OAST_SECRET_PRIVILEGE']}\n{lines}\nleave\n"
        )

    def simulator_killed(self) -> None:
        os.kill(self.simulator._number, signal.SIGKILL)
        os.waitpid(self.simulator._number, 0)
        self.simulator = simulator_of(self.estate, PASSWORDS)
        self.simulator.start()

    def copied(self) -> Path:
        copy = self.estate.with_name(f"{self.estate.name}-copy")
        shutil.rmtree(copy, ignore_errors=True)
        # The simulator is writing there meanwhile.
        shutil.copytree(
            self.estate, copy, ignore=shutil.ignore_patterns("devices"), copy_function=copy_what_is_there
        )
        self.addCleanup(shutil.rmtree, copy, ignore_errors=True)
        return copy

    # --- what is found out ------------------------------------------------------------------------------------------

    def mended(self) -> None:
        for name in self.systems:
            self.simulator.ask({"do": "fault", "device": name, "kind": "none"})

    def resumed(self, run: Pushing) -> None:
        """Until nothing is open any more."""
        if run.estate != self.estate:
            shutil.copyfile(self.estate / ".oast/sim/listening.json", run.estate / ".oast/sim/listening.json")
        for _ in range(3):
            done = self.there(run, "change", "recover")
            if done.returncode == 0:
                return
        # What is told then is a device that is not in order, and why.
        self.assertEqual(done.returncode, 4, done.stdout + done.stderr)

    def there(self, run: Pushing, *arguments: str) -> subprocess.CompletedProcess[str]:
        environment = {**clean_environment(), **PASSWORDS}
        done = forked.run([*forked.OAST, *arguments], cwd=run.estate, env=environment, timeout=180)
        self.assertNotIn("fault of Oast", done.stdout + done.stderr, self.ways)
        self.assertNotIn("Traceback", done.stderr, self.ways)
        return done

    def report(self, run: Pushing) -> None:
        """What the record tells of each device in the end; and whether the exit code was right."""
        err = (run.estate / ".oast" / "round.err").read_text(errors="replace")
        self.assertNotIn("Traceback", err, self.ways)
        self.assertNotIn("fault of Oast", err, self.ways)
        changes = json.loads(self.there(run, "change", "list", "--format", "json").stdout)["changes"]
        own = [change["change"] for change in changes if change["reason"] == f"round {run.number}"]
        code = run.process.returncode
        if not own:
            self.assertIn(code, (-9, 130, 4), (self.ways, err))
            return
        shown = json.loads(self.there(run, "change", "show", own[0], "--format", "json").stdout)
        for outcome in shown["outcomes"]:
            run.told.update({device["device"]: device for device in outcome["devices"]})
        ended = [entry for entry in shown["entries"] if entry["kind"] == "ended"]
        if ended and not run.killed and run.signals < 3:
            self.assertEqual(code, EXITS[ended[0]["verdict"]], (self.ways, err))
        elif not run.killed:
            self.assertIn(code, (130, 4, 5, 0), (self.ways, err))

    def numbers(self, file: str) -> dict[str, set[int]]:
        """What each device has on its disk: the rounds that it is made of."""
        folder = self.estate / ".oast" / "sim" / "devices"
        return {
            name: {int(n) for n in NUMBER.findall((folder / name / file).read_text())}
            for name in self.systems
        }

    def until_nothing_waits(self) -> None:
        deadline = time.monotonic() + 60
        while any(d["timer"] is not None for d in self.simulator.ask({"do": "status"})["devices"].values()):
            self.assertLess(time.monotonic(), deadline, ("something waits to go back", self.ways))
            time.sleep(0.3)

    def judge_round(
        self, runs: list[Pushing], before: dict[str, set[int]], started: dict[str, set[int]]
    ) -> None:
        running, startup = self.numbers("running"), self.numbers("startup")
        for name in self.systems:
            told = [run.told.get(name) for run in runs]
            about = (name, self.systems[name], self.ways, told, before[name], running[name], startup[name])
            self.assertEqual(len(running[name]), 1, ("half of it", about))
            delivered = [
                run
                for run, one in zip(runs, told, strict=True)
                if one is not None and one["state"] == "delivered"
            ]
            unknown = [one for one in told if one is not None and one["state"] == "unknown"]
            possible = [{run.number} for run in delivered] or [before[name]]
            if unknown:
                self.assertTrue(all(one["reason"] for one in unknown), about)
                possible += [before[name], *({run.number} for run in runs)]
            self.assertIn(running[name], possible, about)
            saved = all(one is None or one["cause"] != "failed" for one in told)
            if saved and not unknown:
                self.assertEqual(
                    startup[name], running[name] if delivered else started[name], ("startup", about)
                )

    def settled(self, number: int) -> None:
        """Nobody holds a lock, nothing is in the way: the next push delivers to all, and there is nothing left to do."""
        again = Pushing(self.estate, number, subprocess.Popen(["true"]))
        again.process.wait()
        (self.estate / "values/all.yaml").write_text(
            f"everywhere:\n  round: {number + 50_000}\n  read: {{secret: read}}\n"
        )
        # A machine that stands still for some seconds is nobody's fault.
        done = self.there(again, "push", "-m", "settle", "--yes", "--timeout", "30", "--revert-timer", "90")
        self.assertEqual(done.returncode, 0, (self.ways, done.stdout + done.stderr))
        self.assertEqual(
            set(map(frozenset, self.numbers("startup").values())), {frozenset({number + 50_000})}, self.ways
        )
        self.assertIn("the ledger is intact", self.there(again, "change", "audit").stdout)


if __name__ == "__main__":
    unittest.main()
