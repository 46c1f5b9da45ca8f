"""A revert timer that runs low while the wave goes on is extended, where the platform can; what was reported is what the device has."""

from __future__ import annotations

import dataclasses
import io
import tempfile
import unittest
from collections.abc import Callable, Coroutine, Mapping
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

from rich.console import Console

import oast
from in_memory import LABS, run
from lab import BEFORE, COMMON, PASSWORD, USER, WAYS, Fault, Lab
from oast import Outcome
from oast.change.methods.base import ChangeRequest
from oast.change.methods.netconf import NetconfCandidateMethod
from oast.change.rollout.rollout import RolloutOrder
from oast.change.rollout.wave import largest_wave, timer_needed_s
from oast.change.state import Phase
from oast.cli.preview import show_forecast
from oast.connect.capability import Capability
from oast.estate.inventory import Device
from oast.fleet.events import WaveEvent
from test_ways import AFTER, INTENDED

EXTEND = 'extend = "extend {seconds}"\n'
WITH_TIME_LEFT = 'pattern = "armed, (?P<left>[0-9]+) s left"'
TIMER_S = 20
SPLIT = "waves: 2 instead of 1, of at most 1 device, so that each fits into the revert timer of 20 s"
# A device that takes longer for its validation than the others' timers last.
SLOW = Fault("slow", match="validate", seconds=25)


def platform_text(way: str, *, extends: bool, shows_time: bool) -> str:
    commands = WAYS[way]
    if extends:
        commands = (
            commands.replace("confirm = ", f"{EXTEND}confirm = ", 1)
            if way != "scheduled"
            else commands + EXTEND
        )
    if shows_time:
        commands = commands.replace('pattern = "armed.*"', WITH_TIME_LEFT)
    return COMMON.replace('name = "lab"', f'name = "lab-{way}"').replace(
        "[readings", commands + "[readings", 1
    )


class TwoDevicesTest(unittest.TestCase):
    """One wave of `quick`, whose timer has to be extended, and `slow`."""

    extends = True
    shows_time = True
    stable_for_s = 0

    def _callTestMethod(self, method: Callable[[], Coroutine[Any, Any, None]]) -> None:
        run(method())

    def setUp(self) -> None:
        super().setUp()
        LABS.clear()
        self.folders = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-lab-")))

    def estate(self, labs: Mapping[str, Lab]) -> oast.OpenEstate:
        folder = self.folders / str(len(list(self.folders.iterdir())))
        files = {
            "oast.toml": f'format = 1\n[connection]\nusername = "{USER}"\npassword = {{ secret = "login" }}\ncommand_timeout_s = 900\n'
            f"[delivery]\nrevert_timer_s = {TIMER_S}\nverify_timeout_s = 2\nstable_for_s = {self.stable_for_s}\nmax_failures = 9\n",
            "inventory/devices.yaml": "devices:\n",
            "values/all.yaml": "everywhere: {text: new}\n",
            "intent.yaml": "sections:\n  - section: all\n",
            "known_hosts": "",
        }
        for number, (name, lab) in enumerate(labs.items(), 1):
            LABS[2 * number] = LABS[2 * number + 1] = lab
            files["inventory/devices.yaml"] += (
                f"  {name}: {{address: 127.0.0.1, port: {2 * number}, platform: lab-{lab.way}}}\n"
            )
            files["known_hosts"] += f"{name} {lab.trusted}\n"
            files[f"templates/lab-{lab.way}/all.j2"] = INTENDED
            files[f"platforms/lab-{lab.way}.toml"] = platform_text(
                lab.way, extends=self.extends, shows_time=self.shows_time
            )
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text)
        return oast.open(folder, {"OAST_SECRET_LOGIN": PASSWORD})

    async def push(
        self, way: str, *, quick: Fault | None = None, slow: Fault = SLOW, slow_way: str = "candidate"
    ) -> tuple[dict[str, Outcome], Lab]:
        """Both are delivered to together; their outcomes, each compared with its device, and the quick device."""
        labs = {"quick": Lab(way, list(BEFORE)), "slow": Lab(slow_way, list(BEFORE))}
        plan = await self.estate(labs).compare()
        self.assertEqual(plan.failed, ())
        for name, fault in (("quick", quick or Fault()), ("slow", slow)):
            labs[name].lines, labs[name].typed, labs[name].fault = 0, [], fault
        outcomes = {outcome.device: outcome for outcome in (await plan.deliver("a test")).outcomes}
        for name, lab in labs.items():
            outcome = outcomes[name]
            told = (way, outcome, lab.typed)
            self.assertIsNone(lab.timer, told)
            self.assertEqual(
                set(lab.running), AFTER if outcome.state is oast.State.DELIVERED else set(BEFORE), told
            )
            self.assertNotEqual(outcome.state, oast.State.UNKNOWN, told)
        return outcomes, labs["quick"]


class ExtensionTest(TwoDevicesTest):
    """Where the platform can extend its timer, and shows how long it still waits."""

    async def test_a_device_that_is_loaded_slowly_is_waited_for(self) -> None:
        for way in ("timer", "candidate", "file", "scheduled"):
            outcomes, quick = await self.push(way)
            self.assertEqual({o.state for o in outcomes.values()}, {oast.State.DELIVERED}, (way, outcomes))
            self.assertIn(f"extend {TIMER_S}", quick.typed)

    async def test_after_three_timers_the_slow_device_is_given_up(self) -> None:
        outcomes, quick = await self.push("timer", slow=Fault("slow", match="validate", seconds=600))
        self.assertIs(outcomes["quick"].state, oast.State.DELIVERED)
        self.assertIn(
            "the change was not applied before the revert timers of other devices in the wave would have expired",
            str(outcomes["slow"].reason),
        )
        self.assertIn(sum("extend" in line for line in quick.typed), range(3, 6))

    async def test_a_device_whose_own_timer_runs_out_is_given_up_before_and_the_other_is_not_kept_waiting(
        self,
    ) -> None:
        for match in ("end", "show ports"):
            outcomes, quick = await self.push(
                "timer", slow=Fault("slow", match=match, seconds=300), slow_way="timer"
            )
            self.assertIs(outcomes["quick"].state, oast.State.DELIVERED, outcomes)
            self.assertIs(outcomes["slow"].state, oast.State.REVERTED, outcomes)
            self.assertIn("before revert timer would have expired", str(outcomes["slow"].reason))
            self.assertLessEqual(sum("extend" in line for line in quick.typed), 1)

    async def test_a_refused_extension_leaves_the_timer_as_it_was(self) -> None:
        for way in ("timer", "candidate", "file", "scheduled"):
            outcomes, quick = await self.push(way, quick=Fault("refuse", match="extend"))
            self.assertIs(outcomes["quick"].state, oast.State.DELIVERED)
            self.assertIn("the change was not applied before", str(outcomes["slow"].reason))
            self.assertEqual(sum("extend" in line for line in quick.typed), 1)

    async def test_an_extension_that_is_accepted_and_not_done_is_noticed_by_the_time_left(self) -> None:
        outcomes, _ = await self.push("timer", quick=Fault("lie", match="extend"))
        self.assertIs(outcomes["quick"].state, oast.State.DELIVERED)
        self.assertIn("the change was not applied before", str(outcomes["slow"].reason))

    async def test_an_extension_that_is_taken_for_the_confirmation_is_rolled_back(self) -> None:
        for way in ("timer", "candidate", "file", "scheduled"):
            outcomes, _ = await self.push(way, quick=Fault("disarm", match="extend"))
            self.assertIs(outcomes["quick"].state, oast.State.REVERTED)
            self.assertIn("does not show a running timer", str(outcomes["quick"].reason))
            self.assertIs(
                outcomes["slow"].state, oast.State.DELIVERED, "the other device has nothing to do with it"
            )

    async def test_contact_lost_while_extending_ends_in_a_known_state(self) -> None:
        for kind in ("drop", "hang"):
            outcomes, _ = await self.push("timer", quick=Fault(kind, match="extend"))
            self.assertIs(outcomes["quick"].state, oast.State.REVERTED, kind)
            self.assertIs(outcomes["slow"].state, oast.State.DELIVERED, kind)


class LongStabilityTest(TwoDevicesTest):
    """Checks that have to stay passed for longer than the timer would last on a slow device."""

    stable_for_s = 30

    async def test_the_timer_is_extended_while_checks_have_to_stay_passed(self) -> None:
        outcomes, quick = await self.push("timer", slow=Fault("slow", match="show ports", seconds=17))
        self.assertEqual({o.state for o in outcomes.values()}, {oast.State.DELIVERED}, outcomes)
        self.assertTrue(any("extend" in line for line in quick.typed), quick.typed)


class NoTimeShownTest(TwoDevicesTest):
    """A device that does not show how long it still waits."""

    shows_time = False

    async def test_an_extension_that_is_accepted_and_not_done_ends_in_the_devices_own_rollback(self) -> None:
        outcomes, _ = await self.push("timer", quick=Fault("lie", match="extend"))
        self.assertIs(outcomes["quick"].state, oast.State.REVERTED)


class NoExtensionTest(TwoDevicesTest):
    """A platform that cannot: the slow device is given up, the other one is delivered."""

    extends = False

    async def test_a_device_that_is_loaded_too_slowly_is_given_up(self) -> None:
        outcomes, _ = await self.push("timer")
        self.assertIs(outcomes["quick"].state, oast.State.DELIVERED)
        self.assertIs(outcomes["slow"].state, oast.State.UNCHANGED)
        self.assertIn(
            "the change was not applied before the revert timers of other devices in the wave would have expired",
            str(outcomes["slow"].reason),
        )

    async def test_a_device_that_is_read_too_slowly_is_given_up(self) -> None:
        outcomes, _ = await self.push("timer", slow=Fault("slow", match="show ports", seconds=300))
        self.assertIs(outcomes["quick"].state, oast.State.DELIVERED)
        self.assertIs(outcomes["slow"].state, oast.State.REVERTED)
        self.assertIn(
            "the device did not answer before the revert timers of other", str(outcomes["slow"].reason)
        )


class SplitWavesTest(TwoDevicesTest):
    """Where the engineer allows it, a wave that would not fit into the timer is delivered in several."""

    async def test_a_wave_that_would_not_fit_is_split_and_the_preview_says_so(self) -> None:
        plan = await self.estate(
            {"quick": Lab("timer", list(BEFORE)), "slow": Lab("candidate", list(BEFORE))}
        ).compare()
        # 5 s for each device: 3 times that, the checks and the margin are just below the timer of 20 s.
        plan = dataclasses.replace(plan, compare_s=10.0)
        for allowed, wanted, said in (
            (False, [("quick", "slow")], "give --revert-timer 34"),
            (True, [("quick",), ("slow",)], SPLIT),
        ):
            how = oast.DeliveryOptions(split_waves=allowed)
            out = io.StringIO()
            show_forecast(plan, how, Console(file=out, width=300))
            self.assertIn(said, out.getvalue())
            self.assertEqual("warning" in out.getvalue(), not allowed)
            waves = plan._order(plan._settings(how)).of(
                [comparison.intent.device for comparison in plan.to_do]
            )
            self.assertEqual([tuple(device.name for device in wave) for wave in waves], wanted)
        events: list[object] = []
        await plan.deliver("a test", options=how, on_event=events.append)
        self.assertEqual(
            [event.devices for event in events if isinstance(event, WaveEvent)], [("quick",), ("slow",)]
        )


class WaveSizeTest(unittest.TestCase):
    """How many devices a wave may have, and how a larger one is split."""

    def test_waves_are_split_into_as_few_as_fit_of_about_the_same_size(self) -> None:
        devices = [cast(Device, SimpleNamespace(name=f"d-{number}")) for number in range(10)]
        for largest, sizes in ((None, [10]), (10, [10]), (9, [5, 5]), (4, [4, 3, 3]), (1, [1] * 10)):
            waves = RolloutOrder(largest=largest).of(devices)
            self.assertEqual([len(wave) for wave in waves], sizes)
            self.assertEqual([device for wave in waves for device in wave], devices)

    def test_the_largest_wave_that_fits_is_what_the_timer_needs_less_than_one_more_would(self) -> None:
        for timer_s, one_s, verify_s, stable_s in (
            (120.0, 0.4, 30.0, 0.0),
            (60.0, 0.05, 4.0, 12.0),
            (20.0, 30.0, 2.0, 0.0),
        ):
            count = largest_wave(timer_s, one_s, verify_s, stable_s)
            self.assertGreater(timer_needed_s((count + 1) * one_s, verify_s, stable_s), timer_s)
            self.assertTrue(count == 1 or timer_needed_s(count * one_s, verify_s, stable_s) <= timer_s)
        self.assertGreater(
            largest_wave(20.0, 0.0, 2.0, 0.0), 10**6, "nothing was measured, so nothing is split"
        )


class NetconfTest(unittest.IsolatedAsyncioTestCase):
    """A follow-up confirmed commit (RFC 6241, section 8.4.1)."""

    async def test_only_a_persistent_commit_is_extended(self) -> None:
        for offered, wanted in ((Capability.PERSIST, 40.0), (Capability.REVERT_TIMER, None)):
            session = _Session(offered)
            work = ChangeRequest(None, None, _ignore, lambda number: None, "word")  # type: ignore[arg-type]
            delivery = NetconfCandidateMethod(session, work)  # type: ignore[arg-type]
            self.assertEqual(await delivery.extend(40.0), wanted)
            self.assertFalse(delivery.shows_pending)
            leaves = [
                {child.tag.rpartition("}")[2]: child.text for child in operation}
                for operation in session.asked
            ]
            given = {"confirmed": None, "confirm-timeout": "40", "persist": "word", "persist-id": "word"}
            self.assertEqual(leaves, [] if wanted is None else [given])


async def _ignore(phase: Phase) -> None:
    return


class _Session:
    def __init__(self, *capabilities: Capability) -> None:
        self.capabilities = frozenset(capabilities)
        self.asked: list[Any] = []

    async def rpc(self, operation: Any) -> None:
        self.asked.append(operation)


if __name__ == "__main__":
    unittest.main()
