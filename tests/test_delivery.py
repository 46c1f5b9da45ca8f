"""Changes to devices that Oast has delivered to before: what leaves, what goes back, what order things come in."""

from __future__ import annotations

from larkwater import QUICK, SECRETS, LarkwaterTest

ALL = ("gull-core-1", "heron-core-1", "tern-edge-1", "plover-edge-1", "sandpiper-edge-1", "dunlin-edge-1")


class LaterDeliveryTest(LarkwaterTest):
    delivered = True

    def test_what_leaves_the_values_leaves_the_devices(self) -> None:
        self.assertIn(SECRETS["snmp-billing"], self.running("dunlin-edge-1"))
        self.edit("values/network.yaml", "    - name: {secret: snmp-billing}\n", "")
        shown = self.oast("push", "-m", "billing is gone", "--yes").out
        self.assertIn("+0 -1", shown)
        for device in ALL:
            self.assertNotIn(SECRETS["snmp-billing"], self.running(device))
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")

    def test_an_abbreviated_statement_causes_no_second_change(self) -> None:
        self.edit(
            "templates/bine/interfaces.j2",
            '  description "router id"',
            '  desc "id of the router"\n  en true\n  mt 1500',
        )
        self.edit(
            "templates/bine/interfaces.j2",
            "address {{ loopback.ipv4 }}/32",
            "addr {{ loopback.ipv4 }} 255.255.255.255",
        )
        self.assertIn("+1 -1", self.oast("push", "-m", "typed in short", "--yes").out)
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")

    def test_the_order_of_an_access_list_is_delivered(self) -> None:
        self.edit(
            "templates/bine/access-lists.j2",
            "  ace drop ip destination-network 198.51.100.0/24\n  ace accept ip\n",
            "  ace accept ip\n  ace drop ip destination-network 198.51.100.0/24\n  ace accept icmp\n",
        )
        shown = self.oast("push", "-m", "order", "--on", "role=edge", "--yes").out
        self.assertRegex(shown, r"(?m)^  > +ace ")
        running = self.running("tern-edge-1")
        self.assertIn(
            "  ace accept ip\n  ace drop ip destination-network 198.51.100.0/24\n  ace accept icmp\n", running
        )
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")

    def test_a_change_that_cuts_its_own_path_goes_back_by_itself(self) -> None:
        before = self.running("tern-edge-1")
        cut = ("--on", "name=tern-edge-1", "--with", "management.enabled=false")
        run = self.oast("push", "-m", "cut", *cut, "--yes", *QUICK, expect=5)
        self.assertRegex(run.out, r"(?m)^tern-edge-1 +rolled back \(checks failed\) ")
        self.assertIn("the change cut off management access: the device", run.out)
        self.assertEqual(self.running("tern-edge-1"), before)
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")

    def test_nobody_waits_for_a_device_that_has_cut_itself_off(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.edit("values/devices/tern-edge-1.yaml", "links:\n", "management: {enabled: false}\nlinks:\n")
        run = self.oast("push", "-m", "desk", "--yes", "--format", "json", *QUICK, expect=5)
        found = {d["device"]: d for d in run.json()["devices"]}
        cut = found.pop("tern-edge-1")
        self.assertEqual((cut["state"], cut["cause"]), ("reverted", "checks"))
        self.assertEqual({d["state"] for d in found.values()}, {"delivered"})
        self.assertLess(max(d["seconds"] for d in found.values()), cut["seconds"])

    def test_a_timer_that_leaves_no_time_for_the_checks_is_not_used(self) -> None:
        told = self.oast(
            "push", "-m", "x", "--yes", "--revert-timer", "5", "--verify-timeout", "5", expect=2
        ).err
        self.assertIn("set it to at least 8 s", told)

    def test_a_change_after_which_a_check_fails_is_taken_back(self) -> None:
        before = self.running("plover-edge-1")
        run = self.oast(
            "push",
            "-m",
            "area",
            "--on",
            "name=plover-edge-1",
            "--with",
            "area=0.0.0.9",
            "--yes",
            *QUICK,
            expect=5,
        )
        self.assertIn(
            "hubs-reachable: routes with destination-prefix 203.0.113.211/32, source-protocol: expected ospf,",
            run.out,
        )
        self.assertEqual(self.running("plover-edge-1"), before)
        self.oast("verify")

    def test_both_ends_moved_together_keep_their_adjacency(self) -> None:
        self.oast(
            "push",
            "-m",
            "one area for all",
            "--with",
            "area=0.0.0.9",
            "--yes",
            "--verify-timeout",
            "5",
            "--revert-timer",
            "20",
        )
        self.oast("verify", expect=None)
        self.assertIn("area 0.0.0.9", self.running("plover-edge-1"))

    def test_only_the_device_at_fault_goes_back_and_its_neighbours_are_kept(self) -> None:
        self.edit("values/devices/plover-edge-1.yaml", "links:\n", "area: 0.0.0.9\nlinks:\n")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        # Its own intent says area 9, its neighbours' say 0: checks for both sides follow, and only plover changes its side.
        run = self.oast(
            "push",
            "-m",
            "mixed",
            "--yes",
            "--format",
            "json",
            "--revert-timer",
            "12",
            "--verify-timeout",
            "2",
            expect=5,
        )
        states = {d["device"]: d["state"] for d in run.json()["devices"]}
        self.assertEqual(states.pop("plover-edge-1"), "reverted")
        self.assertEqual(set(states.values()), {"delivered"})

    def test_what_was_broken_before_and_is_not_touched_does_not_stop_a_change(self) -> None:
        self.fault("dunlin-edge-1", "down")
        self.oast("sim", "stop")
        self.edit(
            "network.yaml",
            "dunlin-edge-1: {management: 192.0.2.24, attached: [port3, port4]}",
            "dunlin-edge-1: {management: 192.0.2.24, attached: [port3]}",
        )
        self.oast("sim", "start")
        self.assertIn("interface port4 is up", self.oast("verify", expect=1).out)
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        run = self.oast("push", "-m", "contact", "--on", "name=dunlin-edge-1", "--yes", *QUICK)
        self.assertIn(
            "interface port4 is up: expected up, found down (failed before the change, and not affected by it)",
            run.out,
        )
        self.edit("templates/bine/interfaces.j2", "{{ device.site }} quay", "{{ device.site }} pier")
        self.assertIn(
            "interface port4 is up: expected up, found",
            self.oast("push", "-m", "port4", "--on", "name=dunlin-edge-1", "--yes", *QUICK).out,
        )

    def test_an_approved_look_is_not_overtaken_by_another_change(self) -> None:
        # Between compare and load somebody else edits: the slow answers leave time for it.
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        lock = self.estate / ".oast" / "locks" / "gull-core-1.lock"
        self.assertTrue(lock.exists(), "deliveries exclude each other device by device")
        import fcntl

        with lock.open("r+") as held:
            fcntl.flock(held, fcntl.LOCK_EX)
            run = self.oast("push", "-m", "x", "--on", "role=core", "--yes", "--format", "json", expect=4)
        self.assertEqual(self.outcome(run, "gull-core-1")["state"], "unchanged")
        self.assertIn("another run of Oast", self.outcome(run, "gull-core-1")["reason"])
        self.assertEqual(self.outcome(run, "heron-core-1")["state"], "delivered")

    def test_a_failing_check_is_told_by_verify_and_ends_with_1(self) -> None:
        self.console(
            "tern-edge-1",
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "interface port2",
            "  enabled false",
            "close",
        )
        run = self.oast("verify", expect=1)
        self.assertIn(
            "tern-edge-1: interface port2 is enabled: expected up, found down\n    interface port2 (templates/bine/interfaces.j2:",
            run.out,
        )
        self.assertIn("ore checks failed as a consequence, on gull-core-1, heron-core-1, tern-edge", run.out)
        document = self.oast("verify", "--format", "json", expect=1).json()
        self.assertEqual(document["format"], "oast.verify/2")
        self.assertIn("enabled false", self.oast("diff", expect=1).out)
