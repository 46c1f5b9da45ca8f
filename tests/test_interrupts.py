"""What is cut short: by Ctrl-C, by the machine, by a session lost at the last step."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time

from larkwater import QUICK, LarkwaterTest, clean_environment


class InterruptTest(LarkwaterTest):
    delivered = True

    def test_ctrl_c_leaves_every_device_in_a_known_state_and_says_which(self) -> None:
        before = {name: self.running(name) for name in ("gull-core-1", "heron-core-1")}
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("gull-core-1", "slow", "--seconds", "0.3")
        command = [sys.executable, "-m", "oast", "push", "-m", "x", "--on", "role=core", "--yes", "--revert-timer", "60"]
        process = subprocess.Popen(
            command, cwd=self.estate, env=clean_environment(), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        self.addCleanup(process.kill)
        self._until_armed("gull-core-1")
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=60)
        self.assertNotIn("Traceback", err)
        self.assertEqual(process.returncode, 130, out + err)
        for name, text in before.items():
            self.assertRegex(out, rf"(?m)^{name} +interrupted, (reverted|unchanged) ")
            self.fault(name, "none")
            self.assertEqual(self.running(name), text)
        self.assertNotIn("armed", {d["timer"] for d in self.oast("sim", "status", "--format", "json").json()["devices"].values()})

    def test_a_run_that_is_killed_leaves_the_way_back_to_the_device(self) -> None:
        before = self.running("gull-core-1")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("gull-core-1", "slow", "--seconds", "0.3")
        command = [
            sys.executable,
            "-m",
            "oast",
            "push",
            "-m",
            "x",
            "--on",
            "name=gull-core-1",
            "--yes",
            "--revert-timer",
            "5",
            "--verify-timeout",
            "1",
        ]
        process = subprocess.Popen(command, cwd=self.estate, env=clean_environment(), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self._until_armed("gull-core-1")
        process.kill()
        process.wait()
        deadline = time.monotonic() + 30
        while self._timer("gull-core-1") is not None and time.monotonic() < deadline:
            time.sleep(0.4)
        self.fault("gull-core-1", "none")
        self.assertEqual(self.running("gull-core-1"), before)
        self.oast("push", "-m", "x", "--on", "name=gull-core-1", "--yes")

    def begin(self, *options: str) -> subprocess.Popen[str]:
        """A push to gull-core-1 in a process of its own, under way when this returns."""
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        command = [sys.executable, "-m", "oast", "push", "-m", "x", "--on", "name=gull-core-1", "--yes", *options]
        process = subprocess.Popen(
            command, cwd=self.estate, env=clean_environment(), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        self.addCleanup(process.kill)
        self._until_armed("gull-core-1")
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
        outcome = json.loads(next(iter(sorted((self.estate / ".oast/log").glob("*/outcome.json"))[-1:])).read_text())
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

    def test_a_second_ctrl_c_leaves_at_once_and_says_what_was_left_to_the_timers(self) -> None:
        before = self.running("gull-core-1")
        self.fault("gull-core-1", "hang", "--match", "contact")
        process = self.begin("--revert-timer", "8", "--verify-timeout", "2", "--timeout", "6")
        self.fault("gull-core-1", "down")
        process.send_signal(signal.SIGINT)
        time.sleep(0.5)
        self.assertIsNone(process.poll(), "it takes its time to leave the device in a known state")
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=5)
        self.assertEqual(process.returncode, 130)
        self.assertIn("left at once; left to their own timers, and not known to be in order: gull-core-1", err)
        deadline = time.monotonic() + 30
        while self._timer("gull-core-1") is not None and time.monotonic() < deadline:
            time.sleep(0.4)
        self.fault("gull-core-1", "none")
        self.assertEqual(self.running("gull-core-1"), before)

    def _timer(self, device: str) -> int | None:
        timer: int | None = self.oast("sim", "status", "--format", "json").json()["devices"][device]["timer"]
        return timer

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
        self.assertIn("it runs the change, but startup may not be saved", found["reason"])
        self.fault("heron-core-1", "none")
        self.assertEqual(self.console("heron-core-1", "read startup").partition("read startup\n")[2], before)
        self.assertIn("nothing to do", self.oast("diff", "--on", "role=core").out)
