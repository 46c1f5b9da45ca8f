"""What can go wrong with a device, one class of fault after the other: the others go on, and no device is left half-configured."""

from __future__ import annotations

import signal
import subprocess
import sys
import time

import asyncssh

from larkwater import LarkwaterTest, Run, clean_environment

QUICK = ("--timeout", "5", "--revert-timer", "13", "--verify-timeout", "4")
FAULTY = "plover-edge-1"


class FaultTest(LarkwaterTest):
    delivered = True

    def setUp(self) -> None:
        super().setUp()
        self.before = self.running(FAULTY)
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")

    def push(self, code: int) -> Run:
        """Push to all; every device but the faulty one has to be delivered."""
        run = self.oast("push", "-m", "desk", "--yes", "--format", "json", *QUICK, expect=code)
        for device in run.json()["devices"]:
            if device["device"] != FAULTY:
                self.assertEqual(device["state"], "delivered", device)
        return run

    def healed(self) -> None:
        """The faulty device runs what it ran before, and can be pushed to."""
        self.fault(FAULTY, "none")
        self.assertEqual(self.running(FAULTY), self.before)
        self.oast("push", "-m", "desk", "--yes", *QUICK)
        self.assertIn("nothing to do", self.oast("diff").out)

    def test_a_device_that_is_down(self) -> None:
        self.fault(FAULTY, "down")
        shown = self.oast("diff", expect=4)
        self.assertIn(f"{FAULTY}: cannot connect to 127.0.0.1", shown.err)
        self.assertIn("5 devices to change", shown.out)
        found = self.outcome(self.push(4), FAULTY)
        self.assertEqual((found["state"], found["cause"]), ("unchanged", "failed"))
        self.healed()

    def test_a_device_that_hangs_before_anything_was_changed(self) -> None:
        self.fault(FAULTY, "hang")
        run = self.push(4)
        self.assertIn("no answer within 5 s", self.outcome(run, FAULTY)["reason"])
        self.healed()

    def test_a_device_that_hangs_in_the_middle_of_the_change(self) -> None:
        self.fault(FAULTY, "hang", "--match", "server 192.0.2.125")
        run = self.push(4)
        found = self.outcome(run, FAULTY)
        self.assertEqual((found["state"], found["cause"]), ("reverted", "failed"))
        self.assertIn("waited for the answer to 'server 192.0.2.125'", found["reason"])
        self.healed()

    def test_a_device_that_drops_the_session_in_the_middle_of_a_line(self) -> None:
        self.fault(FAULTY, "drop", "--match", "server 192.0.2.125")
        found = self.outcome(self.push(4), FAULTY)
        self.assertEqual((found["state"], found["cause"]), ("reverted", "failed"))
        self.assertIn("closed the session", found["reason"])
        self.healed()

    def test_a_session_lost_while_confirming_is_settled_by_looking(self) -> None:
        self.fault(FAULTY, "drop", "--match", "revert-timer confirm")
        found = self.outcome(self.push(4), FAULTY)
        self.assertEqual(found["state"], "reverted")
        self.healed()

    def test_a_statement_that_is_refused(self) -> None:
        self.fault(FAULTY, "refuse", "--match", "server 192.0.2.125")
        run = self.oast("push", "-m", "desk", "--yes", *QUICK, expect=4)
        self.assertRegex(run.out, rf"(?m)^{FAULTY} +failed, reverted ")
        line = self.line_of("templates/bine/time.j2", "serv {{")
        words = "the system could not carry this out (resource 0x17)"
        self.assertIn(f"the device refused 'server 192.0.2.125': {words} (templates/bine/time.j2:{line})", run.out)
        self.healed()

    def test_a_timer_that_cannot_be_armed_stops_the_delivery(self) -> None:
        self.fault(FAULTY, "drop", "--match", "revert-timer arm")
        self.assertEqual(self.outcome(self.push(4), FAULTY)["state"], "unchanged")
        self.healed()

    def test_a_slow_device_is_waited_for(self) -> None:
        self.fault(FAULTY, "slow", "--seconds", "0.1")
        self.oast("push", "-m", "desk", "--yes", "--timeout", "5", "--revert-timer", "60", "--verify-timeout", "10")

    def test_a_device_too_slow_for_its_wave_is_given_up_and_the_others_are_kept(self) -> None:
        self.fault(FAULTY, "slow", "--seconds", "1")
        run = self.oast("push", "-m", "x", "--yes", "--format", "json", "--revert-timer", "9", "--verify-timeout", "2", expect=4)
        states = {d["device"]: d["state"] for d in run.json()["devices"]}
        self.assertIn("before the timers of the others", self.outcome(run, FAULTY)["reason"])
        self.assertIn(states.pop(FAULTY), ("unchanged", "reverted"))
        self.assertEqual(set(states.values()), {"delivered"})
        self.healed()

    def test_a_wrong_password_and_a_wrong_privilege_password(self) -> None:
        run = self.oast("diff", expect=4, environment={"OAST_SECRET_LOGIN_PASSWORD": "guess"})
        self.assertIn("and 3 more: the device does not accept the login of 'oast'", run.err)
        self.assertIn("look at the user and the password or key in oast.toml", run.err)
        run = self.oast("push", "-m", "x", "--yes", *QUICK, expect=4, environment={"OAST_SECRET_PRIVILEGE_PASSWORD": "guess"})
        self.assertIn("the device does not accept the privilege password", run.out)
        self.assertEqual(run.out.count("failed, unchanged"), 7, "six rows and the summary")

    def test_an_unknown_and_a_changed_host_key(self) -> None:
        known = self.estate / "known_hosts"
        lines = known.read_text().splitlines()
        kept = [line for line in lines if not line.startswith(FAULTY)]
        known.write_text("\n".join(kept) + "\n")
        found = self.outcome(self.push(4), FAULTY)
        self.assertIn("the host key is not known: the device shows SHA256:", found["reason"])
        other = next(line for line in lines if line.startswith("gull"))
        known.write_text("\n".join([*kept, other.replace("gull-core-1", FAULTY)]) + "\n")
        told = self.oast("diff", expect=4).err
        self.assertIn("the host key has changed", told)
        self.assertIn(f"oast devices trust --on name={FAULTY} --replace", told)
        self.assertIn("CHANGED", self.oast("devices", "trust", "--yes", expect=4).out)
        self.oast("devices", "trust", "--yes", "--replace")
        self.healed()

    def test_a_key_logs_in_instead_of_a_password(self) -> None:
        key = self.folder / "key"
        made = asyncssh.generate_private_key("ssh-ed25519")
        made.write_private_key(key)
        public = made.export_public_key().decode().split()[:2]
        for device in self.oast("devices", "--format", "json").json()["devices"]:
            edit = ("edit", "user oast", f"  authorized-key pipeline {' '.join(public)}", "close")
            self.console(device["name"], "raise", "Is0lde-privilege", *edit)
        self.edit("oast.toml", 'password = { secret = "login-password" }', f'key_file = "{key}"')
        self.oast("diff", expect=1)


class InterruptTest(LarkwaterTest):
    delivered = True
    patient = False

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
            time.sleep(0.1)
        self.fault("gull-core-1", "none")
        self.assertEqual(self.running("gull-core-1"), before)
        self.oast("push", "-m", "x", "--on", "name=gull-core-1", "--yes")

    def _timer(self, device: str) -> int | None:
        timer: int | None = self.oast("sim", "status", "--format", "json").json()["devices"][device]["timer"]
        return timer

    def _until_armed(self, device: str) -> None:
        deadline = time.monotonic() + 30
        while self._timer(device) is None:
            self.assertLess(time.monotonic(), deadline, "the delivery did not begin")

    def test_a_session_lost_while_saving_is_delivered_and_says_what_is_missing(self) -> None:
        before = self.console("heron-core-1", "read startup").partition("read startup\n")[2]
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("heron-core-1", "drop", "--match", "save startup")
        run = self.oast("push", "-m", "x", "--on", "role=core", "--yes", "--format", "json", *QUICK, expect=4)
        found = self.outcome(run, "heron-core-1")
        self.assertEqual((found["state"], found["cause"]), ("delivered", "failed"))
        self.assertIn("it runs the change, but startup was not saved", found["reason"])
        self.fault("heron-core-1", "none")
        self.assertEqual(self.console("heron-core-1", "read startup").partition("read startup\n")[2], before)
        self.assertIn("nothing to do", self.oast("diff", "--on", "role=core").out)
