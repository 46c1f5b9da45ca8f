"""What is shown of many devices: counted where nobody watches, alike ones together, and each by itself with -v."""

from __future__ import annotations

from larkwater import LarkwaterTest


class ManyDevicesTest(LarkwaterTest):
    whole = True

    def test_results_that_are_alike_stand_together_and_what_was_broken_before_is_counted(self) -> None:
        run = self.oast("push", "-m", "time", "--section", "time", "--section", "vlans", "--yes")
        self.assertRegex(run.err, r"(?m)^24 of 24: 24 compared  ")
        self.assertRegex(run.err, r"(?m)^24 of 24: 24 delivered  ")
        self.assertNotIn("tern-edge-1  delivered", run.err)
        self.assertRegex(run.out, r"(?m)^gull-dist-1, gull-dist-2, heron-dist-1 and \d+ more +delivered +13 +0 ")
        self.assertIn("24 devices delivered", run.out)
        self.assertRegex(run.out, r"(?m)^and \d+ more such, on \d+ devices in all; -v lists them$")
        self.assertEqual(run.out.count("as before the change, and not touched by it"), 3)
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")
        run = self.oast("push", "-m", "time", "--section", "time", "--yes", "-v")
        self.assertRegex(run.out, r"(?m)^tern-access-1 +delivered ")
        self.assertGreater(run.out.count("as before the change, and not touched by it"), 8)
        self.assertNotIn("-v lists them", run.out)

    def test_of_many_devices_those_that_fail_are_told_one_by_one(self) -> None:
        self.fault("tern-access-2", "refuse", "--match", "vlan-id=120")
        run = self.oast("push", "-m", "vlans", "--section", "vlans", "--yes", "--one-wave", expect=4)
        self.assertRegex(run.err, r"(?m)^tern-access-2 +(reverted|failed|unchanged) ")
        self.assertRegex(run.out, r"(?m)^tern-access-2 +failed, ")
        self.assertIn("the system could not do this (cause 41) (templates/cowl/vlans.j2:", run.out)
