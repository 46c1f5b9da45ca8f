"""What a change does to devices that it does not touch: it is reported, and the change goes back."""

from __future__ import annotations

import unittest
from typing import Any

from larkwater import LarkwaterTest
from oast.platforms.reading_schema import READINGS
from oast.readings.values import Value, convert
from oast.verify.regression_checks import RemovedFacts, devices_within_hops, regression_checks_of
from oast.verify.snapshots import parse_expected_loss

EDGE, FAR = "dunlin-edge-1", "tern-edge-1"
PUSH = ("push", "-m", "Tidy up OSPF", "--on", f"name={EDGE}", "--yes", "--verify-timeout", "4")


class AroundTest(LarkwaterTest):
    delivered = True

    def setUp(self) -> None:
        super().setUp()
        self.edit("oast.toml", "neighbor_hops = 0", "neighbor_hops = 2")

    def test_a_prefix_that_is_silently_withdrawn_is_missed_two_cables_away_and_the_change_goes_back(
        self,
    ) -> None:
        before, startup = self.running(EDGE), self.running(FAR)
        arguments = (*PUSH, "--with", "services=[]", "--section", "routing")
        run = self.oast(*arguments, expect=5)
        self.assertRegex(run.out, r"(?m)^dunlin-edge-1 +rolled back \(checks failed\) ")
        self.assertIn(
            "all prefixes from before the change are in the routing table: expected as before; missing: 198.51.100.192/28,",
            run.out,
        )
        self.assertEqual((self.running(EDGE), self.running(FAR)), (before, startup))
        shown = self.oast("change", "show", "last", "--format", "json").json()
        self.assertIn(
            "missing: 198.51.100.192/28", "".join(shown["outcomes"][0]["devices"][0]["failed_checks"])
        )

    def test_what_the_first_wave_does_to_devices_whose_turn_comes_later_is_found_before_it_is_kept(
        self,
    ) -> None:
        self.edit("oast.toml", "[delivery]\n", f'[delivery]\nwaves = ["name={EDGE}"]\n')
        push = (
            "push",
            "-m",
            "Tidy up OSPF",
            "--yes",
            "--verify-timeout",
            "4",
            "--section",
            "routing",
            "--format",
            "json",
        )
        run = self.oast(*push, "--with", "services=[]", expect=5)
        found = {d["device"]: d for d in run.json()["devices"]}
        edge = found.pop(EDGE)
        self.assertEqual((edge["state"], edge["cause"]), ("reverted", "checks"))
        self.assertIn("missing: 198.51.100.192/28", edge["reason"])
        self.assertEqual({(d["state"], d["cause"]) for d in found.values()}, {("unchanged", "held")})

    def test_what_comes_back_with_a_later_wave_is_left_to_that(self) -> None:
        self.edit("oast.toml", "[delivery]\n", '[delivery]\nwaves = ["name=gull-core-1"]\n')
        mtu = "  mtu {{ 8000 if link.port == 'port1' and 'core' in device.name else 9000 }}\n"
        self.edit("templates/bine/interfaces.j2", "  mtu 9000\n", mtu)
        run = self.oast(
            "push", "-m", "mtu", "--yes", "--on", "name in (gull-core-1, heron-core-1)", "--format", "json"
        )
        self.assertEqual({d["state"] for d in run.json()["devices"]}, {"delivered"})

    def test_what_the_change_says_is_meant_and_what_it_takes_away_itself_is_no_loss(self) -> None:
        self.oast(
            *PUSH,
            "--with",
            "services=[]",
            "--section",
            "routing",
            "--expect",
            "routes: destination-prefix=198.51.100.192/26",
        )
        self.assertEqual(
            self.oast("change", "show", "last", "--format", "json").json()["entries"][0]["expect"][0][:6],
            "routes",
        )

    def test_who_cannot_be_read_before_the_change_is_named(self) -> None:
        self.fault("heron-core-1", "down")
        run = self.oast(*PUSH, "--with", "contact=desk", "--section", "system", "--neighbor-hops", "1")
        self.assertIn(
            "heron-core-1 could not be read before the change; its impact there is unknown",
            run.err,
        )

    def test_nobody_is_looked_at_where_nobody_is_wanted(self) -> None:
        self.oast(*PUSH, "--with", "services=[]", "--section", "routing", "--neighbor-hops", "0")


class AsBeforeTest(unittest.TestCase):
    @staticmethod
    def record(reading: str, **texts: str) -> dict[str, Value]:
        fields = READINGS[reading].fields
        return {
            name.replace("_", "-"): convert(fields[name.replace("_", "-")], text)
            for name, text in texts.items()
        }

    def test_what_goes_with_the_change_is_left_out(self) -> None:
        readings: dict[str, list[Any]] = {
            "interfaces": [
                self.record("interfaces", name="port1", oper_status="up"),
                self.record("interfaces", name="port2", oper_status="up"),
                self.record("interfaces", name="port3", oper_status="down"),
            ],
            "routes": [
                self.record("routes", destination_prefix="198.51.100.0/28", outgoing_interface="port1"),
                self.record("routes", destination_prefix="203.0.113.4/31", outgoing_interface="port2"),
            ],
            "ospf-neighbors": [
                self.record("ospf-neighbors", interface="port2", address="203.0.113.5", state="full")
            ],
        }
        without = RemovedFacts(frozenset(("203.0.113.4/31",)), frozenset((("pier", "port2"),)))
        checks = {check.reading: check.values for check in regression_checks_of("pier", readings, without)}
        self.assertEqual(checks, {"interfaces": {"port1"}, "routes": {"198.51.100.0/28"}})
        meant = [parse_expected_loss("routes: destination-prefix=198.51.100.0/24")]
        self.assertNotIn(
            "routes", {check.reading for check in regression_checks_of("pier", readings, without, meant)}
        )

    def test_so_many_cables_away(self) -> None:
        cables = {("a", "1"): ("b", "1"), ("b", "2"): ("c", "1"), ("c", "2"): ("d", "1")}
        cables |= {far: near for near, far in cables.items()}
        for hops, wanted in ((0, set()), (1, {"b"}), (2, {"b", "c"}), (9, {"b", "c", "d"})):
            self.assertEqual(devices_within_hops(["a"], cables, cables.__getitem__, hops), wanted)


if __name__ == "__main__":
    unittest.main()
