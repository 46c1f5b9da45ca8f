"""The state of the network at two points in time: what was lost is an error, unless it was meant."""

from __future__ import annotations

import unittest
from ipaddress import ip_address, ip_network
from typing import Any
from xml.etree import ElementTree

from larkwater import SECRETS, LarkwaterTest
from oast.readings.tables import Record
from oast.verify.snapshots import Snapshot, parse_expected_loss, state_changes

CORE, EDGE = "gull-core-1", "dunlin-edge-1"


class PointsTest(LarkwaterTest):
    delivered = True

    def typed(self, device: str, *lines: str) -> None:
        self.console(device, "raise", SECRETS["privilege-password"], "edit", *lines, "close")

    def test_a_route_that_somebody_has_withdrawn_is_lost_everywhere_and_told_once(self) -> None:
        self.oast("verify", "--save", "monday", "--wait", "20")
        self.assertIn("nothing has changed", self.oast("verify", "--against", "monday").out)
        self.typed(EDGE, "ospf", "  area 0.0.0.0", "    remove interface port3.110")
        run = self.oast("verify", "--against", "monday", expect=1)
        self.assertRegex(run.out, r"(?m)^lost +\S+ and 4 more +routes +198\.51\.100\.192/28 +there +gone$")
        self.assertRegex(run.out, r"(?m)^since 20\d\d-\d\d-\d\d \d\d:\d\d UTC: 5 lost")
        document = self.oast("verify", "--against", "monday", "--format", "json", expect=1).json()
        lost = [one for one in document["became"] if one["lost"]]
        self.assertEqual({one["what"] for one in lost}, {"198.51.100.192/28"})
        meant = ("--expect", "routes: destination-prefix=198.51.100.192/28")
        run = self.oast("verify", "--against", "monday", *meant, "--section", "monitoring")
        self.assertRegex(
            run.out, r"(?m)^expected +\S+ and 4 more +routes +198\.51\.100\.192/28 +there +gone$"
        )

    def test_a_device_that_is_away_and_errors_that_rise_are_losses(self) -> None:
        self.oast("verify", "--save", "monday", "--on", "role=core", "--wait", "20")
        self.fault(CORE, "errors", "--match", "port2", "--seconds", "1000")
        self.fault("heron-core-1", "down")
        run = self.oast("verify", "--against", "monday", "--on", "role=core", expect=4)
        self.assertRegex(run.out, rf"(?m)^lost +{CORE} +interfaces +port2, in-errors +0 +\d+$")
        self.assertRegex(run.out, r"(?m)^lost +heron-core-1 +system +the device +there +cannot be read$")

    def test_what_cannot_be_compared_with_is_told(self) -> None:
        self.oast("verify", "--save", "monday", "--on", "role=core")
        for arguments, code, told in (
            (("--against", "munday"), 2, "did you mean 'monday'?"),
            (("--expect", "routes"), 2, "--expect needs --against"),
            (("--against", "monday", "--expect", "rutes"), 2, "did you mean 'routes'?"),
            (("--against", "monday", "--expect", "routes: prefix=x"), 3, "has no field 'prefix'"),
            (("--save", "../x"), 2, "not a valid label"),
            (("--list", "--format", "junit"), 2, "leave out --list"),
        ):
            with self.subTest(arguments=arguments):
                self.assertIn(told, self.oast("verify", *arguments, "--on", "role=core", expect=code).err)
        (self.estate / ".oast/readings/monday.json").write_text("{}")
        self.assertIn(
            "cannot be read", self.oast("verify", "--against", "monday", "--on", "role=core", expect=4).err
        )

    def test_results_for_a_pipeline(self) -> None:
        self.typed(CORE, "interface port2", "  enabled false")
        suites = ElementTree.fromstring(self.oast("verify", "--format", "junit", expect=1).out)
        (suite,) = [one for one in suites if one.get("name") == CORE]
        failures = {str(case.get("name")): case[0] for case in suite if len(case)}
        self.assertIn(
            "interface port2 (templates/bine/interfaces.j2:",
            failures["interface port2 is enabled"].text or "",
        )
        self.assertEqual(int(str(suite.get("failures"))), len(failures))


class BecameTest(unittest.TestCase):
    def became(
        self, reading: str, before: list[Record], after: list[Record]
    ) -> list[tuple[str, str, str, bool]]:
        points = [
            Snapshot("2026-01-01T00:00:00+00:00", {"pier": {reading: rows}}) for rows in (before, after)
        ]
        return [(one.what, one.was, one.now, one.lost) for one in state_changes(*points)]

    def test_what_is_lost_and_what_is_only_different(self) -> None:
        prefix, hop, other = (
            ip_network("198.51.100.0/24"),
            ip_address("203.0.113.1"),
            ip_address("203.0.113.2"),
        )
        route: dict[str, Any] = {
            "destination-prefix": prefix,
            "network-instance": None,
            "next-hop": hop,
            "metric": 5,
        }
        for reading, before, after, wanted in (
            ("routes", [route], [{**route, "next-hop": other}], [(str(prefix), "next-hop 203.0.113.1", "next-hop 203.0.113.2", False)]),
            ("routes", [route, {**route, "next-hop": other}], [route], [(str(prefix), "203.0.113.1 5; 203.0.113.2 5", "203.0.113.1 5", False)]),
            ("routes", [route], [], [(str(prefix), "203.0.113.1 5", "gone", True)]),
            ("routes", [], [route], [(str(prefix), "", "203.0.113.1 5", False)]),
            ("aggregates", [{"name": "b1", "active": ("p1", "p2")}], [{"name": "b1", "active": ("p1",)}], [("b1", "active p1,p2", "active p1", True)]),
            ("bgp-neighbors", [{"remote-address": hop, "session-state": "idle"}], [], [("203.0.113.1", "idle", "gone", False)]),
            ("ntp", [{"address": hop, "state": "system-peer"}], [{"address": other, "state": "system-peer"}], []),
            ("ntp", [{"address": hop, "state": "system-peer"}], [{"address": hop, "state": "unreachable"}], [("the selected time server", "system-peer", "gone", True)]),
            ("users", [{"name": "ada"}], [], [("ada", "there", "gone", False)]),
            ("interfaces", [{"name": "p1", "oper-status": "up", "in-octets": 1}], [{"name": "p1", "oper-status": "up", "in-octets": 9}], []),
        ):  # fmt: skip
            with self.subTest(reading=reading, after=after):
                self.assertEqual(self.became(reading, before, after), wanted)

    def test_what_may_be_lost_is_said_of_one_reading(self) -> None:
        (gone,) = state_changes(
            Snapshot(
                "",
                {
                    "pier": {
                        "routes": [
                            {"destination-prefix": ip_network("198.51.100.0/24"), "network-instance": None}
                        ]
                    }
                },
            ),
            Snapshot("", {"pier": {"routes": []}}),
        )
        for text, meant in (
            ("routes", True),
            ("routes: device=pier", True),
            ("routes: destination-prefix=198.51.100.0/23", True),
            ("routes: device=quay", False),
            ("interfaces", False),
        ):
            self.assertEqual(parse_expected_loss(text)(gone), meant, text)


if __name__ == "__main__":
    unittest.main()
