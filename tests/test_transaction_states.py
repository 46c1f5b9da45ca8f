"""The transaction of one device, in any order of deliveries, faults and edits by others: the promises of docs/delivery.md hold.

The device is a lab in memory, its time passes by itself. After every delivery it is asked for the truth.
"""

from __future__ import annotations

import asyncio
import os
import pickle
import unittest
from collections.abc import Iterable
from contextlib import ExitStack, suppress
from typing import Any

from hypothesis import settings, strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

import oast
from in_memory import LABS, fast_runner
from lab import BEFORE, WAYS, Fault, Lab
from oast import Cause, State
from oast.operations import RunRecovery
from test_ways import AFTER, Case

OWNED = ("name ", "port ", "route ")
KINDS = ("none", "refuse", "drop", "hang", "lie", "lie")


def owned(lines: Iterable[str]) -> set[str]:
    """What the template's section owns."""
    return {line for line in lines if line.startswith(OWNED)}


class Estate(Case):
    """Makes the estate of a lab."""

    def runTest(self) -> None:
        return


class Deliveries(RuleBasedStateMachine):
    """One device, its estate, and others who edit it."""

    def __init__(self) -> None:
        super().__init__()
        self._stack = ExitStack()
        self._runner = self._stack.enter_context(fast_runner())
        self._case = Estate()
        self._case.setUp()
        self._stack.callback(self._case.doCleanups)
        self._text = "new"
        self._outcome: oast.Outcome | None = None

    def teardown(self) -> None:
        self._stack.close()

    @initialize(way=st.sampled_from(sorted(WAYS)))
    def begin(self, way: str) -> None:
        LABS.clear()
        self.lab = Lab(way, list(BEFORE))
        self.estate = self._case.in_memory(self.lab)
        self.values = next(self._case._folders.iterdir()) / "values" / "all.yaml"

    def _intended(self) -> set[str]:
        return {
            f"port one text {self._text}" if line == "port one text new" else line for line in owned(AFTER)
        }

    # --- what others do

    @rule(text=st.sampled_from(("new", "newer", "old")))
    def intend(self, text: str) -> None:
        self._text = text
        self.values.write_text(f"everywhere: {{text: {text}}}\n")
        self.estate = oast.open(self.values.parent.parent, self.estate._environment)

    @rule(
        line=st.sampled_from(
            ("user night-desk", "user visitor", "route 203.0.113.0/24 via 192.0.2.1", "port four text y")
        )
    )
    def another_session_adds(self, line: str) -> None:
        if line not in self.lab.running:
            self.lab.running.append(line)
            self._keep_file()

    @rule()
    def another_session_saves(self) -> None:
        self.lab.startup = list(self.lab.running)

    def _keep_file(self) -> None:
        self.lab.files["/etc/lab.conf"] = list(self.lab.running)

    @precondition(lambda self: self.lab.way != "none" and self.lab.timer is None)
    @rule()
    def another_session_arms_a_timer(self) -> None:
        async def arm() -> None:
            self.lab.before = list(self.lab.running)
            self.lab.timer = asyncio.get_running_loop().call_later(10**6, self.lab.go_back)

        self._runner.run(arm())

    @precondition(lambda self: self.lab.timer is not None)
    @rule()
    def another_session_confirms(self) -> None:
        self.lab._disarm()

    # --- what Oast does

    @rule(kind=st.sampled_from(KINDS), at=st.integers(2, 18))
    def deliver(self, kind: str, at: int) -> None:
        self._deliver(Fault(kind, at), set())

    @rule(match=st.sampled_from(("arm ", "commit ", "apply ", "confirm", "save")))
    def deliver_while_another_session_edits(self, match: str) -> None:
        line = "user meanwhile"

        def edit() -> None:
            if line not in self.lab.running:
                self.lab.running.append(line)

        self._deliver(Fault("meanwhile", match=match, meanwhile=edit), {line})

    def _deliver(self, fault: Fault, meanwhile: set[str]) -> None:
        before, startup, foreign = set(self.lab.running), list(self.lab.startup), self.lab.timer
        sent = len(self.lab.typed)

        async def work() -> tuple[Any, ...]:
            plan = await self.estate.compare()
            self.lab.lines, self.lab.fault = 0, fault
            try:
                return (await plan.deliver("a test")).outcomes if plan.to_do else ()
            finally:
                self.lab.fault = Fault()
                await plan.close()

        outcomes = self._runner.run(work())
        told = (self.lab.way, fault.kind, fault.at, fault.match, outcomes, self.lab.typed[sent:])
        running = set(self.lab.running)
        if not outcomes:
            assert owned(running) == self._intended(), told
            return
        outcome = outcomes[0]
        assert outcome.state is not State.UNKNOWN, told
        assert self.lab.timer is foreign, ("a timer is left, or another session's is gone", told)
        if foreign is not None:
            assert outcome.state is State.UNCHANGED, told
        if outcome.state is State.DELIVERED:
            assert owned(running) == self._intended(), told
            assert before - owned(before) <= running, ("what nobody owns is gone", told)
            if outcome.cause is Cause.NONE:
                assert set(self.lab.startup) == running, ("not saved", told)
        else:
            assert owned(running) == owned(before), told
            assert running - meanwhile == before - meanwhile, told
            assert set(self.lab.startup) == set(startup), told
        if self.lab.way == "file":
            self._keep_file()

    @precondition(lambda self: self.lab.timer is None)
    @rule(at=st.integers(2, 18))
    def die_and_recover(self, at: int) -> None:
        """The process ends at a line without a word; the next one recovers the run."""
        before, startup = set(self.lab.running), set(self.lab.startup)
        left_s = self._deliver_in_a_process_that_dies(at)

        async def recover() -> list[oast.Outcome]:
            if left_s is not None:
                self.lab.timer = asyncio.get_running_loop().call_later(left_s, self.lab.go_back)
            runs = await RunRecovery(self.estate._estate).run()
            return [outcome for one in runs for outcome in one.outcomes]

        outcomes = self._runner.run(recover())
        running = set(self.lab.running)
        told = (self.lab.way, at, outcomes, self.lab.typed)
        assert self.lab.timer is None, told
        for outcome in outcomes:
            assert outcome.state is not State.UNKNOWN, told
            if outcome.state is State.DELIVERED:
                assert owned(running) == self._intended(), told
            else:
                assert running == before, told
                assert set(self.lab.startup) == startup, told
        assert owned(running) in (self._intended(), owned(before)), told
        assert before - owned(before) <= running, ("what no section owns is gone", told)
        if self.lab.way == "file":
            self._keep_file()

    def _deliver_in_a_process_that_dies(self, at: int) -> float | None:
        """Deliver in a fork until the line `at`; its device is ours again then. The seconds that its timer had left."""
        reading, writing = os.pipe()
        number = os.fork()
        if not number:
            with suppress(BaseException), fast_runner() as runner:
                runner.run(self._until(at, writing))
            os._exit(1)
        os.close(writing)
        with os.fdopen(reading, "rb") as pipe:
            state, left_s = pickle.load(pipe)
        os.waitpid(number, 0)
        self.lab.__dict__.update(state)
        return left_s

    async def _until(self, at: int, writing: int) -> None:
        def die() -> None:
            timer = self.lab.timer
            left_s = None if timer is None else timer.when() - asyncio.get_running_loop().time()
            names = ("running", "startup", "before", "files", "typed", "candidate")
            with os.fdopen(writing, "wb") as pipe:
                pickle.dump(({name: getattr(self.lab, name) for name in names}, left_s), pipe)
            os._exit(0)

        async with await self.estate.compare() as plan:
            self.lab.lines, self.lab.fault = 0, Fault("meanwhile", at, meanwhile=die)
            if plan.to_do:
                await plan.deliver("a test")
        die()

    @precondition(lambda self: self.lab.timer is None)
    @rule()
    def deliver_twice(self) -> None:
        """The second delivery has nothing to do."""
        self._deliver(Fault(), set())

        async def compare() -> list[str]:
            async with await self.estate.compare() as plan:
                return [one.name for one in plan.to_do]

        assert self._runner.run(compare()) == []

    @invariant()
    def nothing_stays_open(self) -> None:
        assert getattr(self, "lab", None) is None or self.lab.fault.kind == "none"


DeliveriesTest = Deliveries.TestCase
DeliveriesTest.settings = settings(max_examples=30, stateful_step_count=10, deadline=None)


if __name__ == "__main__":
    unittest.main()
