"""What is cut short: by Ctrl-C, by the machine, by a session lost at the last step."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import sys
import time
from pathlib import Path
from unittest import mock

import forked
from larkwater import QUICK, LarkwaterTest, clean_environment
from oast.cli.pipes import handle_signals


class InterruptTest(LarkwaterTest):
    delivered = True

    def test_ctrl_c_leaves_every_device_in_a_known_state_and_says_which(self) -> None:
        before = {name: self.running(name) for name in ("gull-core-1", "heron-core-1")}
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("gull-core-1", "slow", "--seconds", "0.3")
        process = self.started("push", "-m", "x", "--on", "role=core", "--yes", "--revert-timer", "60")
        self._until_armed("gull-core-1")
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=60)
        self.assertNotIn("Traceback", err)
        self.assertEqual(process.returncode, 130, out + err)
        for name, text in before.items():
            self.assertRegex(out, rf"(?m)^{name} +interrupted, (rolled back|unchanged) ")
            self.fault(name, "none")
            self.assertEqual(self.running(name), text)
        self.assertNotIn(
            "armed",
            {d["timer"] for d in self.oast("sim", "status", "--format", "json").json()["devices"].values()},
        )

    def test_a_run_that_is_killed_leaves_the_way_back_to_the_device(self) -> None:
        before = self.running("gull-core-1")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("gull-core-1", "slow", "--seconds", "0.3")
        options = ("--on", "name=gull-core-1", "--yes", "--revert-timer", "5", "--verify-timeout", "1")
        command = [*forked.OAST, "push", "-m", "x", *options]
        process = forked.Process(
            command,
            cwd=self.estate,
            env=clean_environment(),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        self._until_armed("gull-core-1")
        process.kill()
        process.wait()
        deadline = time.monotonic() + 30
        while self._timer("gull-core-1") is not None and time.monotonic() < deadline:
            time.sleep(0.4)
        self.fault("gull-core-1", "none")
        self.assertEqual(self.running("gull-core-1"), before)
        self.assertIn("warning: run ", self.oast("devices").err)
        resumed = self.oast("change", "recover")
        self.assertRegex(resumed.out, r"(?m)^gull-core-1 +(rolled back|unchanged)$")
        self.assertEqual(self.oast("devices").err, "")
        self.oast("push", "-m", "x", "--on", "name=gull-core-1", "--yes")

    def begin(self, *options: str, device: str = "gull-core-1", armed: bool = True) -> subprocess.Popen[str]:
        """A push to a device; under way when this returns, if it is to be `armed`."""
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        process = self.started("push", "-m", "x", "--on", f"name={device}", "--yes", *options)
        if armed:
            self._until_armed(device)
        return process

    def test_a_terminal_that_is_closed_is_like_ctrl_c(self) -> None:
        before = self.running("gull-core-1")
        self.fault("gull-core-1", "slow", "--seconds", "0.3")
        process = self.begin("--revert-timer", "60")
        # Nobody reads any more, either.
        for stream in (process.stdout, process.stderr):
            if stream is not None:
                stream.close()
        process.send_signal(signal.SIGHUP)
        self.assertEqual(process.wait(timeout=60), 130)
        self.fault("gull-core-1", "none")
        self.assertIsNone(self._timer("gull-core-1"), "nothing is left to the timer")
        self.assertEqual(self.running("gull-core-1"), before)
        outcome = json.loads(
            next(iter(sorted((self.estate / ".oast/log").glob("*/outcome.json"))[-1:])).read_text()
        )
        self.assertEqual(outcome["devices"][0]["cause"], "interrupted")

    def test_a_reader_that_went_away_ends_nothing_and_changes_no_exit_code(self) -> None:
        self.fault("gull-core-1", "slow", "--seconds", "0.1")
        process = self.begin("--revert-timer", "60")
        for stream in (process.stdout, process.stderr):
            if stream is not None:
                stream.close()
        self.assertEqual(process.wait(timeout=60), 0)
        self.fault("gull-core-1", "none")
        self.assertIn('contact "Larkwater day desk"', self.running("gull-core-1"))
        self.assertIsNone(self._timer("gull-core-1"))

    def test_a_second_signal_hands_over_to_the_timers_and_says_which_until_when(self) -> None:
        before = self.running("gull-core-1")
        for first, second, apart_s in (
            (signal.SIGINT, signal.SIGTERM, 0.5),
            (signal.SIGTERM, signal.SIGTERM, 0.05),
        ):
            with self.subTest(first=first, second=second, apart_s=apart_s):
                self.fault("gull-core-1", "hang", "--match", "contact")
                process = self.begin("--revert-timer", "8", "--verify-timeout", "2", "--timeout", "6")
                self.fault("gull-core-1", "down")
                process.send_signal(first)
                time.sleep(apart_s)
                self.assertIsNone(process.poll(), "it takes its time to leave the device in a known state")
                process.send_signal(second)
                out, err = process.communicate(timeout=20)
                self.assertEqual(process.returncode, 130, out + err)
                self.assertIn("the devices' revert timers will roll back", err)
                self.assertRegex(out, r"(?m)^gull-core-1 +interrupted, unknown ")
                self.assertRegex(out, r"the device rolls back by \d\d:\d\d:\d\d \(revert timer\)")
                record = json.loads(
                    sorted((self.estate / ".oast/log").glob("*/outcome.json"))[-1].read_text()
                )
                self.assertEqual(
                    (record["devices"][0]["state"], record["devices"][0]["cause"]), ("unknown", "interrupted")
                )
                self._gone_off("gull-core-1")
                self.assertEqual(self.running("gull-core-1"), before)
                self.assertRegex(self.oast("change", "recover").out, "rolled back|unchanged")
                self.edit(
                    "values/network.yaml", "contact: Larkwater day desk", "contact: Larkwater network desk"
                )

    def test_a_third_signal_ends_at_once(self) -> None:
        self.fault("gull-core-1", "hang", "--match", "contact")
        process = self.begin("--revert-timer", "8", "--verify-timeout", "2", "--timeout", "6")
        process.send_signal(signal.SIGSTOP)  # all three are there when it goes on
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            process.send_signal(number)
        process.send_signal(signal.SIGCONT)
        _, err = process.communicate(timeout=10)
        self.assertEqual(process.returncode, 130)
        self.assertIn("exited at once\n    state unknown, left to their own rollback: gull-core-1", err)
        self.assertIn("oast change recover", err)
        self._left_in_the_record("gull-core-1")
        self._gone_off("gull-core-1")
        self.fault("gull-core-1", "none")
        self.assertRegex(self.oast("change", "recover").out, "rolled back|unchanged")

    def _left_in_the_record(self, *devices: str) -> None:
        """A record was written by the process that ended at once, and it calls these devices unknown."""
        record = json.loads(sorted((self.estate / ".oast/log").glob("*/outcome.json"))[-1].read_text())
        self.assertEqual(
            [device["device"] for device in record["devices"] if device["state"] == "unknown"], list(devices)
        )
        self.assertIn("unknown", self.oast("change", "show", record["run"]).out)

    def test_a_third_signal_after_a_first_device_was_confirmed_names_all_that_are_not_unchanged(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater night desk")
        devices = ("gull-core-1", "heron-core-1", "tern-edge-1", "plover-edge-1")
        before = {name: self.running(name) for name in devices}
        self.fault("tern-edge-1", "slow", "--seconds", "0.5")
        process = self.started(
            "push", "-m", "x", "--yes", "--one-wave", "--parallel", "1", "--revert-timer", "30", "--verify-timeout", "5", "--timeout", "20",
            "--on", f"name in ({', '.join(devices)})", "--section", "system",
        )  # fmt: skip
        until = time.monotonic() + 60
        while not any("night desk" in self.running(name) and self._timer(name) is None for name in devices):
            self.assertLess(time.monotonic(), until)
            time.sleep(0.2)
        process.send_signal(signal.SIGINT)
        time.sleep(0.3)
        process.send_signal(signal.SIGINT)
        process.send_signal(signal.SIGINT)
        process.send_signal(signal.SIGTERM)
        _, err = process.communicate(timeout=30)
        self.assertEqual(process.returncode, 130, err)
        changed = [name for name in devices if self.running(name) != before[name]]
        self.assertTrue(changed)
        told = err.split("exited at once")[-1]
        for name in changed:
            self.assertIn(name, told, err)
        self.fault("tern-edge-1", "none")

    def test_ctrl_c_while_the_program_starts_ends_it_without_a_word(self) -> None:
        for module in (
            "oast.cli.main",
            "oast.cli.exit_codes",
            "oast.cli.pipes",
            "oast.cli.arguments",
            "oast.cli.push",
        ):
            script = (
                "import os, signal, sys\nimport oast.cli.start as start\nclass Finder:\n  def find_spec(self, name, *rest):\n"
                f"    if name == {module!r}: os.kill(os.getpid(), signal.SIGINT)\nsys.meta_path.insert(0, Finder())\n"
                "for name in [n for n in sys.modules if n.startswith('oast.cli.') and n != 'oast.cli.start']: del sys.modules[name]\n"
                "sys.argv[1:] = ['push', '-m', 'x', '--yes', '--dry-run']\nstart.program()\n"
            )
            done = subprocess.run(
                [sys.executable, "-c", script],
                cwd=self.estate,
                env=clean_environment(),
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual((done.returncode, done.stdout), (130, ""), module)
            self.assertIn(done.stderr, ("", "interrupted\n"), module)

    def test_told_to_end_while_comparing_it_ends_like_ctrl_c_and_nothing_was_touched(self) -> None:
        before = self.running("gull-core-1")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("gull-core-1", "hang")
        for number, command in ((signal.SIGTERM, ("push", "-m", "x", "--yes")), (signal.SIGHUP, ("diff",))):
            with self.subTest(number=number, command=command):
                process = self.started(*command, "--on", "name=gull-core-1")
                self._until_handled(process, number)
                time.sleep(1.5)
                process.send_signal(number)
                _, err = process.communicate(timeout=20)
                self.assertEqual(process.returncode, 130, err)
                self.assertNotIn("Traceback", err)
        self.fault("gull-core-1", "none")
        self.assertEqual(self.running("gull-core-1"), before)

    def _until_handled(self, process: subprocess.Popen[str], number: signal.Signals) -> None:
        """The interpreter itself, while it starts, ends by a signal without a word."""
        for _ in range(600):
            caught = re.search(
                r"^SigCgt:\s*(\w+)", Path(f"/proc/{process.pid}/status").read_text(), re.MULTILINE
            )
            if caught and int(caught[1], 16) >> (number - 1) & 1:
                return
            time.sleep(0.05)
        self.fail(f"{number.name} is not handled")

    def test_told_to_end_while_a_class_is_made_it_ends_with_its_own_code(self) -> None:
        script = """
import os, signal, sys, time
from oast.cli.pipes import handle_signals
try:
    with handle_signals(for_good=True):
        exec("os.kill(os.getpid(), signal.SIGHUP); time.sleep(20)")
except KeyboardInterrupt:
    sys.exit(130)
"""
        (self.estate / "told.py").write_text(script)
        done = subprocess.run(
            [sys.executable, "-m", "told"],
            cwd=self.estate,
            env=clean_environment(),
            capture_output=True,
            timeout=60,
        )
        self.assertEqual(done.returncode, 130, done.stderr)

    def test_told_to_end_where_the_interpreter_makes_an_error_of_it_it_is_told_as_that(self) -> None:
        for number in ("SIGTERM", "SIGINT"):
            program = f"""
import os, signal, sys, time
import oast.cli.arguments

class Field:
    def __set_name__(self, owner, name):
        os.kill(os.getpid(), signal.{number})
        time.sleep(5)

def parse(arguments, commands):
    # As while a command's modules are imported.
    return type("Made", (), {{"field": Field()}})

oast.cli.arguments.parse = parse
sys.argv = ["oast", "devices"]
from oast.cli.main import main
sys.exit(main())
"""
            done = subprocess.run(
                [sys.executable, "-c", program],
                capture_output=True,
                text=True,
                timeout=60,
                env=clean_environment(),
                cwd=self.estate,
            )
            self.assertEqual((done.returncode, done.stderr), (130, "interrupted\n"))

    def test_told_to_end_where_nothing_can_be_raised_it_ends_before_it_begins(self) -> None:
        script = """
import asyncio, os, signal, sys, time
from oast.cli.async_runner import run_async
from oast.cli.pipes import handle_signals
class Gone:
    def __del__(self):
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(0.1)
async def work():
    print("begun")
try:
    with handle_signals(for_good=True):
        Gone()
        run_async(work())
except KeyboardInterrupt:
    sys.exit(130)
"""
        (self.estate / "told.py").write_text(script)
        done = subprocess.run(
            [sys.executable, "-m", "told"],
            cwd=self.estate,
            env=clean_environment(),
            capture_output=True,
            timeout=60,
        )
        self.assertEqual((done.returncode, done.stdout, done.stderr), (130, b"", b""))

    def test_other_faults_that_nothing_can_raise_are_heard_by_whoever_hears_them_otherwise(self) -> None:
        heard: list[str] = []

        class Gone:
            def __del__(self) -> None:
                raise ValueError("in between")

        hear = mock.patch.object(sys, "unraisablehook", lambda what: heard.append(str(what.exc_value)))
        with hear, handle_signals(for_good=False):
            Gone()
        self.assertEqual(heard, ["in between"])

    def test_a_signal_behind_the_report_changes_no_exit_code(self) -> None:
        self.fault("heron-core-1", "down")
        process = self.begin("--on", "role=core", device="gull-core-1", armed=False)
        assert process.stdout is not None
        for line in process.stdout:
            if " in " in line and "delivered" in line:
                break
        for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            process.send_signal(number)
        process.communicate(timeout=20)
        self.assertEqual(process.returncode, 4)

    def test_whoever_reads_changes_no_exit_code(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("heron-core-1", "down")
        oast = self.programs() / "oast"
        for command, code in (
            (f"{oast} push -m x --on role=core --yes", 4),
            (f"{oast} push -m x --on name=gull-core-1 --yes", 0),
            (f"{oast} diff --on role=edge", 1),
            (f"{oast} verify --on name=tern-edge-1 -v", 0),
        ):
            with self.subTest(command=command):
                script = f"set -o pipefail; {command} 2>&1 | true; exit ${{PIPESTATUS[0]}}"
                done = subprocess.run(
                    ["bash", "-c", script],
                    cwd=self.estate,
                    env=clean_environment(),
                    capture_output=True,
                    timeout=60,
                )
                self.assertEqual(done.returncode, code, done.stderr)
        self.assertIn("day desk", self.running("gull-core-1"))

    def test_when_no_device_can_be_reached_there_is_a_table_and_a_record(self) -> None:
        for name in ("gull-core-1", "heron-core-1"):
            self.fault(name, "down")
        run = self.oast("push", "-m", "x", "--on", "role=core", expect=4)
        self.assertRegex(run.out, r"(?m)^gull-core-1 +failed, unchanged ")
        self.assertIn("2 devices failed, unchanged", run.out)
        record = json.loads(sorted((self.estate / ".oast/log").glob("*/outcome.json"))[-1].read_text())
        self.assertEqual(
            [(d["device"], d["state"]) for d in record["devices"]],
            [("gull-core-1", "unchanged"), ("heron-core-1", "unchanged")],
        )

    def _gone_off(self, device: str) -> None:
        deadline = time.monotonic() + 30
        while self._timer(device) is not None and time.monotonic() < deadline:
            time.sleep(0.4)
        self.fault(device, "none")

    def _timer(self, device: str) -> int | None:
        return self.timer(device)

    def _until_armed(self, device: str) -> None:
        deadline = time.monotonic() + 30
        while self._timer(device) is None:
            self.assertLess(time.monotonic(), deadline, "the delivery did not begin")
            time.sleep(0.05)

    def test_a_session_lost_while_saving_is_delivered_and_says_what_is_missing(self) -> None:
        before = self.console("heron-core-1", "read startup").partition("read startup\n")[2]
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("heron-core-1", "drop", "--match", "save startup")
        run = self.oast("push", "-m", "x", "--on", "role=core", "--yes", "--format", "json", *QUICK, expect=4)
        found = self.outcome(run, "heron-core-1")
        self.assertEqual((found["state"], found["cause"]), ("delivered", "failed"))
        self.assertIn("the change is active, but startup may not be saved:", found["reason"])
        self.fault("heron-core-1", "none")
        self.assertEqual(self.console("heron-core-1", "read startup").partition("read startup\n")[2], before)
        self.assertIn("2 devices in sync, 1 with unsaved changes", self.oast("diff", "--on", "role=core").out)
