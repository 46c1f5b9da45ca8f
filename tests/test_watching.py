"""A wave on its own: what must hold, what others suffer from it, and what is left to a later wave."""

from __future__ import annotations

import asyncio
import unittest
from typing import Any
from unittest import mock

from in_memory import FastLoop
from oast.change.device.context import LossOfContact
from oast.change.rollout import monitoring
from oast.change.rollout.monitoring import MonitoringSessions
from oast.change.rollout.wave import EarlierWaveCheck, Wave
from oast.change.state import Cause, Outcome, State
from oast.config.diff_text import Counts
from oast.connect.session import close_sessions
from oast.errors import ConnectionFailed
from oast.estate import DeliverySettings
from oast.fleet.concurrency import SystemClock
from oast.fleet.events import Stage
from oast.readings.tables import Readings
from oast.verify.checks import Check, CheckResult, Operator, evaluate


def check(device: str, peer: str | None = None) -> Check:
    return Check(
        device, f"{device} sees {peer}", "neighbors", {"device": str(peer)}, "state", "full", (), peer=peer
    )


class Device:
    """Stands for a transaction: `seen` is what it sees at each time in seconds after it was loaded, and `looks` how many seconds its
    first looks take."""

    def __init__(
        self,
        name: str,
        checks: list[Check],
        seen: dict[float, str],
        *,
        stable_for_s: float = 0.0,
        timer_s: float = 100.0,
        looks: tuple[float, ...] = (),
    ) -> None:
        self.name, self.checks, self.stable_for_s, self.timer_s = name, checks, stable_for_s, timer_s
        self.seen, self.looks = seen, list(looks)
        self.outcome: Outcome | None = None
        self.lost: LossOfContact | None = None
        self.hint: str | None = None
        self.deferred: list[tuple[Check, frozenset[str]]] = []
        self.loaded_at = 0.0
        self.ended_at = 0.0

    @property
    def is_open(self) -> bool:
        return self.outcome is None and self.lost is None

    @property
    def timer_left_s(self) -> float:
        return (
            self.loaded_at + self.timer_s - asyncio.get_running_loop().time()
            if self.loaded_at
            else self.timer_s
        )

    async def prepare(self) -> None:
        return

    async def load(self) -> None:
        self.loaded_at = asyncio.get_running_loop().time()

    def may_extend(self, needed_s: float) -> bool:
        return False  # Its platform has no command for that.

    async def extend_timer(self, needed_s: float) -> None:
        return

    def records(self) -> dict[str, list[dict[str, str | None]]]:
        age = asyncio.get_running_loop().time() - self.loaded_at
        state = next(
            (state for since, state in sorted(self.seen.items(), reverse=True) if age >= since), "down"
        )
        return {"neighbors": [{"device": c.peer, "state": state} for c in self.checks if c.peer is not None]}

    async def check(self) -> list[CheckResult]:
        results = evaluate(self.checks, self.records())
        await asyncio.sleep(self.looks.pop(0) if self.looks else 0)
        return results

    def split_failures(self, results: list[CheckResult]) -> tuple[list[CheckResult], list[CheckResult]]:
        return [r for r in results if not r.passed], []

    def touches(self, result: CheckResult) -> bool:
        return True

    def say(self, stage: Stage) -> None:
        return

    def say_waiting(self, what: str, seconds: float) -> None:
        return

    def _end(self, state: State, cause: Cause) -> None:
        self.ended_at = asyncio.get_running_loop().time() - self.loaded_at
        self.outcome = Outcome(self.name, state, cause, Counts(1, 0), self.ended_at)

    def keep(self, wave: list[Device]) -> None:
        return

    async def confirm(self, excused: object) -> None:
        self._end(State.DELIVERED, Cause.NONE)

    async def revert(self, failed: object, hint: str | None = None) -> None:
        self.hint = hint
        self._end(State.REVERTED, Cause.CHECKS)

    def fail_internally(self, error: Exception) -> None:
        self.lost = LossOfContact(Cause.FAILED, str(error))

    async def recover(self) -> None:
        self._end(State.REVERTED, self.lost.cause if self.lost else Cause.NONE)

    async def roll_back_on_interrupt(self) -> None:
        if self.outcome is None:
            self._end(State.REVERTED, Cause.INTERRUPTED)


class MonitoringTest(unittest.TestCase):
    def test_a_session_that_does_not_close_delays_no_other_and_is_given_up(self) -> None:
        closed: list[str] = []

        class Closing:
            def __init__(self, name: str, seconds: float) -> None:
                self.name, self.seconds = name, seconds

            async def close(self) -> None:
                await asyncio.sleep(self.seconds)
                closed.append(self.name)

        async def work() -> float:
            began = asyncio.get_running_loop().time()
            sessions: Any = [Closing("hangs", 3600), Closing("slow", 2), Closing("quick", 0)]
            await close_sessions(sessions, 5.0)
            return asyncio.get_running_loop().time() - began

        with asyncio.Runner(loop_factory=FastLoop) as runner:
            took = runner.run(work())
        self.assertEqual(closed, ["quick", "slow"])
        self.assertTrue(5.0 <= took < 60, took)

    def test_a_session_is_opened_once_and_anew_after_an_error(self) -> None:
        opened: list[str] = []

        class Connecting:
            async def open(self, device: Any, platform: Any) -> Any:
                opened.append(device.name)
                return mock.AsyncMock()

        async def work() -> None:
            sessions = MonitoringSessions(Connecting())  # type: ignore[arg-type]
            intent = mock.Mock()
            intent.device.name = "a"
            answers = [{}, {}, ConnectionFailed("gone"), {}]
            with mock.patch.object(monitoring, "read_readings", mock.AsyncMock(side_effect=answers)):
                await sessions.read(intent, ["routes"])
                await sessions.read(intent, ["routes"])
                with self.assertRaises(ConnectionFailed):
                    await sessions.read(intent, ["routes"])
                await sessions.read(intent, ["routes"])
            await sessions.close()
            await sessions.close()

        with asyncio.Runner(loop_factory=FastLoop) as runner:
            runner.run(work())
        self.assertEqual(opened, ["a", "a"])


class WaveTest(unittest.TestCase):
    def deliver(
        self,
        *devices: Device,
        watched: tuple[EarlierWaveCheck, ...] = (),
        verify_s: float = 10.0,
        later: tuple[str, ...] = (),
    ) -> None:
        settings = DeliverySettings(parallel=2, verify_timeout_s=verify_s)
        transactions: Any = devices
        with asyncio.Runner(loop_factory=FastLoop) as runner:
            runner.run(Wave(transactions, watched, settings, SystemClock(), frozenset(later)).deliver())

    def states(self, *devices: Device) -> list[State | None]:
        return [device.outcome.state if device.outcome else None for device in devices]

    def test_devices_whose_own_edits_explain_a_failure_are_rolled_back_first_and_the_others_checked_again(
        self,
    ) -> None:
        guilty, suffering = Device("a", [check("a", "b")], {}), Device("b", [check("b", "a")], {})
        revert = guilty.revert

        async def revert_and_cure(failed: object, hint: str | None = None) -> None:
            await revert(failed, hint)
            suffering.seen[0.0] = "full"

        with (
            mock.patch.object(suffering, "touches", lambda result: False),
            mock.patch.object(guilty, "revert", revert_and_cure),
        ):
            self.deliver(guilty, suffering)
        self.assertEqual(self.states(guilty, suffering), [State.REVERTED, State.DELIVERED])

    def test_what_is_true_at_once_and_false_before_the_hold_time_is_over_is_taken_back(self) -> None:
        flapping = Device("a", [check("a", "b")], {0: "full", 5: "down"}, stable_for_s=8)
        steady = Device("b", [check("b", "a")], {0: "full"}, stable_for_s=8)
        self.deliver(flapping, steady)
        self.assertEqual(self.states(flapping, steady), [State.REVERTED, State.DELIVERED])
        self.assertGreaterEqual(steady.ended_at, 8)

    def test_what_a_slow_look_has_seen_is_not_taken_for_what_is_at_its_end(self) -> None:
        device = Device("a", [check("a", "b")], {0: "full", 3: "down"}, stable_for_s=4, looks=(0, 5))
        self.deliver(device)
        self.assertEqual(self.states(device), [State.REVERTED])

    def test_who_is_left_is_watched_as_long_again_after_others_have_gone_back(self) -> None:
        failing = Device("a", [check("a", "b")], {0: "down"}, timer_s=20)
        left = Device("b", [check("b", "c")], {0: "full"}, stable_for_s=8, timer_s=20)
        self.deliver(failing, left)
        self.assertEqual(self.states(failing, left), [State.REVERTED, State.DELIVERED])
        self.assertGreaterEqual(left.ended_at, failing.ended_at + 8)
        # Where the timers are too short for that, nothing is confirmed that was not watched.
        failing = Device("a", [check("a", "b")], {0: "down"}, looks=(16,))
        left = Device("b", [check("b", "c")], {0: "full"}, stable_for_s=3, timer_s=20)
        self.deliver(failing, left)
        self.assertEqual(self.states(failing, left), [State.REVERTED, State.REVERTED])
        self.assertIn("stayed passed for only", left.lost.reason if left.lost else "")

    def test_what_nothing_was_changed_of_need_not_be_held(self) -> None:
        device = Device("a", [check("a", "b")], {1: "full"})
        self.deliver(device)
        self.assertEqual(self.states(device), [State.DELIVERED])
        self.assertLess(device.ended_at, 3)

    def test_the_hold_time_begins_again_after_every_interruption(self) -> None:
        device = Device("a", [check("a", "b")], {0: "full", 3: "down", 4: "full"}, stable_for_s=5)
        self.deliver(device)
        self.assertEqual(self.states(device), [State.DELIVERED])
        self.assertGreaterEqual(device.ended_at, 9)

    def test_timers_are_armed_long_enough_for_the_hold_time(self) -> None:
        device = Device("a", [check("a", "b")], {0: "full"}, stable_for_s=60, timer_s=20)
        self.deliver(device)
        self.assertEqual(self.states(device), [State.DELIVERED])
        self.assertGreater(device.timer_s, 70)

    def test_a_check_whose_other_end_comes_later_waits_for_it(self) -> None:
        device = Device("a", [check("a", "z")], {})
        self.deliver(device, later=("z",))
        self.assertEqual(self.states(device), [State.DELIVERED])
        device = Device("a", [check("a", "z")], {})
        self.deliver(device)
        self.assertEqual(self.states(device), [State.REVERTED])

    def test_a_user_defined_check_waits_for_a_neighbor_of_a_later_wave_and_says_so_when_it_cannot(
        self,
    ) -> None:
        two_ways = Check(
            "edge",
            "two-ways-out",
            "neighbors",
            {"state": "full"},
            None,
            "2 or more",
            (),
            least=2,
            test=Operator.COUNT,
        )
        hub_only = two_ways._replace(match={"state": "full", "device": "hub-*"})
        seen_by_name = {"hub-1": "full", "hub-2": "down"}

        class Edge(Device):
            def records(self) -> dict[str, list[dict[str, str | None]]]:
                return {
                    "neighbors": [
                        {"device": name, "state": state}
                        for name, state in seen_by_name.items()
                        if state == "full"
                    ]
                }

        def edge(check_of_its_own: Check) -> Edge:
            return Edge("edge", [check("edge", "hub-1"), check("edge", "hub-2"), check_of_its_own], {})

        for own in (two_ways, hub_only):
            waits = edge(own)
            self.deliver(waits, later=("hub-2",))
            self.assertEqual(self.states(waits), [State.DELIVERED])
            self.assertEqual(waits.deferred, [(own, frozenset({"hub-2"}))])
        for own, later, hint in (
            (
                two_ways._replace(least=3),
                ("hub-2",),
                "hub-2 is in a later wave: deliver them together with --one-wave",
            ),
            (two_ways._replace(match={"state": "full", "device": "crane-*"}), ("hub-2",), None),
            (two_ways, (), None),
        ):
            fails = edge(own)
            self.deliver(fails, later=later)
            self.assertEqual((self.states(fails), fails.hint), ([State.REVERTED], hint), own)

    def test_an_internal_error_in_the_check_of_an_earlier_device_rolls_back_its_neighbor_and_no_other(
        self,
    ) -> None:
        async def readings() -> Readings:
            raise KeyError("a bug")

        earlier = EarlierWaveCheck("a", (check("a", "b"),), readings, lambda result: False, str)
        neighbor, other = Device("b", [], {}), Device("c", [], {})
        self.deliver(neighbor, other, watched=(earlier,))
        self.assertEqual(self.states(neighbor, other), [State.REVERTED, State.DELIVERED])

    def test_a_neighbour_that_a_later_wave_loses_is_found(self) -> None:
        early = Device("a", [check("a", "z")], {0: "full", 2: "down"})
        for excused, state in ((False, State.REVERTED), (True, State.DELIVERED)):
            late = Device("z", [], {}, stable_for_s=4)

            async def readings() -> Any:
                return early.records()

            early.loaded_at = 0.0
            watched = EarlierWaveCheck(
                "a", tuple(early.checks), readings, lambda result, excused=excused: excused, str
            )  # type: ignore[misc]
            self.deliver(late, watched=(watched,))
            self.assertEqual(self.states(late), [state], excused)
