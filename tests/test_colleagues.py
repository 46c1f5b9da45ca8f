"""Somebody else on the same devices: their timers, half-typed changes and runs are neither taken over nor taken back."""

from __future__ import annotations

import json
import shutil
import subprocess
import threading
import time

import forked
from larkwater import SECRETS, LarkwaterTest, Run, apart, clean_environment

CORE, EDGE = "gull-core-1", "tern-edge-1"
FULL = f"raise\n{SECRETS['privilege-password']}\n"


class ColleagueTest(LarkwaterTest):
    delivered = True

    def setUp(self) -> None:
        super().setUp()
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")

    def push(self, device: str, code: int) -> tuple[str, str]:
        run = self.oast(
            "push", "-m", "desk", "--on", f"name={device}", "--yes", "--format", "json", expect=code
        )
        told = run.json()["devices"][0]
        return told["state"], told["reason"] or ""

    def test_a_timer_of_somebody_else_is_left_alone_with_what_it_stands_for(self) -> None:
        self.console(
            EDGE,
            "raise",
            SECRETS["privilege-password"],
            "revert-timer arm 600 as trial",
            "edit",
            "system",
            "  location on-trial",
            "close",
        )
        state, reason = self.push(EDGE, code=4)
        self.assertEqual(state, "unchanged")
        self.assertIn(
            "revert timer is already running (by oast, as trial), started by another session; nothing was sent to the device",
            reason,
        )
        self.assertIn("location on-trial", self.running(EDGE))
        shown = self.console(
            EDGE,
            "raise",
            SECRETS["privilege-password"],
            "revert-timer state",
            "revert-timer confirm as trial",
        )
        self.assertRegex(shown, r"armed as trial by oast, \d+ s left")
        self.assertIn("confirmed", shown)

    def test_a_colleague_who_is_editing_keeps_what_she_has_typed_and_her_timer(self) -> None:
        command = [*forked.OAST, "sim", "console", EDGE]
        hers = forked.Process(
            command,
            cwd=self.estate,
            env=clean_environment(),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            bufsize=1,
        )
        try:
            assert hers.stdin is not None and hers.stdout is not None
            hers.stdin.write(f"{FULL}edit\nsystem\n  location half-typed\n")
            hers.stdin.flush()
            for _ in range(100):
                if "half-typed" in self.running(EDGE):
                    break
                time.sleep(0.05)
            state, reason = self.push(EDGE, code=4)
            self.assertEqual(state, "unchanged")
            self.assertIn("oast is editing", reason)
            self.assertIn("location half-typed", self.running(EDGE))
            self.assertIn(
                "not armed", self.console(EDGE, "raise", SECRETS["privilege-password"], "revert-timer state")
            )
            hers.stdin.write("close\nrevert-timer arm 600 as hers\nleave\n")
            hers.stdin.close()
            hers.wait(20)
        finally:
            hers.kill()
            hers.wait()
            hers.stdout.close()
        self.assertEqual(self.push(EDGE, code=4)[0], "unchanged")
        self.assertIn(
            "armed as hers", self.console(EDGE, "raise", SECRETS["privilege-password"], "revert-timer state")
        )

    def test_a_timer_is_stopped_by_whoever_names_it_only(self) -> None:
        shown = self.console(
            EDGE, "raise", SECRETS["privilege-password"], "revert-timer arm 600 as hers",
            "revert-timer confirm as mine", "revert-timer now as mine", "revert-timer arm 5 as mine", "revert-timer state", "revert-timer now",
        )  # fmt: skip
        self.assertEqual(shown.count("another is armed: as hers by oast"), 2)
        self.assertIn("it is armed already: as hers by oast", shown)
        self.assertIn("gone back to the archived configuration", shown)

    def test_two_runs_from_two_copies_never_pull_the_timer_away_under_each_other(self) -> None:
        """Whoever comes second leaves the device alone; what is reported as delivered is what it runs and starts with."""
        other = self.folder / "copy" / "larkwater"
        shutil.copytree(self.estate, other)
        for file in ("larkwater-secrets.toml", "larkwater.key"):
            shutil.copy(self.folder / file, self.folder / "copy")
        for number, offset_s in enumerate((0.0, 0.6, 1.5)):
            self.fault(EDGE, "slow", "--seconds", "0.15")
            found: dict[str, Run] = {}

            def run(name: str, number: int = number, found: dict[str, Run] = found) -> None:
                cwd = self.estate if name == "one" else other
                given = ("--with", f"contact={name}-{number}", "--revert-timer", "60")
                found[name] = apart(
                    "push", "-m", name, "--on", f"name={EDGE}", "--yes", "--format", "json", *given, cwd=cwd
                )

            threads = [threading.Thread(target=run, args=(name,)) for name in ("one", "two")]
            threads[0].start()
            time.sleep(offset_s)
            threads[1].start()
            for thread in threads:
                thread.join(100)
            self.fault(EDGE, "none")
            told = {name: result.json()["devices"][0] for name, result in found.items()}
            states = {name: one["state"] for name, one in told.items()}
            with self.subTest(
                offset_s=offset_s, told={name: (one["state"], one["reason"]) for name, one in told.items()}
            ):
                self.assertLessEqual(set(states.values()), {"delivered", "unchanged"})
                self.assertIn("delivered", states.values())
                last = [name for name, state in states.items() if state == "delivered"]
                running = self.running(EDGE)
                self.assertTrue(any(f"contact {name}-{number}" in running for name in last), running[:200])
                shown = self.console(
                    EDGE, "raise", SECRETS["privilege-password"], "revert-timer state", "read startup"
                )
                self.assertIn("not armed", shown)
                self.assertIn(next(line for line in running.splitlines() if "contact" in line), shown)


class MeanwhileTest(LarkwaterTest):
    """Somebody types while the checks run."""

    delivered = True

    def setUp(self) -> None:
        super().setUp()
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        # Another cost: the neighbours have to stay for as long as their dead interval, and there is time to type.
        self.edit("templates/bine/routing.j2", "      cost {{ link_cost }}\n", "      cost 6\n")

    def push_while(self, *typed: str) -> tuple[str, str, str, int]:
        """A push to both hubs, and what is typed on one once its change is in effect."""
        process = self.started(
            "push", "-m", "x", "--on", "role=core", "--yes", "--format", "json", "--revert-timer", "60"
        )
        for _ in range(100):
            if "cost 6" in self.running("heron-core-1") and "day desk" in self.running(CORE):
                break
            time.sleep(0.2)
        else:
            self.fail("the change did not come into effect")
        self.console(CORE, "raise", SECRETS["privilege-password"], "edit", *typed, "close")
        out, err = process.communicate(timeout=60)
        told = {d["device"]: d for d in json.loads(out)["devices"]}
        self.assertEqual(
            (told["heron-core-1"]["state"], told["heron-core-1"]["cause"]), ("delivered", "none"), err
        )
        return told[CORE]["state"], told[CORE]["cause"], told[CORE]["reason"] or "", process.returncode

    def startup(self) -> str:
        return self.console(CORE, "read startup").partition("read startup\n")[2]

    def test_what_somebody_types_elsewhere_is_named_and_not_saved(self) -> None:
        before = self.startup()
        state, cause, reason, code = self.push_while("user visitor")
        self.assertEqual((state, cause, code), ("delivered", "failed", 4))
        self.assertIn("but not saved, because another session edited the device: + user visitor", reason)
        self.assertIn("day desk", self.running(CORE))
        self.assertEqual(self.startup(), before)
        # It is told until somebody agrees, though there is nothing else to do.
        for command in (("diff",), ("drift",)):
            self.assertIn(
                f"{CORE}: running differs from startup",
                self.oast(*command, "--on", f"name={CORE}", expect=None).out,
            )
        run = self.oast("push", "-m", "and that", "--on", f"name={CORE}", "--yes")
        self.assertIn("a push saves them:", run.out)
        self.assertIn("1 device saved", run.out)
        self.assertIn("user visitor", self.startup())
        self.assertRegex(
            self.oast("push", "-m", "again", "--on", f"name={CORE}", "--yes").out,
            r"(?m)^\d+ devices? in sync$",
        )

    def test_what_somebody_types_into_the_change_itself_is_not_kept(self) -> None:
        before = self.startup()
        state, cause, reason, code = self.push_while("system", "  contact by-hand")
        self.assertEqual((state, cause, code), ("reverted", "failed", 4))
        self.assertIn(
            "another session changed the same statements before Oast confirmed them (+ system / contact by-hand)",
            reason,
        )
        self.assertEqual(self.startup(), before)
