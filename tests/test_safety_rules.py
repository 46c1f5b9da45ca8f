"""The rules that protect a device, each in process and without a network."""

from __future__ import annotations

import dataclasses
import tempfile
import unittest
from collections.abc import Callable, Coroutine, Iterable
from pathlib import Path
from typing import Any
from unittest import mock

import oast
from in_memory import run
from lab import BEFORE, WAYS, Fault, Lab
from oast import Outcome
from oast.change.plan.diff import DEFAULT_MODE, ApplyMode, Comparison, ReadDevice, compare, edits_between
from oast.change.plan.limits import limit_violations
from oast.change.plan.management_access import access_risks, management_interfaces
from oast.change.plan.stored_plan import plan_from
from oast.change.record.approval import Signers, require_valid_approval
from oast.change.record.baseline import load_baseline
from oast.change.record.journal import DeviceJournal
from oast.change.record.ledger_entry import MOST, VARIABLE, author_identity
from oast.change.rollout.rollout import rolled_back_outcome
from oast.change.rollout.stability_time import stable_for_s
from oast.config.diff_text import Counts
from oast.config.edits import difference
from oast.config.indented_syntax import tree_of_device
from oast.config.ownership import Scope, pattern_of
from oast.config.syntaxes import syntax_of
from oast.config.tree import Node
from oast.connect.management_path import SessionAddresses
from oast.errors import ApprovalError, EstateError, StateError
from oast.estate.inventory import Device
from oast.estate.settings import LimitSettings
from oast.intent.intent import Intent
from oast.platforms.definition import Platform
from oast.platforms.load import Platforms
from oast.records import Fingerprints, Place
from oast.verify.checks import Check
from test_timer_extension import TwoDevicesTest
from test_ways import AFTER, INTENDED, Case

PLATFORMS = Platforms(None, Fingerprints(b"k" * 32))
BINE = PLATFORMS.get("bine")
ROUTE = SessionAddresses.of(["192.0.2.1"], ["203.0.113.9"], "oast", interface="manage0")


def intent_of(platform: Platform, text: str, owned: Iterable[str], section: str = "all") -> Intent:
    patterns = tuple(pattern_of(one) for one in owned)
    device = Device("pier", "192.0.2.1", platform.name, None, {}, {}, Place("inventory/a.yaml", 1), {})
    return Intent.of_record(
        device, platform, tree_of_device(syntax_of(platform), text), Scope(patterns), {section: patterns}
    )


def comparison_of(platform: Platform, before: str, after: str, owned: Iterable[str]) -> Comparison:
    return compare(
        intent_of(platform, after, owned),
        ReadDevice(before, None, ROUTE),
        syntax_of(platform),
        DEFAULT_MODE,
    )


def lines(comparison: Comparison) -> list[str]:
    return [command.line.masked for command in comparison.commands]


class PlanTest(unittest.TestCase):
    def test_the_old_and_the_new_dead_interval_count_for_the_stability_time(self) -> None:
        for before, after, expected in ((90, 12, 90.0), (12, 90, 90.0), (30, 30, 0.0)):
            texts = [
                f"interface port2\nospf\n  area 0.0.0.0\n    interface port2\n      dead-interval {seconds}\n"
                for seconds in (before, after)
            ]
            made = comparison_of(BINE, *texts, ["ospf"])
            path = made.edits[0].path[:-1] if made.edits else ("ospf", "area 0.0.0.0", "interface port2")
            found = stable_for_s(made, [self._neighbor_check(path)])
            self.assertEqual(found, expected, (before, after))

    @staticmethod
    def _neighbor_check(path: tuple[str, ...]) -> Check:
        return Check(
            "pier", "OSPF neighbor heron", "ospf-neighbors", {"interface": "port2"}, "state", "full", (path,)
        )

    def test_an_entry_is_created_before_the_leaf_that_refers_to_it_and_removed_after(self) -> None:
        listed = "acl guests\n"
        bound = "interface port2\n  ingress-acl guests\n"
        made = lines(comparison_of(BINE, "interface port2\n", listed + bound, ["acl *", "interface *"]))
        gone = lines(comparison_of(BINE, listed + bound, "interface port2\n", ["acl *", "interface *"]))
        first = next(n for n, line in enumerate(made) if line.startswith("acl"))
        last = next(n for n, line in enumerate(made) if "ingress-acl" in line)
        self.assertLess(first, last, made)
        first = next(n for n, line in enumerate(gone) if "ingress-acl" in line)
        last = next(n for n, line in enumerate(gone) if line == "remove acl guests")
        self.assertLess(first, last, gone)

    def test_a_section_that_loses_more_than_its_share_is_a_violation_and_one_at_the_limit_is_none(
        self,
    ) -> None:
        whole = "".join(f"static-route 198.51.{n}.0/24\n  next-hop 192.0.2.1\n" for n in range(20))

        def kept(number: int) -> list[str]:
            made = comparison_of(BINE, whole, "\n".join(whole.splitlines()[: 2 * number]), ["static-route *"])
            limits = LimitSettings(removals=1000, share=0.5, last_of=())
            return [one.limit for one in limit_violations(made, limits)]

        self.assertEqual(kept(10), [])
        self.assertEqual(kept(9), ["share"])
        self.assertEqual(kept(11), [])

    def test_a_static_route_is_a_risk_where_the_address_of_oast_is_not_known_or_not_readable(self) -> None:
        text = "static-route 198.51.100.0/24\n  next-hop 192.0.2.1\n"
        edits = difference(self._tree(""), self._tree(text))
        holders = management_interfaces(intent_of(BINE, text, ["static-route *"]), self._tree(""), ROUTE)
        for ours, is_risk in (((), True), (("203.0.113.9",), False), (("198.51.100.7",), True)):
            route = SessionAddresses.of(["192.0.2.1"], ours, "oast", interface="manage0")
            found = access_risks(BINE, holders, edits, route)
            self.assertEqual(bool(found), is_risk, (ours, found))

    @staticmethod
    def _tree(text: str) -> Node:
        return tree_of_device(syntax_of(BINE), text)

    def test_what_management_access_depends_on_is_a_risk_and_nothing_else(self) -> None:
        text = "interface manage0\n  ipv4\n    address 192.0.2.1/24\n  ingress-acl guests\ninterface port2\nacl guests\nacl other\n"
        before = self._tree(text)
        intent = intent_of(BINE, text, ["interface *", "acl *", "user *"])
        unknown = SessionAddresses.of(["192.0.2.99"], ["203.0.113.9"], "oast")
        out_of_band = SessionAddresses.of(["192.0.2.1"], ["203.0.113.9"], "oast", is_out_of_band=True)
        for added, route, is_risk in (
            ("interface manage0\n  mtu 1400\n", ROUTE, True),
            ("interface port2\n  mtu 1400\n", ROUTE, False),
            ("interface port2\n  mtu 1400\n", unknown, True),
            ("acl guests\n  description x\n", ROUTE, True),
            ("acl other\n  description x\n", ROUTE, False),
            ("acl other\n  description x\n", unknown, True),
            ("user oast\n  role viewer\n", ROUTE, True),
            ("user ada\n  role viewer\n", ROUTE, False),
            ("user oast\n  role viewer\n", out_of_band, True),
            ("acl guests\n  description x\n", out_of_band, False),
            ("interface manage0\n  mtu 1400\n", out_of_band, False),
            ("ntp\n  server 192.0.2.7\n", ROUTE, False),
        ):
            with self.subTest(added=added, route=route):
                edits = difference(before, self._tree(text + added))
                self.assertEqual(len(edits), 1, edits)
                found = access_risks(BINE, management_interfaces(intent, before, route), edits, route)
                self.assertEqual(bool(found), is_risk, found)

    def test_records_of_another_format_are_refused(self) -> None:
        with self.assertRaisesRegex(StateError, "this version of Oast reads"):
            plan_from({"format": "oast.plan/99"})
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "baseline.json")
            path.write_text('{"format": "oast.baseline/99"}')
            with self.assertRaisesRegex(StateError, "this version of Oast reads"):
                load_baseline(path, BINE.grammar)

    def test_an_identity_is_one_line_of_at_most_so_many_characters(self) -> None:
        for given, is_right in (
            ("ada@larkwater.example", True),
            ("a" * MOST, True),
            ("a" * (MOST + 1), False),
            ("a\nb", False),
        ):
            with self.subTest(given=given[:20]):
                if is_right:
                    self.assertEqual(author_identity(Path("/"), {VARIABLE: given}), given)
                else:
                    with self.assertRaises(EstateError):
                        author_identity(Path("/"), {VARIABLE: given})

    def test_an_approval_by_the_author_does_not_count(self) -> None:
        signers = Signers(None, {})
        proposal = {"author": "Ada", "difference": "d1"}
        require_valid_approval("c", proposal, {"author": "Cy", "difference": "d1"}, signers)
        for said in (
            {"author": "Ada", "difference": "d1"},
            {"author": "", "difference": "d1"},
            {"difference": "d1"},
            {"author": "Cy", "difference": "d2"},
        ):
            with self.subTest(said=said), self.assertRaises(ApprovalError):
                require_valid_approval("c", proposal, said, signers)


class TransactionTest(Case):
    """Deliveries to devices in memory."""

    def _callTestMethod(self, method: Callable[[], Coroutine[Any, Any, None]]) -> None:
        run(method())

    async def test_a_refused_confirmation_is_not_reported_as_delivered_before_the_device_shows_it(
        self,
    ) -> None:
        for way in ("timer", "candidate", "file"):
            lab = Lab(way, list(BEFORE))
            outcome = await self.push(lab, fault=Fault("refuse", match="confirm"))
            self.truth(lab, outcome, way)

    async def test_a_device_that_has_changed_since_the_diff_is_not_touched(self) -> None:
        for way in WAYS:
            lab = Lab(way, list(BEFORE))
            plan = await self.in_memory(lab).compare()
            lab.running.append("user night-desk")
            typed = len(lab.typed)
            outcome = (await plan.deliver("a test")).outcomes[0]
            self.assertEqual(outcome.state, oast.State.UNCHANGED)
            self.assertIn("changed since the comparison;", str(outcome.reason))
            sent = {
                line for line in lab.typed[typed:] if line and not line.startswith("show") and line != "exit"
            }
            self.assertEqual(sent, set(), way)

    async def test_what_another_session_has_edited_meanwhile_is_not_saved(self) -> None:
        lab = Lab("timer", list(BEFORE))
        fault = Fault("meanwhile", match="confirm", meanwhile=lambda: lab.running.append("user night-desk"))
        outcome = await self.push(lab, fault=fault)
        self.assertEqual((outcome.state, outcome.cause), (oast.State.DELIVERED, oast.Cause.FAILED), outcome)
        self.assertIn("user night-desk", lab.running)
        self.assertEqual(set(lab.startup), set(BEFORE), "nothing was saved, neither the change nor the edit")

    async def test_a_change_about_management_access_is_confirmed_from_a_new_login_only(self) -> None:
        lab = Lab("timer", list(BEFORE))
        opened: list[int] = []
        shell = lab.shell

        async def counted(process: Any) -> None:
            opened.append(len(lab.typed))
            await shell(process)

        lab.shell = counted  # type: ignore[method-assign]
        template = INTENDED.replace("port mgmt text way-in", "port mgmt text new-name")
        outcome = await self.push(lab, template=template)
        self.assertEqual(outcome.state, oast.State.DELIVERED, outcome)
        confirmed = next(n for n, line in enumerate(lab.typed) if line == "confirm")
        applied = max(n for n, line in enumerate(lab.typed) if line.startswith("port mgmt text"))
        self.assertTrue(any(applied < at <= confirmed for at in opened), (opened, lab.typed))

    async def test_the_journal_knows_of_every_phase_before_the_device_does(self) -> None:
        step = DeviceJournal.step
        for way in WAYS:
            lab = Lab(way, list(BEFORE))
            steps: list[tuple[str, int]] = []

            async def noted(self: DeviceJournal, what: str, **more: Any) -> None:
                await step(self, what, **more)
                steps.append((what, len(lab.typed)))  # noqa: B023

            with mock.patch.object(DeviceJournal, "step", noted):
                outcome = await self.push(lab)
            self.assertEqual(outcome.state, oast.State.DELIVERED, outcome)
            known = dict(reversed(steps))
            changing = [
                n
                for n, line in enumerate(lab.typed)
                if line.startswith(("arm ", "commit ", "apply ", "schedule "))
            ]
            if way == "none":
                changing = [
                    n for n, line in enumerate(lab.typed) if line.startswith("name ") or " text " in line
                ]
            self.assertLessEqual(
                known["applying" if way in ("candidate", "file", "none") else "staged"], changing[0], way
            )

    async def test_what_is_removed_on_purpose_goes_once_also_where_the_change_only_adds(self) -> None:
        before = self._tree_of("ntp\n  server 192.0.2.7\n  server 192.0.2.8\nuser ada\n")
        intent = dataclasses.replace(
            intent_of(BINE, "", ["ntp", "user *"]),
            removals=(("ntp", "server 192.0.2.7"), ("user ada",), ("user ada", "role"), ("user cy",)),
        )
        found = edits_between(intent, before, ApplyMode("merge"))
        self.assertEqual(
            [(edit.operation, edit.path) for edit in found],
            [("remove", ("ntp", "server 192.0.2.7")), ("remove", ("user ada",))],
        )

    @staticmethod
    def _tree_of(text: str) -> Node:
        return tree_of_device(syntax_of(BINE), text)


class RollbackOfOthersTest(TwoDevicesTest):
    """One wave of two devices, or two waves of one: the slow one refuses a line."""

    refuses = Fault("refuse", match="route ")

    async def outcomes(self, settings: str) -> tuple[Outcome, Lab]:
        self.settings = settings
        labs = {"quick": Lab("timer", list(BEFORE)), "slow": Lab("timer", list(BEFORE))}
        estate = self.estate(labs)
        path = sorted(self.folders.iterdir())[-1] / "oast.toml"
        path.write_text(path.read_text().replace("max_failures = 9\n", settings))
        plan = await oast.open(path.parent, estate._environment).compare()
        labs["slow"].fault = self.refuses
        outcomes = {one.device: one for one in (await plan.deliver("a test")).outcomes}
        self.assertEqual(set(labs["slow"].running), set(BEFORE))
        self.assertEqual(
            (outcomes["slow"].state, outcomes["slow"].cause), (oast.State.REVERTED, oast.Cause.FAILED)
        )
        return outcomes["quick"], labs["quick"]

    async def test_after_a_failure_what_the_estate_says_is_rolled_back(self) -> None:
        for settings, delivered in (
            ('waves = ["1"]\non_failure = "stop"\n', True),
            ('waves = ["1"]\non_failure = "wave"\n', True),
            ('waves = ["1"]\non_failure = "change"\n', False),
            ('on_failure = "stop"\n', True),
            ('on_failure = "wave"\n', False),
            ('on_failure = "change"\nmax_failures = 1\n', True),
        ):
            with self.subTest(settings=settings):
                quick, lab = await self.outcomes(settings)
                expected = (
                    (oast.State.DELIVERED, oast.Cause.NONE)
                    if delivered
                    else (oast.State.REVERTED, oast.Cause.HELD)
                )
                self.assertEqual((quick.state, quick.cause), expected, quick)
                self.assertEqual(set(lab.running), AFTER if delivered else set(BEFORE))
                self.assertEqual(set(lab.startup), set(lab.running))
                self.assertEqual(
                    "1 failure" in str(quick.reason) or "failed" in str(quick.reason), not delivered, quick
                )

    async def test_a_device_that_cannot_be_rolled_back_says_so_and_is_never_called_rolled_back(self) -> None:
        delivered = Outcome("gull", oast.State.DELIVERED, oast.Cause.NONE, Counts(1, 0), 1.0)
        for became, state, cause in (
            (delivered, oast.State.REVERTED, oast.Cause.HELD),
            (
                dataclasses.replace(delivered, cause=oast.Cause.FAILED, reason="not saved"),
                oast.State.REVERTED,
                oast.Cause.FAILED,
            ),
            (
                dataclasses.replace(delivered, state=oast.State.UNCHANGED),
                oast.State.DELIVERED,
                oast.Cause.FAILED,
            ),
            (
                dataclasses.replace(delivered, state=oast.State.REVERTED),
                oast.State.DELIVERED,
                oast.Cause.FAILED,
            ),
            (dataclasses.replace(delivered, state=oast.State.UNKNOWN), oast.State.UNKNOWN, oast.Cause.FAILED),
            (None, oast.State.DELIVERED, oast.Cause.FAILED),
        ):
            found = rolled_back_outcome(delivered, became, "rolled back, because others failed")
            self.assertEqual((found.state, found.cause), (state, cause), became)
            self.assertIn("rolled back, because others failed", str(found.reason))
        checks = rolled_back_outcome(dataclasses.replace(delivered, cause=oast.Cause.CHECKS), delivered, "x")
        self.assertIs(checks.cause, oast.Cause.CHECKS)


if __name__ == "__main__":
    unittest.main()
