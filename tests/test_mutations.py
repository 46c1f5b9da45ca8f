"""The five rules that keep devices safe, each taken out of the program in turn: some test has to fail for it."""

from __future__ import annotations

import io
import os
import unittest
from collections.abc import Callable
from typing import Any
from unittest import mock

from oast.change.device import transaction as transacting
from oast.change.methods.base import CliDeliveryMethod
from oast.change.methods.revert_timer import RevertTimerMethod
from oast.change.plan import diff as comparing
from oast.config.dependency_order import in_dependency_order
from oast.config.edits import Edit, RetainedStatement
from oast.config.tree import Node
from oast.operations import deliver as delivering


def _nothing_left(*_: Any) -> list[Edit]:
    return []


def _in_any_order(edits: list[Edit], goes_last: Callable[[Edit], bool], running: Node) -> list[Edit]:
    return in_dependency_order(edits, running=running)


async def _lines_first(self: RevertTimerMethod, timer_s: float) -> None:
    await CliDeliveryMethod.enter_lines(self)
    await self.arm(self._timer.arm, timer_s, self._timer.armed, "revert timer")


def _nothing_spared(edits: list[Edit], **_: Any) -> tuple[list[Edit], list[RetainedStatement]]:
    return list(edits), []


# What is taken out, by what, and the test that has to notice.
MUTATIONS: dict[str, tuple[Any, str, Any, str]] = {
    "what was sent is read again": (
        transacting,
        "edits_between",
        _nothing_left,
        "test_ways.WaysTest.test_every_fault_at_every_step_is_reported_truly",
    ),
    "the path to the device comes last": (
        comparing,
        "in_dependency_order",
        _in_any_order,
        "test_first_delivery.FirstDeliveryTest.test_what_oast_comes_in_by_is_changed_last",
    ),
    "the timer is armed before the first line": (
        RevertTimerMethod,
        "apply",
        _lines_first,
        "test_ways.WaysTest.test_each_way_delivers_and_names_its_way_back",
    ),
    "what is unknown is kept": (
        comparing,
        "split_removals",
        _nothing_spared,
        "test_left_alone.LeftAloneTest.test_what_the_grammar_does_not_know_is_kept_counted_listed_and_removed_by_consent_only",
    ),
    "policies block": (
        delivering,
        "policy_violations",
        lambda preparation, today: [],
        "test_policies.BlockedTest.test_what_violates_a_policy_is_never_sent",
    ),
}


def failures_of(test: str, *, place: Any = None, name: str = "", by: Any = None) -> int:
    """How often `test` fails in a process of its own, with `name` of `place` replaced; 255 when there is no such test."""
    process = os.fork()
    if process == 0:
        failed = 255
        try:
            suite = unittest.defaultTestLoader.loadTestsFromName(test)
            if "Failed" not in repr(suite) and suite.countTestCases():
                with mock.patch.object(place, name, by) if place is not None else mock.patch.dict({}):
                    result = unittest.TextTestRunner(stream=io.StringIO()).run(suite)
                failed = min(len(result.failures) + len(result.errors), 254)
        finally:
            os._exit(failed)
    return os.waitstatus_to_exitcode(os.waitpid(process, 0)[1])


class MutationTest(unittest.TestCase):
    def test_each_rule_that_keeps_devices_safe_is_missed_by_a_test_when_it_is_gone(self) -> None:
        for rule, (place, name, by, test) in MUTATIONS.items():
            with self.subTest(rule=rule):
                missed = failures_of(test, place=place, name=name, by=by)
                self.assertTrue(0 < missed < 255, f"no test misses it, or there is none: {missed}")

    def test_without_a_mutation_such_a_test_passes(self) -> None:
        for *_, test in list(MUTATIONS.values())[1:3]:
            self.assertEqual(failures_of(test), 0)
