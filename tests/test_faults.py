"""What can go wrong with a device, one class of fault after the other: the others go on, and no device is left half-configured."""

from __future__ import annotations

import asyncssh

from larkwater import LarkwaterTest, Run

FAULTY = "plover-edge-1"


class FaultTest(LarkwaterTest):
    delivered = True

    def setUp(self) -> None:
        super().setUp()
        self.before = self.running(FAULTY)
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")

    def push(self, code: int, timer: int = 60) -> Run:
        """Push to all; every device but the faulty one has to be delivered."""
        run = self.oast(
            "push", "-m", "desk", "--yes", "--format", "json", "--revert-timer", str(timer), expect=code
        )
        for device in run.json()["devices"]:
            if device["device"] != FAULTY:
                self.assertEqual(device["state"], "delivered", device)
        return run

    def hang(self, *options: str) -> None:
        """Only of the device that hangs a prompt answer is asked: the machine may be slow for all."""
        self.edit(
            "oast.toml",
            "\n[delivery]",
            f"""
[[connection.rules]]
on = "name={FAULTY}"
connect_timeout_s = 5
command_timeout_s = 5
[delivery]""",
        )
        self.fault(FAULTY, "hang", *options)

    def healed(self) -> None:
        """The faulty device runs what it ran before, and can be pushed to."""
        self.fault(FAULTY, "none")
        settings = self.estate / "oast.toml"
        settings.write_text(settings.read_text().replace("_timeout_s = 5\n", "_timeout_s = 30\n"))
        self.assertEqual(self.running(FAULTY), self.before)
        self.oast("push", "-m", "desk", "--yes")
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")

    def test_a_device_that_is_down(self) -> None:
        self.fault(FAULTY, "down")
        shown = self.oast("diff", expect=4)
        self.assertIn(f"{FAULTY}: cannot connect to 127.0.0.1", shown.err)
        self.assertIn("5 devices to change", shown.out)
        found = self.outcome(self.push(4), FAULTY)
        self.assertEqual((found["state"], found["cause"]), ("unchanged", "failed"))
        self.healed()

    def test_a_device_that_hangs_before_anything_was_changed(self) -> None:
        self.hang()
        run = self.push(4)
        self.assertIn("no answer within 5 s", self.outcome(run, FAULTY)["reason"])
        self.healed()

    def test_a_device_that_hangs_in_the_middle_of_the_change(self) -> None:
        self.hang("--match", "server 192.0.2.125")
        run = self.push(4)
        found = self.outcome(run, FAULTY)
        self.assertEqual((found["state"], found["cause"]), ("reverted", "failed"))
        self.assertIn("(waiting for the answer to 'server 192.0.2.125')", found["reason"])
        self.healed()

    def test_a_device_that_drops_the_session_in_the_middle_of_a_line(self) -> None:
        self.fault(FAULTY, "drop", "--match", "server 192.0.2.125")
        found = self.outcome(self.push(4), FAULTY)
        self.assertEqual((found["state"], found["cause"]), ("reverted", "failed"))
        self.assertIn("closed the session", found["reason"])
        self.healed()

    def test_a_session_lost_while_confirming_is_settled_by_looking(self) -> None:
        self.edit("oast.toml", "verify_timeout_s = 20", "verify_timeout_s = 10")
        self.fault(FAULTY, "drop", "--match", "revert-timer confirm")
        found = self.outcome(self.push(4, timer=20), FAULTY)
        self.assertEqual(found["state"], "reverted")
        self.healed()

    def test_a_statement_that_is_refused(self) -> None:
        self.fault(FAULTY, "refuse", "--match", "server 192.0.2.125")
        run = self.oast("push", "-m", "desk", "--yes", expect=4)
        self.assertRegex(run.out, rf"(?m)^{FAULTY} +failed, rolled back ")
        line = self.line_of("templates/bine/time.j2", "serv {{")
        words = "the system could not carry this out (resource 0x17)"
        self.assertIn(
            f"the device rejected 'server 192.0.2.125': {words} (templates/bine/time.j2:{line})", run.out
        )
        self.healed()

    def test_a_timer_that_cannot_be_armed_stops_the_delivery(self) -> None:
        self.fault(FAULTY, "drop", "--match", "revert-timer arm")
        self.assertEqual(self.outcome(self.push(4), FAULTY)["state"], "unchanged")
        self.healed()

    def test_a_slow_device_is_waited_for(self) -> None:
        self.fault(FAULTY, "slow", "--seconds", "0.1")
        self.oast(
            "push", "-m", "desk", "--yes", "--timeout", "5", "--revert-timer", "60", "--verify-timeout", "10"
        )

    def test_for_a_device_that_is_known_to_be_slow_the_timers_of_its_wave_are_longer(self) -> None:
        self.fault(FAULTY, "slow", "--seconds", "0.5")
        run = self.oast(
            "push", "-m", "x", "--yes", "--format", "json", "--revert-timer", "8", "--verify-timeout", "2"
        )
        self.assertEqual({d["state"] for d in run.json()["devices"]}, {"delivered"})

    def test_a_wrong_password_and_a_wrong_privilege_password(self) -> None:
        run = self.oast("diff", expect=4, environment={"OAST_SECRET_LOGIN_PASSWORD": "guess"})
        self.assertIn("failed: the device rejects the login of 'oast'", run.err)
        self.assertIn("check the user name and the password or key in oast.toml", run.err)
        run = self.oast(
            "push", "-m", "x", "--yes", expect=4, environment={"OAST_SECRET_PRIVILEGE_PASSWORD": "guess"}
        )
        self.assertIn("the device rejected the privilege password", run.out)
        self.assertEqual(run.out.count("failed, unchanged"), 7, "six rows and the summary")

    def test_an_unknown_and_a_changed_host_key(self) -> None:
        known = self.estate / "known_hosts"
        lines = known.read_text().splitlines()
        kept = [line for line in lines if not line.startswith(FAULTY)]
        known.write_text("\n".join(kept) + "\n")
        found = self.outcome(self.push(4), FAULTY)
        self.assertIn("unknown host key: the device shows SHA256:", found["reason"])
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
