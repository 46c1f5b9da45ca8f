"""The engineer's own checks."""

from __future__ import annotations

import subprocess

from larkwater import SECRETS, EstateTest, LarkwaterTest
from receivers import until


class WrittenChecksTest(EstateTest):
    def test_what_is_wrong_in_a_check_is_told_at_its_line(self) -> None:
        for text, line, message in (
            ("  - check: c\n", 2, "this check has no 'reading'"),
            ("  - chekc: c\n", 2, "this must be '- check: NAME'"),
            ("  - check: c\n    raeding: routes\n", 3, "'raeding' in a check"),
            ("  - check: c\n    reading: rutes\n", 3, "the platform 'bine' has no reading 'rutes'"),
            (
                "  - check: c\n    reading: routes\n    where: {prefix: x}\n",
                4,
                "the reading 'routes' has no field 'prefix'",
            ),
            (
                "  - check: c\n    reading: routes\n    must_be: {metrik: 10}\n",
                4,
                "the reading 'routes' has no field 'metrik'",
            ),
            (
                "  - check: c\n    reading: routes\n    must_be: {metric: true}\n",
                4,
                "'must_be' must contain 'field: text' lines",
            ),
            (
                "  - check: c\n    reading: routes\n    must_be: {metric: 1}\n    least: 2\n",
                5,
                "'least' or 'must_be'",
            ),
            (
                "  - check: c\n    reading: routes\n    least: 5\n    most: 2\n",
                4,
                "'least' is greater than 'most'",
            ),
            (
                "  - check: c\n    reading: routes\n    section: [x]\n",
                4,
                "'section' must be the name of a section",
            ),
            (
                "  - check: c\n    reading: routes\n    some: {metric: 1}\n    none: {metric: 2}\n",
                5,
                "'none' or 'some'",
            ),
            (
                "  - check: c\n    reading: routes\n    at_least: {source-protocol: 1}\n",
                4,
                "'at_least' needs a number,",
            ),
            ("  - check: c\n    reading: routes\n    at_least: {metric: many}\n", 4, "must be a number"),
            (
                "  - check: c\n    reading: routes\n    near: {metric: 5}\n",
                4,
                "must be [NUMBER, TOLERANCE]",
            ),
            ("  - check: c\n    reading: routes\n    contains: {metrik: 5}\n", 4, "has no field 'metrik'"),
            ("  - check: c\n    reading: routes\n    severity: bad\n", 4, "be error or warning,"),
            ("  - check: c\n    reading: routes\n    most: two\n", 4, "'most' must be a whole number"),
            ("  - check: c\n    on: role=cor\n    reading: routes\n", 3, "no device has role=cor"),
            (
                "  - check: c\n    reading: routes\n    where: {metric: '{{ nothing }}'}\n",
                2,
                "'nothing' is not defined",
            ),
            (
                "  - check: c\n    reading: routes\n    where: {metric: \"{{ network.device('gul').site }}\"}\n",
                2,
                "unknown device 'gul'",
            ),
            (
                "  - check: c\n    reading: routes\n    where: {metric: '{{ 1 + }}'}\n",
                2,
                "'{{ 1 + }}' is",
            ),
            (
                "  - check: c\n    ping: gull-cor-1\n",
                3,
                "'gull-cor-1' is neither an address nor a device with one",
            ),
            (
                "  - check: c\n    ping: gull-core-1\n    answered: perhaps\n",
                4,
                "'answered' must be true or false",
            ),
            (
                "  - check: c\n    ping: gull-core-1\n    reading: routes\n",
                4,
                "'reading' and 'ping'",
            ),
            ("  - check: c\n    reading: ping\n", 3, "'ping' needs a destination"),
            (
                "  - check: c\n    trace: 192.0.2.1\n    through: gull-cor-1\n",
                4,
                "unknown device 'gull-cor-1' to go through",
            ),
            (
                "  - check: c\n    reading: routes\n    through: gull-core-1\n",
                4,
                "'through' needs 'trace'",
            ),
            ("  - check: c\n    reading: system\n    same: os-relase\n", 4, "has no field 'os-relase'"),
            (
                "  - check: c\n    reading: system\n    same: os-release\n    by: plattform\n",
                5,
                "no device has the attribute 'plattform'",
            ),
            (
                "  - check: c\n    reading: routes\n    stable_for_s: long\n",
                4,
                "'stable_for_s' must be a number of seconds",
            ),
        ):
            with self.subTest(text=text):
                (self.estate / "checks/more.yaml").write_text("checks:\n" + text)
                found = self.oast("lint", "--format", "json", expect=3).json()["problems"]
                self.assertEqual([(f["file"], f["line"]) for f in found], [("checks/more.yaml", line)], found)
                self.assertIn(message, found[0]["message"])


class VerifyTest(LarkwaterTest):
    delivered = True

    def check(self, text: str) -> None:
        (self.estate / "checks/network.yaml").write_text("checks:\n" + text)

    def found(self, *arguments: str, code: int) -> list[dict[str, object]]:
        document = self.oast(
            "verify", "--format", "json", "--on", "name=tern-edge-1", *arguments, expect=code
        ).json()
        return [c for c in document["devices"][0]["checks"] if str(c["file"]).startswith("checks/")]

    def test_fields_counts_globs_and_expressions(self) -> None:
        self.check(
            "  - {check: a, reading: interfaces, where: {name: port3*}, must_be: {oper-status: up, ipv4-address: '198.51.100.*'}}\n"
            "  - {check: b, reading: interfaces, where: {ipv4-address: '{{ device.address }}/24'}, must_be: {name: '{{ management.port }}'}}\n"
            "  - {check: c, reading: ospf-neighbors, where: {state: full}, least: 2, most: 2}\n"
            "  - {check: d, reading: ospf-neighbors, where: {state: full}, most: 1}\n"
            "  - {check: e, reading: routes, where: {destination-prefix: 192.0.2.200/32}}\n"
        )
        found = {str(c["check"]): (c["passed"], c["expected"], c["actual"]) for c in self.found(code=1)}
        self.assertEqual(
            found,
            {
                "a: interfaces with name port3*, oper-status": (True, "up", "up"),
                "a: interfaces with name port3*, ipv4-address": (False, "198.51.100.*", "no ipv4-address"),
                "b: interfaces with ipv4-address 192.0.2.21/24, name": (True, "manage0", "manage0"),
                "c: ospf-neighbors with state full": (True, "2", "2"),
                "d: ospf-neighbors with state full": (False, "0 to 1", "2"),
                "e: routes with destination-prefix 192.0.2.200/32": (False, "at least 1", "0"),
            },
        )

    def test_numbers_sets_some_and_none(self) -> None:
        self.check(
            "  - {check: a, reading: interfaces, where: {name: port1}, at_least: {mtu: 9000}}\n"
            "  - {check: b, reading: interfaces, where: {name: port1}, at_most: {mtu: 1500}}\n"
            "  - {check: c, reading: interfaces, where: {name: port1}, near: {mtu: [8950, 100]}}\n"
            "  - {check: d, reading: ospf-neighbors, exactly: {interface: [port1, port2]}}\n"
            "  - {check: e, reading: lldp-neighbors, contains: {system-name: [gull-core-1, 'no-{{ device.name }}']}}\n"
            "  - {check: f, reading: ospf-neighbors, some: {state: full}}\n"
            "  - {check: g, reading: ospf-neighbors, none: {state: full}}\n"
        )
        found = {
            str(c["check"]).partition(":")[0]: (c["passed"], c["expected"], c["actual"])
            for c in self.found(code=1)
        }
        self.assertEqual(
            found,
            {
                "a": (True, "at least 9000", "9000"),
                "b": (False, "at most 1500", "9000"),
                "c": (True, "8950 ± 100", "9000"),
                "d": (True, "port1, port2", "all there"),
                "e": (False, "gull-core-1, no-tern-edge-1", "missing: no-tern-edge-1"),
                "f": (True, "at least 1", "2"),
                "g": (False, "0", "2"),
            },
        )

    def test_who_answers_and_by_which_way(self) -> None:
        self.check(
            "  - {check: a, ping: gull-core-1}\n"
            "  - {check: b, ping: \"{{ network.device('dunlin-edge-1').values.loopback.ipv4 }}\", stable_for_s: 1}\n"
            "  - {check: c, ping: 198.51.100.77, answered: false}\n"
            "  - {check: d, ping: 198.51.100.77}\n"
            "  - {check: e, trace: 203.0.113.224, through: [gull-core-1, heron-core-1]}\n"
            "  - {check: f, trace: 203.0.113.224, through: plover-edge-1}\n"
            "  - {check: g, trace: 198.51.100.77}\n"
        )
        found = {
            (str(c["check"]).partition(":")[0], str(c["check"]).rpartition("through")[2] != c["check"]): c
            for c in self.found(code=1)
        }
        self.assertEqual(
            {key: c["passed"] for key, c in found.items()},
            {("a", False): True, ("b", False): True, ("c", False): True, ("d", False): False, ("e", False): True, ("e", True): True,
             ("f", False): True, ("f", True): False, ("g", False): False},
        )  # fmt: skip
        self.assertEqual(found["f", True]["expected"], "one of plover-edge-1")
        rows = self.oast(
            "ask", "trace", "--to", "203.0.113.224", "--on", "name=tern-edge-1", "--format", "json"
        ).json()["records"]
        self.assertEqual([row["arrived"] for row in rows][-1], True)
        self.assertIn("needs a destination", self.oast("ask", "ping", expect=2).err)
        self.assertIn("is not an address", self.oast("ask", "ping", "--to", "1.2.3.4; show", expect=2).err)
        self.assertIn("-to with ping", self.oast("ask", "routes", "--to", "192.0.2.1", expect=2).err)

    def test_what_has_to_be_the_same_is_held_against_the_others(self) -> None:
        self.check(
            "  - {check: a, reading: users, where: {name: 'ops-*'}, same: name, by: role}\n"
            "  - {check: b, reading: system, same: os-release}\n"
        )
        self.oast("verify")
        self.console(
            "tern-edge-1", "raise", SECRETS["privilege-password"], "edit", "remove user ops-joss", "close"
        )
        run = self.oast("verify", expect=1)
        self.assertIn(
            "a: users with name ops-*, name is the same: expected ops-joss, ops-mira, like 3 other devices,",
            run.out,
        )
        # It is no matter of a single change.
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        self.oast("push", "-m", "desk", "--on", "name=tern-edge-1", "--section", "system", "--yes")

    def test_each_check_says_how_long_it_may_take_and_has_to_hold(self) -> None:
        self.check("  - {check: a, reading: ospf-neighbors, where: {state: full}, least: 2, wait_s: 60}\n")
        self.console(
            "gull-core-1",
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "interface port2",
            "  enabled false",
            "close",
        )
        asked = (
            "ask",
            "ospf-neighbors",
            "--on",
            "name=tern-edge-1",
            "--where",
            "state=full",
            "--format",
            "json",
        )
        until(lambda: len(self.oast(*asked).json()["records"]) < 2, "a neighbour is lost")
        waiting = self.started("verify", "--on", "name=tern-edge-1", "-q")
        with self.assertRaises(subprocess.TimeoutExpired):
            waiting.communicate(timeout=4)
        self.console(
            "gull-core-1",
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "interface port2",
            "  remove enabled",
            "close",
        )
        out, _ = waiting.communicate(timeout=90)
        self.assertEqual(waiting.returncode, 0, out)

    def test_a_warning_is_told_and_counts_for_nothing(self) -> None:
        self.check("  - {check: quay, reading: interfaces, where: {name: port9}, severity: warning}\n")
        run = self.oast("verify", "--on", "name=tern-edge-1")
        self.assertIn(
            "warning: tern-edge-1: quay: interfaces with name port9: expected at least 1, found 0 (checks/network.yaml:2)",
            run.out,
        )
        self.assertIn("all passed, 1 warning", run.out)
        self.oast("push", "-m", "x", "--with", "contact=desk", "--on", "name=tern-edge-1", "--yes")

    def test_a_check_that_cannot_be_made_stops_verify_and_push(self) -> None:
        self.check("  - {check: a, reading: rutes}\n")
        for command in (("verify",), ("push", "-m", "x", "--yes")):
            self.assertIn(
                "checks/network.yaml:2: the platform 'bine' has no reading 'rutes'",
                self.oast(*command, expect=3).err,
            )

    def test_it_can_wait_for_checks_to_come_true(self) -> None:
        self.edit("network.yaml", "convergence: 0.05", "convergence: 2")
        self.oast("sim", "stop")
        self.oast("sim", "start")
        self.assertIn("all passed", self.oast("verify", "--section", "routing", "--wait", "30").out)

    def test_a_section_limits_the_checks(self) -> None:
        routing = self.oast("verify", "-v", "--section", "routing", "--on", "name=tern-edge-1").out
        self.assertIn("two-ways-out", routing)
        self.assertIn("OSPF neighbor gull-core-1 on port1 is full", routing)
        self.assertNotIn("is up", routing)
        interfaces = self.oast("verify", "-v", "--section", "interfaces", "--on", "name=tern-edge-1").out
        self.assertIn("interface loop1 is up", interfaces)
        self.assertNotIn("two-ways-out", interfaces)
        self.assertEqual(
            self.oast("verify", "--section", "access-lists").out,
            "nothing to check: no check depends on what 'access-lists' owns\n",
        )

    def test_a_push_that_makes_a_written_check_fail_goes_back(self) -> None:
        self.check(
            "  - {check: quay, on: site=tern, reading: interfaces, where: {name: port3.110}, must_be: {ipv4-address: 198.51.100.1/28}}\n"
        )
        self.edit("values/devices/tern-edge-1.yaml", "198.51.100.1/28", "198.51.100.2/28")
        run = self.oast(
            "push", "-m", "renumber", "--on", "name=tern-edge-1", "--yes", "--verify-timeout", "1", expect=5
        )
        self.assertIn(
            "quay: interfaces with name port3.110, ipv4-address: expected 198.51.100.1/28,",
            run.out,
        )
        self.assertIn("address 198.51.100.1/28", self.running("tern-edge-1"))
