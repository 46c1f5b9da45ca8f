"""Policies: what they find, where, and that what violates one is never sent."""

from __future__ import annotations

from larkwater import EstateTest, LarkwaterTest


class PolicyTest(EstateTest):
    def policy(self, text: str) -> None:
        (self.estate / "policies/standard.yaml").write_text("policies:\n" + text)

    def found(self, code: int = 3) -> list[dict[str, object]]:
        problems: list[dict[str, object]] = self.oast("lint", "--format", "json", expect=code).json()[
            "problems"
        ]
        return problems

    def test_every_rule_finds_what_it_is_for(self) -> None:
        for text, devices, message in (
            ("  - policy: p\n    must_not_contain: ospf/area */interface *1/cost 5\n", ["gull-core-1", "heron-core-1"], "'cost 5' is not allowed"),
            ("  - policy: p\n    must_contain: static-route *\n", ["tern-edge-1", "plover-edge-1", "sandpiper-edge-1", "dunlin-edge-1"], "the configuration has no 'static-route *'"),
            ("  - policy: p\n    each: acl *\n    must_contain: ace accept ip\n", ["plover-edge-1", "dunlin-edge-1", "tern-edge-1", "sandpiper-edge-1"], "'acl ticket-gates-in' has no 'ace accept ip'"),
            ("  - policy: p\n    on: role=edge\n    must_be_equal: acl cam*\n", ["plover-edge-1", "dunlin-edge-1"], "'acl cam*' differs from tern-edge-1"),
            ("  - policy: p\n    must_differ: \"communities | pick('[].name') + [communities[0].name]\"\n    on: site=gull\n", ["gull-core-1"], "item 1 and item 3 of 'communities | pick('[].name') + [communities[0].name]' must differ"),
            ("  - policy: p\n    must_differ: [contact, device.site, contact]\n    on: site=gull\n", ["gull-core-1"], "'contact' and 'contact' must differ"),
            ("  - policy: p\n    expression: links | length == 5 or device.role == 'edge' and device.site != 'tern'\n", ["tern-edge-1"], "the expression is false: "),
        ):  # fmt: skip
            with self.subTest(text=text):
                self.policy(text)
                found = [f for f in self.found() if message in str(f["message"])]
                self.assertEqual(len(found), 1, found)
                self.assertEqual(found[0]["kind"], "policy")
                self.assertCountEqual(found[0]["devices"], devices)  # type: ignore[arg-type]

    def test_equal_by_an_attribute_looks_at_each_group_alone(self) -> None:
        self.policy("  - policy: p\n    must_be_equal: static-route *\n    by: role\n")
        self.oast("lint")
        self.policy("  - policy: p\n    must_be_equal: static-route *\n")
        self.assertEqual(len(self.found()), 1)

    def test_disabled_interfaces_are_excepted_and_warnings_do_not_fail(self) -> None:
        self.policy("  - policy: p\n    each: interface manage*\n    must_contain: mtu *\n")
        self.assertEqual(self.found()[0]["file"], "templates/bine/interfaces.j2")
        self.edit("values/network.yaml", "enabled: true}", "enabled: false}")
        self.oast("lint")
        self.policy("  - policy: p\n    severity: warning\n    must_contain: telemetry\n    message: soon\n")
        run = self.oast("lint")
        self.assertIn("soon (required in policies/standard.yaml:2)", run.out)
        self.assertIn("no mistakes: 6 devices, 1 warning", run.out)
        self.assertEqual(
            self.oast("lint", "--format", "sarif").json()["runs"][0]["results"][0]["level"], "warning"
        )

    def test_a_waiver_holds_until_its_day(self) -> None:
        text = "  - policy: p\n    must_contain: static-route *\n    on: role=edge\n    waivers:\n      - {on: role=edge, reason: later, until: %s}\n"
        self.policy(text % "2999-12-31")
        self.oast("lint")
        self.policy(text % "2020-01-01")
        self.assertEqual(len(self.found()), 1)

    def test_a_policy_that_is_wrong_is_told_at_its_line(self) -> None:
        for text, line, message in (
            ("  - policy: p\n", 2, "the policy needs exactly one of"),
            ("  - policy: p\n    must_contian: x\n", 3, "'must_contian' in a policy"),
            (
                "  - policy: p\n    must_contain: x\n    severity: bad\n",
                4,
                "the severity must be error or warning, not 'bad'",
            ),
            ("  - policy: p\n    must_contain: x\n    on: site=gul\n", 4, "no device has site=gul"),
            (
                "  - policy: p\n    must_contain: x\n    waivers: [{on: site=gull, reason: r, until: soon}]\n",
                4,
                "'soon' is not a date",
            ),
            (
                "  - policy: p\n    expression: nothing > 1\n",
                2,
                "'nothing > 1': 'nothing' is not defined",
            ),
            (
                "  - policy: p\n    expression: management.prt > 1\n",
                2,
                "> 1': 'prt' is not defined in the value in this expression",
            ),
            ("  - policy: p\n    expression: 1 +\n", 2, "cannot evaluate the expression "),
            (
                "  - policy: p\n    expression: contact > 1\n",
                2,
                "cannot compare text and a number",
            ),
            ("  - policy: p\n    must_contain: x\n    waivers: 5\n", 4, "'waivers' must be a list of"),
            ("  - policy: p\n    must_not_contain: {a: b}\n", 3, "'must_not_contain' must be a pattern"),
            ("  - policy: p\n    must_be_equal: ''\n", 3, "'must_be_equal' must be a pattern"),
            ("  - policy: p\n    must_contain: x\n    each: [x]\n", 4, "'each' must be a pattern"),
            ("  - policy: p\n    must_be_equal: ntp\n    by: sit\n", 4, "no device has the attribute 'sit'"),
            ("  - policy: p\n    secret_age: -1\n", 3, "'secret_age' must be a number of days"),
            ("  - policy: p\n    expression: 5\n", 3, "'expression' must be an expression"),
            ("  - policy: p\n    must_differ: 5\n", 3, "'must_differ' must be expressions in a list,"),
            (
                "  - policy: p\n    must_differ: contact\n",
                2,
                "'contact': its result is not a list",
            ),
        ):
            with self.subTest(text=text):
                self.policy(text)
                found = self.found()[0]
                self.assertEqual((found["file"], found["line"]), ("policies/standard.yaml", line))
                self.assertIn(message, str(found["message"]))

    def test_a_policy_that_can_never_match_is_told(self) -> None:
        for text, message, hint in (
            (
                "must_not_contain: snmp/comunity */access read-write",
                "'comunity' is not a statement below 'snmp'",
                "did you mean 'community'?",
            ),
            ("must_be_equal: npt", "'npt' is not a statement at the top level", "did you mean 'ntp'?"),
            (
                "must_contain: mtu *\n    each: interfaec *",
                "'interfaec' is not a statement at the top level",
                "did you mean 'interface'?",
            ),
        ):
            with self.subTest(text=text):
                self.policy(f"  - policy: p\n    severity: warning\n    {text}\n")
                found = self.found()
                self.assertEqual(
                    [(f["line"], f["message"], f["hint"]) for f in found],
                    [(2, f"policy 'p' can never match: {message}", hint)],
                )
        self.policy("  - policy: p\n    must_not_contain: s*p/com* */access read-write\n")
        self.oast("lint")


class BlockedTest(LarkwaterTest):
    def test_what_violates_a_policy_is_never_sent(self) -> None:
        before = self.running("gull-core-1")
        self.edit("templates/bine/monitoring.j2", "default: read-only", "default: read-write")
        run = self.oast("push", "-m", "x", "--on", "role=core", "--yes", expect=3)
        line = self.line_of("templates/bine/monitoring.j2", "community.access")
        self.assertIn(
            f"templates/bine/monitoring.j2:{line}: policy 'snmp-reads-only': 'access read-write' is not allowed",
            run.err,
        )
        self.assertIn("changes go through Oast, not through SNMP", run.err)
        self.assertEqual(self.running("gull-core-1"), before)
        self.oast("push", "-m", "x", "--on", "role=core", "--section", "time", "--yes", expect=3)
