"""The ways of delivery, each against a device that has just that: every fault at every step, and the device is asked for the truth."""

from __future__ import annotations

import asyncio
import dataclasses
import io
import os
import tempfile
import threading
import traceback
import unittest
from collections.abc import Callable, Coroutine, Sequence
from pathlib import Path
from typing import Any
from unittest import mock

from rich.console import Console

import oast
from in_memory import LABS, run
from lab import BEFORE, COMMON, PASSWORD, USER, WAYS, Fault, Lab
from oast import Outcome, answer_parsing
from oast.answer_parsing import is_long
from oast.change.device.transaction import DeviceTransaction
from oast.change.plan import diff as compare
from oast.cli.preview import show_forecast
from oast.cli.signals import open_devices_text
from oast.config.indented_syntax import IndentedSyntax

INTENDED = """{#
section: all
owns: [name, port *, route *]
#}
name pier
port mgmt text way-in
port mgmt address 127.0.0.1/8
port one text {{ text }}
port three speed 5
route 198.51.100.0/24 via 192.0.2.1
"""
AFTER = {line.replace("{{ text }}", "new") for line in INTENDED.split("#}\n")[1].splitlines()} | {"user oast"}


FAULTS = bool(os.environ.get("OAST_FAULTS"))


class Case(unittest.TestCase):
    """An estate with one device, which is a lab."""

    def setUp(self) -> None:
        super().setUp()
        LABS.clear()
        self._folders = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-lab-")))

    def estate(self, lab: Lab, port: int, *, second: str = "", template: str = INTENDED) -> oast.OpenEstate:
        way = f", {second.format(port=port + 1)}" if second else ""
        folder = self._folders / str(len(list(self._folders.iterdir())))
        files = {
            "oast.toml": f'format = 1\n[connection]\nusername = "{USER}"\npassword = {{ secret = "login" }}\n'
            "[delivery]\nrevert_timer_s = 20\nverify_timeout_s = 2\n",
            "inventory/devices.yaml": f"devices:\n  pier: {{address: 127.0.0.1, port: {port}, platform: lab{way}}}\n",
            "values/all.yaml": "everywhere: {text: new}\n",
            "intent.yaml": "sections:\n  - section: all\n",
            "templates/lab/all.j2": template,
            "platforms/lab.toml": COMMON.replace("[readings", WAYS[lab.way] + "[readings", 1),
            "known_hosts": f"pier {lab.trusted}\n",
        }
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text)
        return oast.open(folder, {"OAST_SECRET_LOGIN": PASSWORD})

    def in_memory(self, lab: Lab, *, second: str = "", template: str = INTENDED) -> oast.OpenEstate:
        """The lab without a network: by an even port directly, by the odd one after it the second way in."""
        port = 2 + 2 * len(LABS)
        LABS[port] = LABS[port + 1] = lab
        return self.estate(lab, port, second=second, template=template)

    async def push(
        self, lab: Lab, *, fault: Fault | None = None, second: str = "", template: str = INTENDED
    ) -> Outcome:
        """Compare, then deliver with `fault`."""
        plan = await self.in_memory(lab, second=second, template=template).compare()
        self.assertEqual(plan.failed, ())
        lab.lines, lab.typed = 0, []
        lab.fault = fault or Fault()
        result = await plan.deliver("a test")
        return result.outcomes[0]

    def truth(self, lab: Lab, outcome: Outcome, about: object, before: Sequence[str] = BEFORE) -> None:
        """What was reported is what the device has."""
        running, told = set(lab.running), (about, outcome, lab.typed)
        self.assertIsNone(lab.timer, told)
        if outcome.state is oast.State.DELIVERED:
            self.assertEqual(running, AFTER, told)
            saved = set(lab.startup) == AFTER and (
                lab.way != "file" or set(lab.files["/etc/lab.conf"]) == AFTER
            )
            self.assertTrue(saved or "startup may not be saved" in str(outcome.reason), told)
        else:
            self.assertIn(outcome.state, (oast.State.REVERTED, oast.State.UNCHANGED), told)
            self.assertEqual(running, set(before), told)
            self.assertEqual(set(lab.startup), set(before), told)


class OverSshTest(Case, unittest.IsolatedAsyncioTestCase):
    """The same devices as real SSH servers on loopback."""

    async def test_each_way_delivers_over_ssh(self) -> None:
        for way in WAYS:
            lab = Lab(way, list(BEFORE))
            self.addAsyncCleanup(lab.close)
            async with await self.estate(lab, await lab.listen()).compare() as plan:
                outcome = (await plan.deliver("a test")).outcomes[0]
            self.assertEqual((outcome.state, outcome.cause), (oast.State.DELIVERED, oast.Cause.NONE), outcome)
            self.truth(lab, outcome, way)


class WaysTest(Case):
    """In memory, in a time that passes by itself."""

    def _callTestMethod(self, method: Callable[[], Coroutine[Any, Any, None]]) -> None:
        run(method())

    async def test_each_way_delivers_and_names_its_way_back(self) -> None:
        names = {
            "timer": "revert timer",
            "candidate": "confirmed commit",
            "file": "file with a daemon timer",
            "scheduled": "scheduled restore",
            "none": "inverse commands sent by Oast",
        }
        for way, name in names.items():
            lab = Lab(way, list(BEFORE))
            outcome = await self.push(lab)
            self.assertEqual((outcome.state, outcome.cause), (oast.State.DELIVERED, oast.Cause.NONE), outcome)
            self.assertEqual(outcome.rollback_method.name if outcome.rollback_method else None, name)
            self.truth(lab, outcome, way)
            if way in ("timer", "scheduled"):
                arm = next(n for n, line in enumerate(lab.typed) if line.startswith(("arm ", "schedule ")))
                first = next(
                    n
                    for n, line in enumerate(lab.typed)
                    if "route " in line or ("port " in line and line != "show ports")
                )
                self.assertLess(arm, first, "the way back is armed before the first line")

    async def test_a_long_configuration_is_never_parsed_in_the_event_loop_while_timers_run(self) -> None:
        before = [*BEFORE, *(f"route 10.{n >> 8}.{n & 255}.0/24 via 192.0.2.1" for n in range(100))]
        # What is too long for the event loop is less than that here.
        self.enterContext(mock.patch.object(answer_parsing, "INLINE_LINES", 50))
        self.enterContext(mock.patch.object(compare, "SMALL", 1000))
        template = INTENDED.replace(", route *", "").replace("route 198.51.100.0/24 via 192.0.2.1\n", "")
        parse, main = IndentedSyntax.parse, threading.current_thread()
        beside: list[int] = []
        prepare, begun = DeviceTransaction.prepare, threading.Event()

        async def begins(self: DeviceTransaction) -> None:
            begun.set()
            await prepare(self)

        def observed(self: IndentedSyntax, text: str, *more: Any) -> Any:
            # Before the first device is prepared, no timer runs.
            if is_long(text) and begun.is_set():
                beside.append(len(text))
                self_test.assertIsNot(
                    threading.current_thread(), main, "".join(traceback.format_stack(limit=6))
                )
            return parse(self, text, *more)

        self_test = self
        for way in WAYS:
            for kind, at in (("none", 0), ("refuse", 9), ("drop", 9), ("drop", 16), ("lie", 12)):
                lab = Lab(way, list(before))
                plan = await self.in_memory(lab, template=template).compare()
                self.assertEqual(plan.failed, ())
                lab.lines, lab.fault = 0, Fault(kind, at)
                with (
                    mock.patch.object(DeviceTransaction, "prepare", begins),
                    mock.patch.object(IndentedSyntax, "parse", observed),
                ):
                    outcome = (await plan.deliver("a test")).outcomes[0]
                self.assertGreaterEqual(len(beside), 1, (way, kind, at))
                self.assertNotEqual(outcome.state, oast.State.UNKNOWN, outcome)
                if kind == "none":
                    self.assertEqual(
                        (outcome.state, outcome.cause), (oast.State.DELIVERED, oast.Cause.NONE), outcome
                    )
                beside.clear()
                begun.clear()

    async def test_every_fault_at_every_step_is_reported_truly(self) -> None:
        for way in WAYS:
            clean = Lab(way, list(BEFORE))
            await self.push(clean)
            for number, kind in enumerate(("refuse", "drop", "hang", "lie")):
                for at in range(1, clean.lines + 1):
                    # With more time all of them at every step, else one or two of the four.
                    if not FAULTS and (at + number + list(WAYS).index(way)) % 5:
                        continue
                    lab = Lab(way, list(BEFORE))
                    outcome = await self.push(lab, fault=Fault(kind, at))
                    self.truth(lab, outcome, (way, kind, at))

    async def test_ctrl_c_at_every_step_leaves_the_device_as_it_was_or_delivered_and_says_which(self) -> None:
        for way in WAYS:
            clean = Lab(way, list(BEFORE))
            await self.push(clean)
            states = set()
            # With more time at every step, else at every other one, each way with others.
            for at in range(
                1 + (0 if FAULTS else list(WAYS).index(way) % 2), clean.lines + 1, 1 if FAULTS else 2
            ):
                lab = Lab(way, list(BEFORE))
                plan = await self.in_memory(lab).compare()
                lab.lines, lab.typed = 0, []
                delivering = asyncio.create_task(plan.deliver("a test"))
                lab.fault = Fault("meanwhile", at, meanwhile=delivering.cancel)
                result = await delivering
                if lab.lines < at:
                    continue  # Checks were looked at less often than the first time.
                self.assertTrue(result.interrupted)
                self.truth(lab, result.outcomes[0], (way, "interrupted", at))
                states.add(result.outcomes[0].state)
            self.assertEqual(states, {oast.State.UNCHANGED, oast.State.REVERTED, oast.State.DELIVERED}, way)

    async def test_a_process_that_ends_at_once_names_every_device_that_is_not_proved_unchanged(self) -> None:
        for way in WAYS:
            clean = Lab(way, list(BEFORE))
            await self.push(clean)
            states = set()
            # With more time at every step, else at every third, each way with others.
            for at in range(
                1 + (0 if FAULTS else list(WAYS).index(way) % 3), clean.lines + 1, 1 if FAULTS else 3
            ):
                lab = Lab(way, list(BEFORE))
                plan = await self.in_memory(lab).compare()
                lab.lines, lab.typed = 0, []
                leaves: list[Callable[[], oast.DeliveryResult]] = []
                delivering = asyncio.create_task(plan.deliver("a test", begun=leaves.append))
                found: list[tuple[oast.DeliveryResult, set[str]]] = []
                lab.fault = Fault(
                    "meanwhile",
                    at,
                    meanwhile=lambda lab=lab, found=found, leaves=leaves: found.append(
                        (leaves[0](), {*lab.running})
                    ),
                )
                await delivering
                if not found:
                    continue  # Checks were looked at less often than the first time.
                [(result, running)] = found
                outcome = result.outcomes[0]
                self.assertIsNone(result.unrecorded)
                states.add(outcome.state)
                if outcome.state is oast.State.UNCHANGED:
                    self.assertEqual(running, set(BEFORE), (way, at))
                    self.assertEqual(
                        open_devices_text(result.outcomes), "exited at once; no device was changed"
                    )
                else:
                    self.assertIs(outcome.state, oast.State.UNKNOWN, (way, at))
                    self.assertIn(
                        "state unknown, left to their own rollback: pier", open_devices_text(result.outcomes)
                    )
                    self.assertIn("oast change recover", open_devices_text(result.outcomes))
            self.assertEqual(states, {oast.State.UNCHANGED, oast.State.UNKNOWN}, way)

    async def test_a_file_that_was_only_checked_is_not_touched(self) -> None:
        lab = Lab("file", list(BEFORE))
        lab.files["/etc/lab.conf"].insert(0, "# the night desk wrote this")
        outcome = await self.push(lab, fault=Fault("refuse", match="check "))
        self.assertEqual(outcome.state, oast.State.UNCHANGED, outcome)
        self.assertEqual(lab.files["/etc/lab.conf"][0], "# the night desk wrote this")

    async def test_a_check_that_fails_takes_the_change_back(self) -> None:
        template = INTENDED.replace("port three speed 5", "port three speed 7")
        for way in WAYS:
            lab = Lab(way, list(BEFORE))
            outcome = await self.push(lab, template=template)
            self.assertEqual(
                (outcome.state, outcome.cause), (oast.State.REVERTED, oast.Cause.CHECKS), outcome
            )
            self.truth(lab, outcome, way)

    async def test_a_rollback_that_is_answered_and_not_done_is_done_by_the_timer_or_by_inverse_edits(
        self,
    ) -> None:
        template = INTENDED.replace("port three speed 5", "port three speed 7")
        for way, match in (
            ("timer", "cancel"),
            ("candidate", "cancel"),
            ("file", "cancel"),
            ("scheduled", "unschedule"),
        ):
            for kind in (
                ("lie", "disarm", "refuse", "drop")
                if FAULTS or way == "timer"
                else ("lie", "disarm", "refuse")
            ):
                with self.subTest(way=way, kind=kind):
                    lab = Lab(way, list(BEFORE))
                    outcome = await self.push(lab, template=template, fault=Fault(kind, match=match))
                    self.assertEqual(
                        (outcome.state, outcome.cause), (oast.State.REVERTED, oast.Cause.CHECKS), outcome
                    )
                    lab.fault = Fault()
                    if way == "scheduled" and kind in ("lie", "refuse"):
                        self.assertIn("still armed", str(outcome.reason))
                        lab.go_back()
                    self.truth(lab, outcome, (way, kind))
                    by_edits = "rolled it back with inverse edits" in str(outcome.reason)
                    self.assertEqual(by_edits, kind == "disarm" and way != "scheduled", outcome)

    async def test_a_rollback_that_does_nothing_never_undoes_what_another_session_typed_meanwhile(
        self,
    ) -> None:
        template = INTENDED.replace("port three speed 5", "port three speed 7")

        def typed(lab: Lab) -> None:
            lab._disarm()
            lab.running.append("port four text hers")
            lab.fault = Fault("disarm", match="cancel")

        for way in ("timer", "candidate", "file"):
            lab = Lab(way, list(BEFORE))
            fault = Fault("meanwhile", match="cancel", meanwhile=lambda lab=lab: typed(lab))
            outcome = await self.push(lab, template=template, fault=fault)
            self.assertEqual(outcome.state, oast.State.UNKNOWN, outcome)
            self.assertIn("port four", str(outcome.reason))
            self.assertIn("port four text hers", lab.running)

    async def test_a_change_that_cuts_the_path_comes_back_or_is_not_begun(self) -> None:
        template = INTENDED.replace(
            "port mgmt address 127.0.0.1/8", "port mgmt address 127.0.0.1/8\nport mgmt shut"
        )
        for way in WAYS:
            lab = Lab(way, list(BEFORE))
            outcome = await self.push(lab, template=template)
            self.truth(lab, outcome, way)
            if way == "none":
                self.assertEqual(outcome.state, oast.State.UNCHANGED)
                self.assertIn(
                    "access: port mgmt / shut (the interface that Oast connects through);",
                    str(outcome.reason),
                )
                self.assertIn("no rollback of its own;", str(outcome.reason))
                self.assertIn("alternate_address", str(outcome.hint))
                self.assertNotIn("edit", lab.typed, "nothing was sent")
            else:
                self.assertEqual(
                    (outcome.state, outcome.cause), (oast.State.REVERTED, oast.Cause.CHECKS), (way, outcome)
                )
                self.assertIn("cut off management access", str(outcome.reason))

    async def test_with_a_second_way_in_that_is_open_the_change_may_be_begun_and_is_undone_by_it(
        self,
    ) -> None:
        template = INTENDED.replace(
            "port mgmt address 127.0.0.1/8", "port mgmt address 127.0.0.1/8\nport mgmt shut"
        )
        for host, stated in (
            ("127.0.0.2", "alternate_interface: out-of-band"),
            ("127.0.0.1", "alternate_interface: out-of-band"),
            ("127.0.0.2", "alternate_interface: two"),
        ):
            lab = Lab("none", list(BEFORE))
            outcome = await self.push(
                lab, template=template, second=f"alternate_address: '{host}:{{port}}', {stated}"
            )
            if stated.endswith("two"):  # The change removes this port.
                self.assertEqual(outcome.state, oast.State.UNCHANGED, outcome)
                self.assertIn(
                    "may cut off the alternate management address, too: port two", str(outcome.reason)
                )
            else:
                self.assertEqual(outcome.state, oast.State.REVERTED, outcome)
            self.truth(lab, outcome, stated)

    async def test_an_alternate_address_that_may_be_cut_as_well_is_none(self) -> None:
        template = INTENDED.replace(
            "port mgmt address 127.0.0.1/8", "port mgmt address 127.0.0.1/8\nport mgmt shut"
        )
        for second, told in (
            (
                "alternate_address: '127.0.0.1:{port}'",
                "may cut off the alternate management address, too: port mgmt / shut",
            ),
            (
                "alternate_address: '127.0.0.2:{port}'",
                "its own, and the interface of its alternate management address 127.0.0.2 is",
            ),
            ("alternate_address: '127.0.0.2:9'", "its alternate management address does not answer"),
        ):
            lab = Lab("none", list(BEFORE))
            outcome = await self.push(lab, template=template, second=second)
            self.assertEqual(outcome.state, oast.State.UNCHANGED, outcome)
            self.assertIn(told, str(outcome.reason))
            self.assertNotIn("edit", lab.typed, "nothing was sent")

    async def test_an_interface_is_no_risk_where_oast_comes_in_by_another(self) -> None:
        """The address of the operating system stands in no configuration: the inventory or the listing of interfaces tells."""
        before = [line for line in BEFORE if "address" not in line]
        template = INTENDED.replace("port mgmt address 127.0.0.1/8\n", "")
        for stated, state in (
            ("", oast.State.UNCHANGED),
            ("management_interface: mgmt", oast.State.DELIVERED),
            ("management_interface: one", oast.State.UNCHANGED),
            ("out_of_band: true", oast.State.DELIVERED),
        ):
            lab = Lab("none", list(before))
            outcome = await self.push(lab, template=template, second=stated)
            self.assertEqual(outcome.state, state, (stated, outcome))
        lab = Lab("none", list(before))
        with mock.patch.object(Lab, "shown_addresses", {"mgmt": ("127.0.0.1/8",)}):
            outcome = await self.push(lab, template=template)
        self.assertEqual(outcome.state, oast.State.DELIVERED, outcome)

    async def test_the_reason_for_a_rollback_is_known_and_not_guessed(self) -> None:
        cut = INTENDED.replace(
            "port mgmt address 127.0.0.1/8", "port mgmt address 127.0.0.1/8\nport mgmt shut"
        )
        failing = INTENDED.replace("port three speed 5", "port three speed 7")
        why, failed, checks = oast.RollbackReason, oast.Cause.FAILED, oast.Cause.CHECKS
        for template, fault, cause, reason, told in (
            (cut, Fault(), checks, why.PATH_CUT, "the change cut"),
            (failing, Fault(), checks, why.CHECKS, "expected up,"),
            (INTENDED, Fault("refuse", match="route "), failed, why.REFUSED, "the device rejected"),
            (INTENDED, Fault("drop", match="route "), failed, why.SESSION_LOST, "closed the session"),
            # It falls silent for longer than its timer, and answers again: nothing was tried in between.
            (
                INTENDED,
                Fault("hang", match="route "),
                failed,
                why.SESSION_LOST,
                "was rolled back (revert timer)",
            ),
            (INTENDED, Fault("lie", match="route "), failed, why.NOT_AS_GIVEN, "1 difference remains (at"),
        ):
            with self.subTest(reason=reason, fault=fault):
                lab = Lab("timer", list(BEFORE))
                outcome = await self.push(lab, template=template, fault=fault)
                self.assertEqual(
                    (outcome.state, outcome.cause, outcome.why), (oast.State.REVERTED, cause, reason), outcome
                )
                self.assertIn(told, str(outcome.reason))

    async def test_a_timer_that_expires_before_the_confirmation_is_nobodys_edit(self) -> None:
        lab = Lab("timer", list(BEFORE))

        def expire() -> None:
            sent = [number for number, line in enumerate(lab.typed) if line.startswith("route")]
            if sent and lab.typed[-1] == "show" and "show ports" in lab.typed[sent[0] :]:
                lab.go_back()

        outcome = await self.push(lab, fault=Fault("meanwhile", match="show", meanwhile=expire))
        self.assertEqual(
            (outcome.state, outcome.why), (oast.State.REVERTED, oast.RollbackReason.TOO_SLOW), outcome
        )
        self.assertNotIn("somebody", str(outcome.reason))

    async def test_a_device_that_is_too_slow_for_its_wave_was_not_cut_off(self) -> None:
        labs = [Lab("timer", list(BEFORE)), Lab("timer", list(BEFORE))]
        ports = [2 + 2 * number for number in range(2)]
        for port, lab in zip(ports, labs, strict=True):
            LABS[port] = LABS[port + 1] = lab
        estate = self.estate(labs[0], ports[0])
        folder = sorted(self._folders.iterdir())[-1]
        lines = "".join(
            f"  pier-{n}: {{address: 127.0.0.1, port: {port}, platform: lab}}\n"
            for n, port in enumerate(ports)
        )
        (folder / "inventory/devices.yaml").write_text(f"devices:\n{lines}")
        (folder / "known_hosts").write_text(
            "".join(f"pier-{n} {lab.trusted}\n" for n, lab in enumerate(labs))
        )
        (folder / "oast.toml").write_text(
            (folder / "oast.toml").read_text().replace("[delivery]", "command_timeout_s = 100\n[delivery]")
        )
        estate = oast.open(folder, {"OAST_SECRET_LOGIN": PASSWORD})
        plan = await estate.compare()
        labs[1].fault = Fault("hang", match="route ")
        outcomes = {outcome.device: outcome for outcome in (await plan.deliver("a test")).outcomes}
        self.assertEqual(outcomes["pier-0"].state, oast.State.DELIVERED, outcomes)
        slow = outcomes["pier-1"]
        self.assertEqual(
            (slow.state, slow.cause, slow.why),
            (oast.State.REVERTED, oast.Cause.FAILED, oast.RollbackReason.TOO_SLOW),
            slow,
        )
        self.assertNotIn("cut off management access", str(slow.reason))

    async def test_a_wave_that_may_not_fit_into_its_timer_is_forecast_before_anything_is_armed(self) -> None:
        plan = await self.in_memory(Lab("timer", list(BEFORE))).compare()
        for seconds, needed, fits in ((0.5, 1.5 + 2 + 2, True), (30.0, 90 + 2 + 2, False)):
            forecast = dataclasses.replace(plan, compare_s=seconds).forecast()
            assert forecast is not None
            self.assertEqual(
                (forecast.devices, forecast.needed_s, forecast.timer_s, forecast.fits),
                (1, needed, 20.0, fits),
            )
            out = io.StringIO()
            show_forecast(
                dataclasses.replace(plan, compare_s=seconds),
                oast.DeliveryOptions(),
                Console(file=out, width=300),
            )
            self.assertEqual(
                "warning: a wave of 1 device may take 94 s, longer than the revert timer of 20 s"
                in out.getvalue(),
                not fits,
            )
            self.assertEqual(
                "hint: give --revert-timer 94 or more\n" in out.getvalue(),
                not fits,
                "one device cannot be split",
            )
        await plan.close()

    async def test_in_merge_mode_what_is_intended_has_to_be_there_and_more_may_be(self) -> None:
        template = INTENDED.replace(
            "port one text {{ text }}", "port one text {{ text }}\nport one address 198.51.100.7/24"
        )
        lab = Lab("timer", [*BEFORE, "port one address 192.0.2.7/24"])
        plan = await self.in_memory(lab, template=template).compare(mode="merge")
        outcome = (await plan.deliver("a test")).outcomes[0]
        self.assertEqual((outcome.state, outcome.cause), (oast.State.DELIVERED, oast.Cause.NONE), outcome)
        self.assertIn("port one address 192.0.2.7/24", lab.running)
        self.assertIn("port one address 198.51.100.7/24", lab.running)

    async def test_what_failed_before_is_excused_when_only_a_leaf_beside_it_changes(self) -> None:
        before = [*BEFORE, "port three speed 7"]
        template = INTENDED.replace("port three speed 5", "port three speed 7\nport three text berth")
        lab = Lab("timer", before)
        outcome = await self.push(lab, template=template)
        self.assertEqual((outcome.state, outcome.cause), (oast.State.DELIVERED, oast.Cause.NONE), outcome)
        self.assertEqual([result.check.title for result in outcome.excused_checks], ["interface three is up"])
        shut = Lab("timer", [*before, "port three shut"])
        outcome = await self.push(shut, template=template)
        self.assertEqual(
            (outcome.state, outcome.cause),
            (oast.State.REVERTED, oast.Cause.CHECKS),
            "it was to come up, and did not",
        )

    async def test_what_somebody_else_is_trying_out_is_left_alone(self) -> None:
        for way in ("timer", "candidate", "file", "scheduled"):
            lab = Lab(way, list(BEFORE))
            plan = await self.in_memory(lab).compare()
            lab.before, lab.timer = list(lab.running), asyncio.get_running_loop().call_later(600, lab.go_back)
            outcome = (await plan.deliver("a test")).outcomes[0]
            self.assertEqual(outcome.state, oast.State.UNCHANGED, outcome)
            self.assertIn("was sent to the", str(outcome.reason))
            self.assertIsNotNone(lab.timer, "her timer runs on")
            self.assertEqual(lab.running, list(BEFORE))

    async def test_what_somebody_else_added_meanwhile_stays_when_inverse_lines_are_sent(self) -> None:
        lab = Lab("none", list(BEFORE))
        hers = "user night-desk"
        lab.fault = Fault()
        task = asyncio.create_task(self.push(lab, fault=Fault("hang", match="route ")))
        while not lab.typed or "route" not in lab.typed[-1]:
            await asyncio.sleep(0.001)
        lab.running.append(hers)
        outcome = await task
        self.assertEqual(outcome.state, oast.State.REVERTED, outcome)
        self.assertEqual(set(lab.running), {*BEFORE, hers})

    async def test_what_others_have_not_saved_is_shown_before_it_is(self) -> None:
        lab = Lab("timer", list(BEFORE))
        for line in ("user oast", "port two text x"):
            lab.startup.remove(line)
        plan = await self.in_memory(lab).compare()
        self.assertEqual(
            [edit.node.text for edit in plan.comparisons[0].unsaved],
            ["user oast"],
            "the other goes with the change",
        )
        await plan.close()


if __name__ == "__main__":
    unittest.main()
