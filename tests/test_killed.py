"""A run that is killed at any point of its journal: what it has left is told, refused, and brought to its end, on every way of delivery."""

from __future__ import annotations

import asyncio
import fcntl
import os
import shutil
import sqlite3
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from killing import Kill, Killing
from lab import BEFORE, PASSWORD, WAYS, Lab
from larkwater import QUICK, SECRETS, LarkwaterTest, Run, program
from oast.change.record.journal_reader import open_runs
from test_ways import AFTER, Case
from wharf import ProgramTest

ENVIRONMENT = {"OAST_SECRET_LOGIN": PASSWORD, "OAST_IDENTITY": "ada@larkwater.example"}
PUSH = ("push", "-m", "a test", "--yes")
# Of the commits of the journal every third one, and with more time each.
STEP = 1 if os.environ.get("OAST_FAULTS") else 3


class KilledTest(Case):
    def test_killed_at_every_step_of_the_journal_each_way_ends_in_a_known_state(self) -> None:
        with Killing() as killing:
            self.killing = killing
            self.refused: set[str] = set()
            asyncio.run(self._every_way())
        self.assertEqual(self.refused, set(WAYS))

    async def _every_way(self) -> None:
        found = await asyncio.gather(*(self._every_step(way) for way in WAYS))
        self.assertEqual(set().union(*found), {"unchanged", "reverted", "delivered"})

    async def _every_step(self, way: str) -> set[str]:
        lab = Lab(way, list(BEFORE))
        folder = self.estate(lab, await lab.listen()).folder
        self.assertEqual((await self._run(folder, *PUSH)).code, 0)
        shown = await self._run(folder, "change", "show", "last", "--format", "json")
        steps = [what for _, _, what in shown.json()["outcomes"][0]["timeline"]]
        self.assertGreater(len(steps), 7, steps)
        await lab.close()
        states = {
            await self._killed(way, Kill(number, before=before))
            for number in (1, 2)
            for before in self._moments(way, number)
        }
        for number, step in enumerate(steps):
            # With more time every step on every way, else every third one, and every step on some way.
            if (number + list(WAYS).index(way)) % STEP:
                continue
            states |= {
                await self._killed(way, Kill(before=before, step=step))
                for before in self._moments(way, number)
            }
        self.assertLessEqual({"delivered"}, states, way)
        self.assertLessEqual(states, {"unchanged", "reverted", "delivered"}, way)
        return states

    @staticmethod
    def _moments(way: str, number: int) -> tuple[bool, ...]:
        """Each moment at some of the ways, and with more time both at all of them."""
        return (
            (True, False) if os.environ.get("OAST_FAULTS") else ((number + list(WAYS).index(way)) % 2 == 0,)
        )

    async def _killed(self, way: str, kill: Kill) -> str:
        """A push that is killed, and what it has left brought to its end; the state of the device."""
        lab = Lab(way, list(BEFORE))
        try:
            folder = self.estate(lab, await lab.listen()).folder
            run = await self._run(folder, *PUSH, kill=kill)
            self.assertEqual(run.code, -9, (way, kill, run))
            state = await self._left(lab, folder, way, (way, kill))
            if kill.step == "applying":
                audit = await self._run(folder, "change", "audit")
                self.assertEqual((audit.code, audit.err), (0, ""), audit)
            return state
        finally:
            await lab.close()

    async def _left(self, lab: Lab, folder: Path, way: str, about: object) -> str:
        """What a run that was killed has left, brought to its end; the state of the device."""
        told = await self._run(folder, "devices")
        if "the state of pier is unknown" in told.err and way not in self.refused:
            self.refused.add(way)
            refused = await self._run(folder, *PUSH)
            self.assertEqual(refused.code, 4, (about, refused))
            self.assertIn("left this device in an unknown state; nothing was sent to it", refused.out, about)
        resumed = await self._run(folder, "change", "recover", "--format", "json")
        self.assertEqual(resumed.code, 0, (about, resumed))
        runs = resumed.json()["runs"]
        self.assertEqual(bool(runs), "was interrupted" in told.err, about)
        # Without one, it was killed before there was a run, or behind its end.
        state = (
            runs[0]["devices"][0]["state"]
            if runs
            else "delivered"
            if set(lab.running) == AFTER
            else "unchanged"
        )
        wanted = AFTER if state == "delivered" else set(BEFORE)
        self.assertEqual(set(lab.running), wanted, (about, state, lab.typed))
        self.assertEqual(set(lab.startup), wanted, (about, state, lab.typed))
        if lab.way == "file":
            self.assertEqual(set(lab.files["/etc/lab.conf"]), wanted, (about, state, lab.typed))
        self.assertIsNone(lab.timer, (about, state, lab.typed))
        return str(state)

    async def _run(self, folder: Path, *arguments: str, kill: Kill | None = None) -> Run:
        return await asyncio.to_thread(
            self.killing.run, *arguments, cwd=folder, environment=ENVIRONMENT, kill=kill
        )


class OverNetconfTest(ProgramTest):
    def test_killed_at_every_step_over_netconf_with_a_candidate(self) -> None:
        self.every_step()

    def every_step(self) -> None:
        self.push()
        with Killing() as killing:
            states, number = set(), STEP
            while state := self.state_after(killing, Kill(number, before=bool(number // STEP % 2))):
                states.add(state)
                number += STEP
            # However the steps were gathered into commits, this one comes between applying and confirming.
            states.add(self.state_after(killing, Kill(step="applied")))
        self.assertLessEqual({"unchanged", "reverted", "delivered"}, states)

    def state_after(self, killing: Killing, kill: Kill) -> str:
        """The state of the device after a push that was killed, and was brought to its end; empty when it had ended before."""
        before = self.kept("rt-3")
        here, there = (
            ("203.0.113.25", "203.0.113.29") if "203.0.113.25" in before else ("203.0.113.29", "203.0.113.25")
        )
        self.edit("values/addresses.yaml", here, there)
        run = killing.run(
            *PUSH, "--on", "name=rt-3", cwd=self.estate, environment=self.environment, kill=kill
        )
        if run.code != -9:
            self.assertEqual(run.code, 0, run)
            return ""
        runs = self.oast("change", "recover", "--format", "json").json()["runs"]
        now = self.kept("rt-3")
        state = runs[0]["devices"][0]["state"] if runs else "delivered" if now != before else "unchanged"
        self.assertEqual(
            now, before.replace(here, there) if state == "delivered" else before, (kill, run, runs)
        )
        self.assertEqual(self.kept("rt-3", "startup"), now, (kill, state))
        if state != "delivered":
            self.edit("values/addresses.yaml", there, here)
        return str(state)


class LongAfterTest(ProgramTest):
    def test_what_somebody_has_changed_after_its_time_is_told_and_holds_up_nothing(self) -> None:
        self.push()
        self.edit("values/addresses.yaml", "203.0.113.25", "203.0.113.29")
        with Killing() as killing:
            # The device has confirmed it, and the journal does not know.
            kill = Kill(step="confirmed", before=True)
            run = killing.run(
                *PUSH, "--on", "name=rt-3", cwd=self.estate, environment=self.environment, kill=kill
            )
            self.assertEqual(run.code, -9)
        self.edit("values/addresses.yaml", "203.0.113.29", "203.0.113.33")
        copy = self.estate.with_name("copy")
        shutil.copytree(self.estate, copy, ignore=shutil.ignore_patterns("journal*", "devices"))
        other = program(*PUSH, "--on", "name=rt-3", cwd=copy, environment=self.environment)
        self.assertEqual(other.code, 0, other)
        database = sqlite3.connect(self.estate / ".oast/journal.sqlite")
        database.execute(
            "UPDATE device SET armed = ? WHERE open",
            ((datetime.now(UTC) - timedelta(minutes=5)).isoformat(),),
        )
        database.commit()
        database.close()
        found = self.oast("change", "recover", expect=4)
        self.assertIn("these parts have changed since the change was applied (+ interfaces", found.out)
        self.assertIn("nothing to recover:", self.oast("change", "recover").out)
        self.push()


class OverWritableRunningTest(OverNetconfTest):
    without = ("candidate", "confirmed-commit")

    def test_killed_at_every_step_over_netconf_with_a_candidate(self) -> None:
        self.every_step()


class IntoStartupTest(ProgramTest):
    def test_killed_at_every_step_of_restoring_what_it_starts_with(self) -> None:
        self.push()
        self.oast("backup", "--label", "monday")
        startups = {"monday": self.kept("rt-3", "startup")}
        self.edit("values/addresses.yaml", "203.0.113.25", "203.0.113.29")
        self.push("--on", "name=rt-3")
        self.oast("backup", "--label", "tuesday")
        running = startups["tuesday"] = self.kept("rt-3", "startup")
        with Killing() as killing:
            states, number, there = set(), 0, "tuesday"
            while True:
                number += STEP
                wanted = "monday" if there == "tuesday" else "tuesday"
                arguments = ("restore", wanted, "--to", "startup", "--on", "name=rt-3", "--yes")
                kill = Kill(number, before=bool(number // STEP % 2))
                run = killing.run(*arguments, cwd=self.estate, environment=self.environment, kill=kill)
                if run.code != -9:
                    self.assertEqual(run.code, 0, run)
                    break
                runs = self.oast("change", "recover", "--format", "json").json()["runs"]
                now = self.kept("rt-3", "startup")
                state = (
                    runs[0]["devices"][0]["state"]
                    if runs
                    else "delivered"
                    if now == startups[wanted]
                    else "unchanged"
                )
                self.assertEqual(now, startups[wanted if state == "delivered" else there], (kill, run, runs))
                self.assertEqual(self.kept("rt-3"), running, (kill, state))
                states.add(state)
                there = wanted if state == "delivered" else there
        self.assertLessEqual({"unchanged", "delivered"}, states)


class TogetherTest(LarkwaterTest):
    delivered = True

    def test_of_a_wave_that_was_to_be_kept_all_are_kept_and_of_any_other_none(self) -> None:
        names = ("gull-core-1", "heron-core-1")
        mixed = set()
        with Killing() as killing:
            for number in range(3, 60, STEP):
                before = {name: self.running(name) for name in names}
                here, there = ("network", "day") if "network desk" in before[names[0]] else ("day", "network")
                self.edit(
                    "values/network.yaml",
                    f"contact: Larkwater {here} desk",
                    f"contact: Larkwater {there} desk",
                )
                arguments = ("push", "-m", "x", "--on", "role=core", "--yes")
                run = killing.run(
                    *arguments, cwd=self.estate, environment={}, kill=Kill(number, before=False)
                )
                if run.code != -9:
                    break
                found = self.oast("change", "recover", "--format", "json").json()["runs"]
                states = (
                    {device["device"]: device["state"] for device in found[0]["devices"]}
                    if found
                    else dict.fromkeys(names, "delivered")
                )
                mixed.add(tuple(sorted(states.values())))
                told = (number, before, run, found)
                self.assertEqual(set(states), set(names), told)
                self.assertIn(
                    "delivered" in states.values(), (False, set(states.values()) == {"delivered"}), told
                )
                for name in names:
                    text = before[name].replace(f"Larkwater {here} desk", f"Larkwater {there} desk")
                    self.assertEqual(
                        self.running(name), text if states[name] == "delivered" else before[name], told
                    )
                    startup = (
                        self.console(name, "read startup")
                        .partition("read startup\n")[2]
                        .rpartition(" view| leave")[0]
                        .rpartition("\n")[0]
                    )
                    self.assertEqual(startup + "\n", self.running(name), told)
                    self.assertIsNone(self.timer(name), told)
                if "delivered" not in states.values():
                    self.edit(
                        "values/network.yaml",
                        f"contact: Larkwater {there} desk",
                        f"contact: Larkwater {here} desk",
                    )
            else:
                self.fail("it never came to its end")
        self.assertIn(("delivered", "delivered"), mixed)

    def test_that_a_wave_is_kept_is_written_down_for_all_of_it_or_for_none(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        with Killing() as killing:
            for before in (True, False):
                kill = Kill(step="decided to keep", before=before)
                run = killing.run(
                    "push",
                    "-m",
                    "x",
                    "--on",
                    "role=core",
                    "--yes",
                    cwd=self.estate,
                    environment={},
                    kill=kill,
                )
                self.assertEqual(run.code, -9, run)
                found = self.oast("change", "recover", "--format", "json").json()["runs"][0]["devices"]
                states = {device["device"]: device["state"] for device in found}
                self.assertEqual(
                    states,
                    dict.fromkeys(("gull-core-1", "heron-core-1"), "reverted" if before else "delivered"),
                )

    def test_what_cannot_be_found_out_stays_open_until_it_is_given_up(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        with Killing() as killing:
            run = killing.run(
                "push", "-m", "x", "--on", "role=core", "--yes", *QUICK, cwd=self.estate, environment={}, kill=Kill(step="applying")
            )  # fmt: skip
        self.assertEqual(run.code, -9)
        (lock,) = (self.estate / ".oast" / "runs").glob("*.lock")
        with lock.open() as file:
            dead = self.oast("devices")
            self.assertIn("warning: run ", dead.err)
            left = mock.patch("oast.operations.recovery.interrupted_runs", lambda working: open_runs(working))
            fcntl.flock(file, fcntl.LOCK_EX)
            with left:
                taken = self.oast("change", "recover", expect=4)
            self.assertIn(f"another process of Oast is recovering run {lock.stem}", taken.err)
            self.assertNotIn("nothing to recover:", taken.out)
        self.fault("gull-core-1", "down")
        found = self.oast("change", "recover", expect=4)
        self.assertRegex(found.out, r"(?m)^gull-core-1 +unknown$")
        self.assertRegex(found.out, r"(?m)^heron-core-1 +(rolled back|unchanged)$")
        self.assertIn("gull-core-1: run", found.out)
        self.assertIn("cannot be reached to find out", found.out)
        self.fault("gull-core-1", "none")
        pushed = self.oast("push", "-m", "x", "--on", "role=core", "--yes", expect=4)
        self.assertRegex(pushed.out, r"(?m)^gull-core-1 +failed, unchanged ")
        self.assertRegex(pushed.out, r"(?m)^heron-core-1 +delivered ")
        changes = self.oast("change", "list", "--format", "json").json()["changes"]
        self.assertRegex(changes[-2]["state"], "^1 (unchanged|rolled back), 1 unknown$")
        self.assertEqual(changes[-1]["state"], "1 delivered, 1 unchanged")
        shown = self.oast("change", "show", changes[-2]["change"][-4:], "--steps").out
        self.assertRegex(shown, r"(?m)^\d\d:\d\d:\d\d\.\d{3}  gull-core-1  arming$")
        self.assertIn("+ system / contact", shown)
        self.assertRegex(self.oast("change", "recover").out, r"(?m)^gull-core-1 +(rolled back|unchanged)$")
        self.assertIn("nothing to recover:", self.oast("change", "recover").out)

    def test_what_somebody_changed_meanwhile_is_neither_saved_nor_taken_away(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("gull-core-1", "hang", "--match", "save startup")
        with Killing() as killing:
            killing.run(
                "push",
                "-m",
                "x",
                "--on",
                "name=gull-core-1",
                "--yes",
                cwd=self.estate,
                environment={},
                kill=Kill(step="saving"),
            )
        self.fault("gull-core-1", "none")
        self.assertIn("Larkwater day desk", self.running("gull-core-1"))
        self.console("gull-core-1", "raise", SECRETS["privilege-password"], "edit", "user visitor", "close")
        found = self.oast("change", "recover", expect=4)
        self.assertIn("not saved, because another session edited the device", found.out)
        self.assertIn("+ user visitor", found.out)
        self.assertIn("user visitor", self.running("gull-core-1"))
        startup = self.console("gull-core-1", "read startup")
        self.assertNotIn("user visitor", startup)
        self.assertNotIn("Larkwater day desk", startup)


if __name__ == "__main__":
    unittest.main()
