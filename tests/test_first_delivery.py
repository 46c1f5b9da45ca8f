"""From the difference to the delivered, verified and saved change, by the real program on simulated devices."""

from __future__ import annotations

import json

from larkwater import SECRETS, LarkwaterTest

ALL = ("gull-core-1", "heron-core-1", "tern-edge-1", "plover-edge-1", "sandpiper-edge-1", "dunlin-edge-1")


class FirstDeliveryTest(LarkwaterTest):
    def test_a_difference_is_shown_delivered_verified_saved_and_then_gone(self) -> None:
        shown = self.oast("diff", expect=1).out
        self.assertIn(", ".join(ALL) + "  (all 6)", shown)
        self.assertEqual(
            shown.count("+   server 192.0.2.123"), 1, "what is the same on all devices is shown once"
        )
        self.assertIn("6 devices to change", shown)

        pushed = self.oast("push", "-m", "first", "--ticket", "LF-1", "--yes")
        for device in ALL:
            self.assertRegex(pushed.out, rf"(?m)^{device} +delivered +\d+ +6 +\d+\.\d$")
        self.assertIn("6 devices delivered", pushed.out)

        after = self.oast("diff")
        self.assertEqual(after.out, "6 devices in sync\n")
        self.assertRegex(self.oast("push", "-m", "again", "--yes").out, r"(?m)^\d+ devices? in sync$")
        self.assertRegex(self.oast("verify").out, r"^\d+ checks on 6 devices: all passed\n$")

        listed = self.console("tern-edge-1", "read startup", "read running")
        startup, _, running = listed.partition("read startup\n")[2].partition(
            "tern-edge-1 view| read running\n"
        )
        self.assertEqual(
            startup,
            running.rpartition("tern-edge-1 view| leave")[0],
            "the change was saved for the next start",
        )
        self.assertNotIn("pier-2-writes", running)
        self.assertIn("privilege-password-hash", running, "what no section owns is untouched")

    def test_a_dry_run_touches_nothing(self) -> None:
        before = self.running("gull-core-1")
        run = self.oast("push", "--dry-run", expect=1)
        self.assertIn("dry run: 6 devices would change; nothing was sent", run.out)
        self.assertEqual(self.running("gull-core-1"), before)
        self.assertFalse((self.estate / ".oast" / "backups").exists())

    def test_what_oast_comes_in_by_is_changed_last(self) -> None:
        self.edit("inventory/devices.yaml", "192.0.2.11", "192.0.2.99\n    previous_address: 192.0.2.11")
        self.edit("values/network.yaml", "link_cost: 5", "link_cost: 6")
        document = self.oast("diff", "--on", "name=gull-core-1", "--format", "json", expect=1).json()[
            "devices"
        ][0]
        sections = [line for line in document["commands"] if not line.startswith(" ")]
        self.assertEqual(
            (sections[-1], "ospf" in sections),
            ("interface manage0", True),
            "by the grammar's order, ospf comes behind it",
        )

    def test_without_a_terminal_nothing_is_delivered_unasked(self) -> None:
        before = self.running("gull-core-1")
        self.assertIn("add --yes", self.oast("push", "-m", "x", expect=2, stdin="yes\n").err)
        self.assertEqual(self.running("gull-core-1"), before)

    def test_one_section_on_some_devices_can_be_delivered_alone(self) -> None:
        run = self.oast(
            "push", "-m", "time", "--section", "time", "--on", "role=core", "--yes", "--format", "json"
        )
        self.assertEqual([d["device"] for d in run.json()["devices"]], ["gull-core-1", "heron-core-1"])
        running = self.running("gull-core-1")
        self.assertIn("server 192.0.2.123", running)
        self.assertIn("pier-2-writes", running)
        self.assertRegex(
            self.oast("diff", "--section", "time", "--on", "role=core").out, r"(?m)^\d+ devices? in sync$"
        )
        self.oast("diff", "--section", "time", "--on", "role=edge", expect=1)

    def test_a_backup_of_what_was_running_is_kept_for_the_owner_alone(self) -> None:
        before = self.running("tern-edge-1")
        run = self.oast("push", "-m", "first", "--yes", "--format", "json").json()["run"]
        backup = self.estate / ".oast" / "backups" / run / "tern-edge-1.txt"
        self.assertEqual(backup.read_text(), before)
        self.assertEqual(backup.stat().st_mode & 0o077, 0)
        record = json.loads((self.estate / ".oast" / "log" / run / "outcome.json").read_text())
        self.assertEqual((record["format"], record["reason"]), ("oast.push/2", "first"))
        log = (self.estate / ".oast" / "log" / run / "tern-edge-1.log").read_text()
        self.assertLess(log.index("revert-timer arm"), log.index("> edit"))
        self.assertLess(log.index("> revert-timer confirm"), log.index("> save startup"))

    def test_merge_adds_and_leaves_what_is_there(self) -> None:
        shown = self.oast(
            "push", "-m", "carefully", "--mode", "merge", "--on", "name=gull-core-1", "--yes"
        ).out
        self.assertRegex(shown, r"(?m)^gull-core-1 +delivered ")
        running = self.running("gull-core-1")
        self.assertIn("pier-2-writes", running)
        self.assertIn(SECRETS["snmp-read"], running)
        self.assertRegex(
            self.oast("diff", "--mode", "merge", "--on", "name=gull-core-1").out,
            r"(?m)^\d+ devices? in sync$",
        )
        self.assertIn("-   community", self.oast("diff", "--on", "name=gull-core-1", expect=1).out)

    def test_a_section_may_own_the_whole_device_in_the_devices_own_words(self) -> None:
        whole = self.running("dunlin-edge-1")
        (self.estate / "templates/bine/whole.j2").write_text(
            '{#\nsection: whole\nowns: ["*"]\n#}\n' + whole.replace("night desk, pier 2", "day desk")
        )
        (self.estate / "policies/standard.yaml").unlink()
        (self.estate / "intent.yaml").write_text("sections:\n  - section: whole\n    on: site=dunlin\n")
        shown = self.oast("push", "-m", "whole", "--section", "whole", "--on", "site=dunlin", "--yes").out
        self.assertIn('+   contact "day desk"', shown)
        self.assertEqual(self.running("dunlin-edge-1"), whole.replace("night desk, pier 2", "day desk"))

    def test_json_says_for_each_device_what_would_change(self) -> None:
        document = self.oast("diff", "--format", "json", "--on", "name=gull-core-1", expect=1).json()
        self.assertEqual(document["format"], "oast.diff/2")
        device = document["devices"][0]
        edit = next(
            e for e in device["edits"] if e["path"] == ["system"] and "contact" in e["new"]["statement"]
        )
        self.assertEqual(edit["operation"], "replace")
        self.assertEqual(edit["old"]["statement"], 'contact "night desk, pier 2"')
        self.assertIn("  remove server 192.0.2.9", device["commands"])
