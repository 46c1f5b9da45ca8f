"""Backups in Git, and the way back to any of them: whole, one section, or one change."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from larkwater import SECRETS, LarkwaterTest, clean_environment
from oast.archive.archive import Archive
from oast.errors import UsageError

CORE, OTHER = "gull-core-1", "heron-core-1"
ON = ("--on", "role=core")


class LabelTest(unittest.TestCase):
    def test_labels_that_differ_in_spelling_only_are_refused_with_the_reason_and_an_alias_finds_its_label(
        self,
    ) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        archive = Archive(folder / "archive", dict(os.environ))
        archive.commit({"running/a.txt": b"1\n"}, "first", "ada", "gate one")
        for label in ("gate-one", "gate  one", "gate:one"):
            with self.assertRaisesRegex(
                UsageError, f"the label '{label}' differs from 'gate one' only in spelling"
            ):
                archive.commit({}, "second", "ada", label)
        with self.assertRaisesRegex(UsageError, "the label 'gate one' exists already"):
            archive.commit({}, "second", "ada", "gate one")
        first = archive.commit(
            {"running/a.txt": b"2\n"}, "change\n\nalso: nothing", "ada", "before change-1", "before run-1"
        )
        second = archive.commit({"running/a.txt": b"3\n"}, "change", "ada", "before change-1", "before run-2")
        self.assertEqual(archive.point("before change-1").commit, first)
        self.assertEqual(archive.point("before run-1").commit, first)
        self.assertEqual(archive.point("before run-2").commit, second)
        self.assertEqual(archive.point("before change-1 (before run-2)").commit, second)


class BackupTest(LarkwaterTest):
    delivered = True

    def desk(self, before: str, after: str) -> None:
        """Another contact, delivered to both hubs."""
        self.edit(
            "values/network.yaml", f"contact: Larkwater {before} desk", f"contact: Larkwater {after} desk"
        )
        self.oast("push", "-m", f"The {after} desk", *ON, "--yes")

    def test_what_devices_run_is_kept_and_nothing_new_makes_no_commit(self) -> None:
        first = self.oast(
            "backup", *ON, "--label", "before DNS update", "--startup", "--format", "json"
        ).json()
        self.assertTrue(first["commit"])
        again = self.oast("backup", *ON)
        self.assertIn("2 devices read: nothing has changed", again.out)
        shown = self.oast("backup", "show", "before DNS update", CORE).out
        self.assertEqual(shown.split(), self.running(CORE).split(), "the device's own words")
        self.assertEqual(self.oast("backup", "show", "before-DNS-update", CORE, "--startup").out, shown)
        rows = self.oast("backup", "list", "--format", "json").json()["backups"]
        self.assertEqual(
            [row["labels"] for row in rows if row["commit"] == first["commit"]], [["before DNS update"]]
        )
        git = ["git", "-C", str(self.estate / ".oast" / "archive")]
        kind = subprocess.run(
            [*git, "cat-file", "-t", "before-DNS-update"], capture_output=True, text=True, check=True
        ).stdout
        self.assertEqual(kind, "tag\n", "an annotated one")
        self.assertIn(
            "the label 'before DNS update' exists already",
            self.oast("backup", "--label", "before DNS update", expect=2).err,
        )
        self.assertIn(
            "did you mean 'before DNS update'?",
            self.oast("backup", "show", "before DNS updates", CORE, expect=2).err,
        )

    def test_a_device_that_cannot_be_reached_keeps_what_was_kept_and_is_named(self) -> None:
        self.oast("backup", *ON, "--label", "one")
        self.fault(CORE, "down")
        run = self.oast("backup", *ON, "--label", "two", expect=4)
        self.assertIn("1 device read: nothing has changed, labelled 'two'", run.out)
        self.assertIn(f"{CORE}: ", run.err)
        self.fault(CORE, "none")
        self.assertEqual(
            self.oast("backup", "show", "two", CORE).out, self.oast("backup", "show", "one", CORE).out
        )

    def test_every_push_keeps_what_was_before_it_and_after(self) -> None:
        self.desk("network", "day")
        change = self.oast("change", "list", "--format", "json").json()["changes"][-1]["change"]
        out = self.oast("backup", "diff", f"before {change}", f"after {change}", *ON, expect=1).out
        self.assertIn('+   contact "Larkwater day desk"', out)
        self.assertIn("2 devices", out)

    def test_the_record_has_the_waves_and_what_was_read_before_and_after(self) -> None:
        (self.estate / "checks" / "more.yaml").write_text(
            "checks:\n  - {check: knows a way, on: role=core, reading: routes, least: 1}\n"
        )
        self.edit("values/network.yaml", "link_cost: ", "link_cost: 1")
        self.oast("push", "-m", "cost", *ON, "--yes")
        shown = self.oast("change", "show", "last", "--format", "json").json()
        self.assertEqual(shown["outcomes"][0]["waves"], [[CORE, OTHER]])
        (readings,) = shown["readings"]
        core = readings["devices"][CORE]
        self.assertGreater(core["checked"], 5)
        self.assertIn("interfaces", core["same"])
        self.assertIn(["manage0", "up"], [row[:2] for row in core["before"]["interfaces"]["rows"]])
        before, after = (core[when]["routes"] for when in ("before", "after"))
        self.assertEqual(before["fields"], after["fields"])
        self.assertNotEqual(before["rows"], after["rows"])
        out = self.oast("change", "show", "last").out
        self.assertRegex(out, r"\d+ checks on 2 devices; state before and after:")
        self.assertRegex(out, rf"- {CORE}: routes: ")
        (self.estate / "changes" / "content").joinpath(f"{shown['entries'][-1]['readings']}.json").write_text(
            "{}"
        )
        self.assertIn(shown["entries"][-1]["readings"], self.oast("change", "audit", expect=1).out)

    def test_one_section_goes_back_to_a_label_of_three_changes_ago_on_those_devices_only(self) -> None:
        self.oast("backup", *ON, "--label", "monday")
        self.desk("network", "day")
        self.edit("values/network.yaml", "link_cost: ", "link_cost: 1")
        self.oast("push", "-m", "cost", *ON, "--yes")
        self.desk("day", "night")
        other = self.running(OTHER)
        before = self.running(CORE)
        run = self.oast("restore", "monday", "--on", f"name={CORE}", "--section", "system", "--yes")
        self.assertIn("1 device delivered", run.out)
        self.assertEqual(self.running(CORE), before.replace("Larkwater night desk", "Larkwater network desk"))
        self.assertEqual(self.running(OTHER), other)
        self.assertIn("Restore monday", self.oast("change", "show", self.last_change()).out)

    def test_everything_goes_back_to_a_label_also_what_no_section_owns(self) -> None:
        self.oast("backup", *ON, "--label", "monday")
        before = self.running(CORE)
        self.desk("network", "day")
        self.console(CORE, "raise", SECRETS["privilege-password"], "edit", "user visitor", "close")
        self.oast("restore", "monday", *ON, "--yes")
        self.assertEqual(self.running(CORE), before)
        self.assertRegex(self.oast("restore", "monday", *ON).out, r"(?m)^\d+ devices? in sync$")

    def test_a_change_is_taken_back_and_later_ones_that_touch_the_same_are_named(self) -> None:
        before = {name: self.running(name) for name in (CORE, OTHER)}
        self.desk("network", "day")
        first = self.last_change()
        self.edit("values/network.yaml", "contact: Larkwater day desk", "contact: Larkwater night desk")
        self.oast("push", "-m", "The night desk", "--on", f"name={CORE}", "--yes")
        later = self.last_change()
        run = self.oast("change", "revert", first, "--yes")
        self.assertIn(
            f"warning: {later} (The night desk) changed the same parts of {CORE} later; it is rolled back, too",
            run.err,
        )
        self.assertIn("2 devices delivered", run.out)
        for name, text in before.items():
            self.assertEqual(self.running(name), text)
        self.assertIn(f"rollback of {first}", self.oast("change", "show", self.last_change()).out)

    def test_a_change_of_secrets_is_taken_back_with_what_the_archive_has_of_them(self) -> None:
        self.oast("secret", "set", "snmp-read", stdin="another-one-41\n", environment={})
        self.oast("push", "-m", "other string", *ON, "--yes")
        self.assertIn("another-one-41", self.running(CORE))
        self.oast("change", "revert", self.last_change(), "--yes")
        self.assertIn(SECRETS["snmp-read"], self.running(CORE))
        self.assertNotIn("another-one-41", self.running(CORE))

    def test_where_no_secret_is_kept_one_that_is_gone_is_told_before_anything_is_sent(self) -> None:
        self.edit("oast.toml", "[secrets]", '[archive]\nsecrets = "masked"\n\n[secrets]')
        self.oast("backup", *ON, "--label", "monday")
        self.assertNotIn(SECRETS["snmp-read"], self.oast("backup", "show", "monday", CORE).out)
        self.desk("network", "day")
        self.oast("restore", "monday", *ON, "--section", "system", "--section", "monitoring", "--yes")
        self.assertIn(
            "Larkwater network desk", self.running(CORE), "what is on the device still need not be known"
        )
        self.oast("secret", "set", "snmp-read", stdin="another-one-41\n")
        self.oast("push", "-m", "other string", *ON, "--yes")
        before = self.running(CORE)
        told = self.oast("restore", "monday", *ON, "--yes", expect=4)
        self.assertIn("a secret of which only the fingerprint is", told.out + told.err)
        self.assertEqual(self.running(CORE), before)

    def test_encrypted_backups_hold_nothing_to_read_and_come_back(self) -> None:
        self.edit("oast.toml", "[secrets]", '[archive]\nsecrets = "encrypted"\n\n[secrets]')
        self.oast("backup", *ON, "--label", "monday")
        self.assertIn("nothing has changed", self.oast("backup", *ON).out)
        raw = subprocess.run(
            ["git", "-C", str(self.estate / ".oast/archive"), "show", f"monday:running/{CORE}.txt"],
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        self.assertNotIn("interface", raw)
        before = self.running(CORE)
        self.desk("network", "day")
        self.oast("restore", "monday", *ON, "--yes")
        self.assertEqual(self.running(CORE), before)

    def test_every_commit_goes_to_the_remote_and_one_that_is_away_is_told(self) -> None:
        remote = self.folder / "remote.git"
        subprocess.run(["git", "init", "-q", "--bare", str(remote)], check=True)
        self.edit("oast.toml", "[secrets]", f'[archive]\nremote = "{remote}"\n\n[secrets]')
        self.oast("backup", *ON, "--label", "monday")
        tags = subprocess.run(
            ["git", "-C", str(remote), "tag"], capture_output=True, text=True, check=True
        ).stdout
        self.assertIn("monday", tags)
        self.edit("oast.toml", str(remote), "/nowhere/at-all.git")
        self.assertIn("could not be pushed to the remote:", self.oast("backup", *ON, expect=4).err)

    def test_without_git_a_full_disk_or_a_folder_to_write_nothing_is_touched(self) -> None:
        before = self.running(CORE)
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        run = self.oast("push", "-m", "x", *ON, "--yes", expect=4, environment={"PATH": "/nowhere"})
        self.assertIn("git is not installed", run.err)
        (self.estate / "changes").rename(self.estate / "before")
        (self.estate / "changes").write_text("in the way")
        run = self.oast("push", "-m", "x", *ON, "--yes", expect=4)
        self.assertIn("cannot record the change", run.err)
        self.assertIn("nothing was sent to any device", run.err)
        self.assertEqual(self.running(CORE), before)
        self.assertEqual(self.oast("devices").err, "", "nothing was begun")
        (self.estate / "changes").unlink()
        (self.estate / "before").rename(self.estate / "changes")
        self.oast("push", "-m", "x", *ON, "--yes")

    def test_what_cannot_be_reserved_is_not_begun(self) -> None:
        before = self.running(CORE)
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        done = subprocess.run(
            ["bash", "-c", 'ulimit -f 200; exec "$@"', "-", sys.executable, "-m", "oast", "push", "-m", "x", *ON, "--yes"],
            cwd=self.estate, env=clean_environment(), capture_output=True, text=True, timeout=60, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 4, done.stderr)
        self.assertIn("cannot record the change", done.stderr)
        self.assertEqual(self.running(CORE), before)

    def last_change(self) -> str:
        name: str = self.oast("change", "list", "--format", "json").json()["changes"][-1]["change"]
        return name


if __name__ == "__main__":
    unittest.main()
