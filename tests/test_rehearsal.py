"""A rollback is rehearsed on a device before the first push: whatever it says, the page is about what it runs."""

from __future__ import annotations

from unittest import mock

from in_memory import run
from lab import BEFORE, WAYS, Fault, Lab
from oast.config.syntaxes import syntax_of
from oast.connect.connector import Connector
from oast.estate.secrets import fingerprints_of
from oast.operations.platforms import ProbeStep
from oast.operations.rehearsal import Rehearsal, harmless_statement, rehearse
from oast.platforms.load import Platforms
from test_ways import Case
from trees import BINE, tree_of


class RehearsalTest(Case):
    def steps(
        self, lab: Lab, fault: Fault | None = None, statement: str | None = "port one text trial\n"
    ) -> list[ProbeStep]:
        async def go() -> list[ProbeStep]:
            estate = self.in_memory(lab)._estate
            [device] = estate.devices.values()
            platform = Platforms(estate.folder, fingerprints_of(estate.working, estate.environment)).get(
                "lab"
            )
            lab.fault = fault or Fault()
            connector, syntax = Connector(estate, [device]), syntax_of(platform)
            log = estate.working / "log" / "trial.log"
            return [
                step
                async for step in rehearse(
                    connector, device, platform, syntax, Rehearsal(statement, 5.0), estate.working, log
                )
            ]

        return run(go())

    def test_each_way_rolls_back_and_runs_what_it_did_before(self) -> None:
        for way in WAYS:
            lab = Lab(way, list(BEFORE))
            steps = self.steps(lab)
            self.assertEqual([step.what for step in steps if not step.passed], [], way)
            self.assertEqual((set(lab.running), lab.timer), (set(BEFORE), None), way)
            told = " ".join(step.saw for step in steps)
            self.assertIn("with a timer of 5 s" if way != "none" else "no rollback of its own", told)

    def test_a_timer_that_can_be_extended_is(self) -> None:
        extend = 'extend = "extend {seconds}"\nconfirm = '
        shown = {
            "timer": WAYS["timer"]
            .replace("confirm = ", extend, 1)
            .replace('"armed.*"', '"armed, (?P<left>[0-9]+) s left"')
        }
        for fault, passed in (
            (None, True),
            (Fault("lie", match="extend"), False),
            (Fault("refuse", match="extend"), False),
        ):
            lab = Lab("timer", list(BEFORE))
            with mock.patch.dict(WAYS, shown):
                [step] = [step for step in self.steps(lab, fault) if step.what == "extend the timer"]
            self.assertIs(step.passed, passed, step)
            self.assertIn(
                "waits 10 s"
                if passed
                else "still waits only"
                if fault and fault.kind == "lie"
                else "rejected",
                step.saw,
            )
            self.assertEqual((set(lab.running), lab.timer), (set(BEFORE), None), fault)

    def test_what_a_device_does_not_do_is_a_step_that_did_not_pass(self) -> None:
        for fault, what in (
            (Fault("disarm", match="cancel"), "apply it again and cancel"),
            (Fault("refuse", match="arm "), "rehearse"),
            (Fault("lie", match="text trial"), "rehearse"),
        ):
            lab = Lab("timer", list(BEFORE))
            failed = [step.what for step in self.steps(lab, fault) if not step.passed]
            self.assertIn(what, failed)

    def test_what_is_not_harmless_or_there_already_is_never_sent(self) -> None:
        for statement, told in (
            ("port mgmt shut\n", "not harmless"),
            ("port one text old\n", "has the statement"),
        ):
            lab = Lab("timer", list(BEFORE))
            [step] = self.steps(lab, statement=statement)
            self.assertIn(told, step.saw)
            self.assertNotIn("edit", lab.typed)

    def test_a_device_without_a_shut_interface_is_a_step_and_stops_no_other(self) -> None:
        [step] = self.steps(Lab("timer", list(BEFORE)), statement=None)
        self.assertEqual((step.passed, step.saw), (False, "no interface of the device is shut"))

    def test_a_shut_interface_is_described_where_nothing_is_named(self) -> None:
        self.assertIsNone(harmless_statement(BINE, tree_of("system\n  hostname a\ninterface port1\n")))
        text = harmless_statement(
            BINE, tree_of("system\n  hostname a\ninterface port1\ninterface port2\n  enabled false\n")
        )
        self.assertEqual(text, "interface port2\n  description oast-rehearsal")
