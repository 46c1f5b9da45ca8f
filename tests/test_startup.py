"""What devices start with, changed without what they run: from a point in time, from running, one section of it; and the other way."""

from __future__ import annotations

import json
import unittest

from killing import Kill, Killing
from larkwater import SECRETS, LarkwaterTest, clean_environment
from oast.platforms.load import SHIPPED
from wharf import ProgramTest

CORE, OTHER = "gull-core-1", "heron-core-1"
ON = ("--on", f"name={CORE}")


class StartupTest(LarkwaterTest):
    delivered = True

    def startup(self, name: str) -> str:
        return (self.estate / ".oast" / "sim" / "devices" / name / "startup").read_text()

    def typed(self, *lines: str) -> None:
        self.console(CORE, "raise", SECRETS["privilege-password"], "edit", *lines, "close")

    def desk(self, words: str) -> None:
        self.oast("push", "-m", words, "--with", f"contact={words}", "--on", "role=core", "--yes")

    def test_a_label_becomes_what_a_device_starts_with_and_what_it_runs_stays(self) -> None:
        self.oast("backup", "--label", "monday", "--on", "role=core")
        before = self.startup(CORE)
        self.desk("Day desk")
        running, other = self.running(CORE), self.startup(OTHER)
        run = self.oast("restore", "monday", "--to", "startup", *ON, "--yes")
        self.assertIn("in the backup 'monday'; using the running one", run.err)
        self.assertIn("previous startup configuration, written again by Oast", run.out)
        self.assertEqual(self.startup(CORE), before)
        self.assertEqual((self.running(CORE), self.startup(OTHER)), (running, other))
        self.assertRegex(
            self.oast("restore", "monday", "--to", "startup", *ON).out, r"(?m)^\d+ devices? in sync$"
        )
        self.assertIn(
            "unsaved",
            self.oast("diff", *ON, "--with", "contact=Day desk", expect=None).out,
            "it runs something else",
        )

    def test_a_startup_that_was_kept_is_taken_and_one_section_touches_only_that(self) -> None:
        self.typed("user visitor")
        self.oast("backup", "--label", "monday", "--startup", *ON)
        before = self.startup(CORE)
        self.oast("restore", "running", "--to", "startup", *ON, "--yes")
        self.assertIn("visitor", self.startup(CORE))
        self.desk("Day desk")
        self.oast("restore", "monday", "--to", "startup", "--section", "system", *ON, "--yes")
        now = self.startup(CORE)
        self.assertIn("visitor", now)
        self.assertIn("Larkwater network desk", now)
        self.oast("restore", "monday", "--to", "startup", *ON, "--yes")
        self.assertEqual(self.startup(CORE), before)
        self.assertIn("visitor", self.running(CORE))

    def test_what_is_not_saved_goes_and_what_runs_is_saved(self) -> None:
        before = self.running(CORE)
        self.typed("user visitor")
        run = self.oast("restore", "startup", "--yes")
        self.assertIn(["-", "user", "visitor"], [line.split() for line in run.out.splitlines()])
        self.assertNotIn("has unsaved", run.out)
        self.assertEqual((self.running(CORE), self.startup(CORE)), (before, before))
        self.typed("user visitor")
        self.oast("restore", "running", "--to", "startup", "--section", "system", *ON, "--yes")
        self.assertEqual(self.startup(CORE), before, "no section owns that")
        saved = self.oast("restore", "running", "--to", "startup", "--yes")
        self.assertIn("1 device saved", saved.out)
        self.assertEqual(self.startup(CORE), self.running(CORE))
        self.assertIn("running to startup", self.oast("change", "show", "last").out)
        self.assertIn("changes nothing", self.oast("restore", "running", expect=2).err)
        self.assertIn("not a valid label", self.oast("backup", "--label", "startup", expect=2).err)

    def test_one_that_refuses_a_line_keeps_its_startup_and_one_that_lies_gets_it_again(self) -> None:
        self.oast("backup", "--label", "monday", *ON)
        self.desk("Day desk")
        before = self.startup(CORE)
        self.fault(CORE, "refuse", "--match", "contact")
        run = self.oast("restore", "monday", "--to", "startup", *ON, "--yes", expect=4)
        self.assertIn("the system could not carry this out", run.out + run.err)
        self.assertEqual(self.startup(CORE), before)
        self.fault(CORE, "untrue", "--match", "contact")
        run = self.oast("restore", "monday", "--to", "startup", *ON, "--yes", expect=4)
        self.assertIn(
            "startup configuration is neither the one from before the change nor the intended one", run.out
        )
        self.assertIn("unknown", run.out, "it cannot be written back as it was")
        self.fault(CORE, "none")

    def test_a_run_that_is_killed_leaves_the_old_or_the_new_and_says_which(self) -> None:
        self.oast("backup", "--label", "monday", *ON)
        with Killing() as killing:
            for number, step in enumerate(
                ("prepared", "staged", "applying", "applied", "confirming", "confirmed", "saving")
            ):
                self.desk(f"Desk {number}")
                before = self.startup(CORE)
                arguments = ("restore", "monday", "--to", "startup", *ON, "--yes")
                kill = Kill(before=bool(number % 2), step=step)
                run = killing.run(*arguments, cwd=self.estate, environment=clean_environment(), kill=kill)
                self.assertEqual(run.code, -9, (step, run))
                told = json.loads(self.oast("change", "recover", "--format", "json").out)["runs"]
                state = told[0]["devices"][0]["state"]
                after = self.startup(CORE)
                self.assertIn(
                    "network desk" if state == "delivered" else f"Desk {number}", after, (step, state)
                )
                self.assertEqual(after == before, state != "delivered")
                self.assertIn(f"Desk {number}", self.running(CORE))


class OverNetconfTest(ProgramTest):
    def test_what_the_platform_does_not_read_goes_along_as_it_is(self) -> None:
        self.push()
        shipped = (SHIPPED / "roundel.toml").read_text()
        part = shipped.replace('name = "roundel"', 'name = "part"').replace(
            "[netconf]\n", '[netconf]\nread = ["system", "interfaces"]\n'
        )
        (self.estate / "platforms").mkdir()
        (self.estate / "platforms" / "part.toml").write_text(part)
        (self.estate / "templates" / "part").mkdir()
        for section in ("base", "routing"):
            system = '<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>pier desk</contact></system>\n'
            text = f"{{#\nsection: {section}\nowns: [{'system/contact' if section == 'base' else 'interfaces'}]\n#}}\n"
            (self.estate / "templates" / "part" / f"{section}.j2").write_text(
                text + (system if section == "base" else "")
            )
        self.edit("inventory/devices.yaml", "192.0.2.43, platform: roundel", "192.0.2.43, platform: part")
        on = ("--on", "name=rt-3")
        before = self.kept("rt-3", "startup")
        self.assertIn("pier-in", before)
        self.oast("backup", "--label", "monday", *on)
        self.push("--section", "base", *on)
        self.oast("restore", "monday", "--to", "startup", "--section", "base", *on, "--yes")
        self.assertEqual(self.kept("rt-3", "startup"), before)

    def test_a_configuration_is_copied(self) -> None:
        self.push()
        on = ("--on", "name=rt-3")
        self.oast("backup", "--label", "monday", "--startup", *on)
        before, ran = self.kept("rt-3", "startup"), self.kept("rt-3")
        self.edit("values/addresses.yaml", "203.0.113.25", "203.0.113.29")
        self.push("--on", "name=rt-3")
        running = self.kept("rt-3")
        self.assertNotEqual(running, ran)
        self.oast("restore", "monday", "--to", "startup", *on, "--yes")
        self.assertEqual((self.kept("rt-3", "startup"), self.kept("rt-3")), (before, running))
        self.oast("restore", "running", "--to", "startup", "--section", "base", *on, "--yes")
        self.assertEqual(self.kept("rt-3", "startup"), running)


if __name__ == "__main__":
    unittest.main()
