"""roundels with which something is wrong, with somebody else on them, and such as offer less than others."""

from __future__ import annotations

import unittest

from wharf import QUICK, ProgramTest


class DisturbedTest(ProgramTest):
    def test_a_device_that_is_lost_at_the_confirmation_goes_back_by_itself(self) -> None:
        before = self.kept("rt-3")
        self.oast("sim", "fault", "rt-3", "drop", "--match", "persist-id")
        found = self.push(*QUICK, expect=4)["rt-3"]
        self.oast("sim", "fault", "rt-3", "none")
        self.assertEqual((found["state"], self.kept("rt-3")), ("reverted", before), found)

    def test_a_confirmation_that_is_refused_is_no_proof_that_nothing_waits(self) -> None:
        self.push()
        self.edit("templates/roundel/base.j2", "wharf desk", "pier desk")
        before = self.kept("rt-3")
        self.oast("sim", "fault", "rt-3", "refuse", "--match", "persist-id")
        found = self.push("--on", "name=rt-3", *QUICK, expect=4)["rt-3"]
        self.assertEqual(
            (found["state"], self.kept("rt-3"), self.kept("rt-3", "startup")),
            ("reverted", before, before),
            found,
        )

    def test_a_device_that_goes_back_only_when_it_is_left_alone_goes_back(self) -> None:
        before = self.kept("rt-3")
        self.oast("sim", "fault", "rt-3", "busy", "--seconds", "0.8")
        self.edit("values/addresses.yaml", "203.0.113.25", "203.0.113.125")
        found = self.push("--on", "name=rt-3", *QUICK, expect=5)["rt-3"]
        self.assertEqual((found["state"], self.kept("rt-3")), ("reverted", before), found)

    def test_an_ok_that_is_not_true_is_not_believed(self) -> None:
        for match, told in (
            ("<commit", "differences remain (at"),
            ("edit-config", "its candidate (at"),
            ("copy-config", "differs from running"),
        ):
            with self.subTest(match=match):
                self.oast("sim", "fault", "rt-1", "untrue", "--match", match)
                before = self.kept("rt-1")
                found = self.push(*QUICK, expect=4)["rt-1"]
                self.oast("sim", "fault", "rt-1", "none")
                self.assertIn(told, found["reason"])
                self.assertEqual(found["state"] == "delivered", self.kept("rt-1") != before, found)


class NobodysTest(ProgramTest):
    def test_what_no_section_owns_is_not_taken_away_by_what_takes_its_place(self) -> None:
        static = "/routing/control-plane-protocols/control-plane-protocol[type='ietf-routing:static'][name=main]/static-routes"
        hop = static + "/ipv4/route[destination-prefix=198.51.100.0/24]/next-hop"
        self.simulator.stop()
        for file in ("running", "startup"):
            path = self.estate / ".oast" / "sim" / "devices" / "rt-1" / file
            path.write_text(path.read_text() + f"{hop}/next-hop-address = 192.0.2.9\n")
        self.simulator.start()
        before = self.kept("rt-1")
        owned = "routing/control-plane-protocols/control-plane-protocol ietf-routing:static main/static-routes/ipv4/route *"
        (self.estate / "templates" / "roundel" / "routing.j2").write_text(
            f'{{#\nsection: routing\nowns: ["{owned}/next-hop/special-next-hop"]\n#}}\n{hop}/special-next-hop = blackhole\n'
        )
        found = self.push("--on", "name=rt-1", "--section", "routing", expect=4)["rt-1"]
        self.assertIn("would also change statements that no section owns", found["reason"])
        self.assertIn("next-hop-address", found["reason"])
        self.assertEqual((found["state"], self.kept("rt-1")), ("unchanged", before))

    def test_what_leads_to_what_is_owned_comes_and_goes_with_it(self) -> None:
        protocol = "/routing/control-plane-protocols/control-plane-protocol[type=roundel-bgp:bgp][name=main]"
        owned = "routing/control-plane-protocols/control-plane-protocol roundel-bgp:bgp main/bgp"
        template = self.estate / "templates" / "roundel" / "routing.j2"
        before = self.kept("rt-1")
        self.assertNotIn("/routing", before)
        for lines, shown in (
            (f"{protocol}/bgp/as = 64500\n", "/bgp/as = 64500"),
            (f"{protocol}/bgp/as = 64501\n", "/bgp/as = 64501"),
        ):
            template.write_text(f'{{#\nsection: routing\nowns: ["{owned}"]\n#}}\n{lines}')
            self.assertEqual(
                self.push("--on", "name=rt-1", "--section", "routing")["rt-1"]["state"], "delivered"
            )
            self.assertIn(shown, self.kept("rt-1"))
        template.write_text(f'{{#\nsection: routing\nowns: ["{owned}"]\n#}}\n')
        self.assertEqual(self.push("--on", "name=rt-1", "--section", "routing")["rt-1"]["state"], "delivered")
        self.assertNotIn("/bgp/", self.kept("rt-1"))


class SomebodyElseTest(ProgramTest):
    def test_what_somebody_else_has_begun_is_left_alone(self) -> None:
        with self.client("rt-1") as one, self.client("rt-2") as two:
            contact = (
                '<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>pier</location></system>'
            )
            edit = f"<edit-config><target><candidate/></target><config>{contact}</config></edit-config>"
            self.assertIn("<ok/>", one.ask(edit))
            self.assertIn(
                "<ok/>",
                one.ask(
                    "<commit><confirmed/><confirm-timeout>300</confirm-timeout><persist>mine</persist></commit>"
                ),
            )
            self.assertIn("<ok/>", two.ask(edit))
            found = self.push(expect=4)
            for name, told in (
                ("rt-1", "a commit waits to be confirmed"),
                ("rt-2", "holds changes that are not committed"),
            ):
                self.assertIn("another session has locked the", found[name]["reason"])
                self.assertIn(told, found[name]["reason"])
                self.assertEqual(found[name]["state"], "unchanged")
            self.assertIn(
                "<ok/>", one.ask("<commit><persist-id>mine</persist-id></commit>"), "her commit still waits"
            )
            self.assertIn(
                "location",
                two.ask("<get-config><source><candidate/></source></get-config>"),
                "her edit is still there",
            )
            self.assertNotIn("contact", self.kept("rt-1"))


class OldTest(ProgramTest):
    """Sessions of base:1.0, in which a commit ends with its session."""

    without = ("base:1.1", "startup", "validate")

    def test_it_is_delivered_and_goes_back_with_its_session(self) -> None:
        before = self.kept("rt-1")
        self.oast(
            "sim",
            "fault",
            "rt-1",
            "refuse",
            "--match",
            '<commit xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"/>',
        )
        found = self.push("--on", "name=rt-1", "--revert-timer", "60", expect=5)["rt-1"]
        self.assertEqual((found["state"], self.kept("rt-1")), ("reverted", before), found)
        self.oast("sim", "fault", "rt-1", "none")
        self.assertEqual({d["state"] for d in self.push().values()}, {"delivered"})
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")


class RunningTest(ProgramTest):
    """Servers without a candidate are edited as they run."""

    without = ("candidate", "confirmed-commit")

    def test_it_is_edited_as_it_runs_and_taken_back_by_inverse_edits(self) -> None:
        before = self.kept("rt-1")
        self.edit("values/addresses.yaml", "203.0.113.26", "203.0.113.126")
        found = self.push("--on", "name=rt-1", *QUICK, expect=5)["rt-1"]
        self.assertEqual(
            (found["state"], found["rollback_method"]), ("reverted", "inverse edits sent by Oast")
        )
        self.assertEqual(self.kept("rt-1"), before)
        self.edit("values/addresses.yaml", "203.0.113.126", "203.0.113.26")
        self.assertEqual({d["state"] for d in self.push().values()}, {"delivered"})


class NeitherTest(ProgramTest):
    without = ("candidate", "rollback-on-error")

    def test_it_is_refused_with_the_reason(self) -> None:
        before = self.kept("rt-1")
        found = self.push("--on", "name=rt-1", expect=4)["rt-1"]
        self.assertIn("its hello offers neither candidate nor rollback-on-error", found["reason"])
        self.assertEqual((found["state"], self.kept("rt-1")), ("unchanged", before))


if __name__ == "__main__":
    unittest.main()
