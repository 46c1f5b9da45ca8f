"""What is shown of many devices: counted where nobody watches, alike ones together, and each by itself with -v."""

from __future__ import annotations

import io
import re
import unittest

from rich.console import Console

from larkwater import LarkwaterTest
from oast.cli.progress import Progress
from oast.fleet.events import DeviceEvent, Stage, TimerEvent


class LiveTest(unittest.TestCase):
    def test_of_a_thousand_those_are_named_that_the_others_wait_for(self) -> None:
        for size in ((80, 24), (140, 40)):
            with self.subTest(size):
                console = Console(file=io.StringIO(), width=size[0], height=size[1])
                names = [f"edge-{number}" for number in range(1000)]
                progress = Progress(console, names, quiet=True)
                for name in names:
                    progress(DeviceEvent(name, Stage.CONNECTING))
                for name in names[:900]:
                    progress(TimerEvent(name, 90))
                    progress(DeviceEvent(name, Stage.APPLIED))
                progress(DeviceEvent("edge-900", Stage.APPLYING, 3, 20))
                progress(DeviceEvent("edge-3", Stage.FAILED))
                console.print(progress._table())
                shown = "\n".join(line.rstrip() for line in console.file.getvalue().splitlines())  # type: ignore[attr-defined]
                self.assertLessEqual(len(shown.splitlines()), size[1] - 1)
                self.assertRegex(shown, r"(?m)^899  applied$")
                self.assertRegex(shown, r"(?m)^ +1  failed$")
                self.assertRegex(shown, r"(?m)^edge-3 +failed$")
                self.assertRegex(shown, r"(?m)^edge-901 +connecting +0 s$")
                self.assertNotIn("edge-1 ", shown, "it waits for the others")
                self.assertIn("1 of 1000 done  999 at work  0 s  shortest timer", shown)


class ManyDevicesTest(LarkwaterTest):
    whole = True

    def test_results_that_are_alike_stand_together_and_what_was_broken_before_is_counted(self) -> None:
        run = self.oast("push", "-m", "time", "--section", "time", "--section", "vlans", "--yes")
        self.assertRegex(run.err, r"(?m)^24 of 24: 24 compared  ")
        self.assertRegex(
            run.err, r"(?m)^tern-edge-1 +delivered  ", "a line for each device in a pipeline's log"
        )
        self.assertRegex(
            run.out, r"(?m)^gull-dist-1, gull-dist-2, heron-dist-1 and \d+ more +delivered +13 +0 "
        )
        self.assertIn("24 devices delivered", run.out)
        self.assertRegex(run.out, r"(?m)^and \d+ more, on \d+ devices in total \(-v lists them\)$")
        self.assertEqual(run.out.count("failed before the change, and not affected by it"), 3)
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")
        run = self.oast("push", "-m", "time", "--section", "time", "--yes", "-v")
        self.assertRegex(run.out, r"(?m)^tern-access-1 +delivered ")
        self.assertGreater(run.out.count("failed before the change, and not affected by it"), 8)
        self.assertNotIn("-v lists them", run.out)

    def test_of_many_devices_those_that_fail_are_told_one_by_one(self) -> None:
        self.fault("tern-access-2", "refuse", "--match", "vlan-id=120")
        run = self.oast("push", "-m", "vlans", "--section", "vlans", "--yes", "--one-wave", expect=4)
        self.assertRegex(run.err, r"(?m)^tern-access-2 +(rolled back|failed|unchanged) ")
        self.assertRegex(run.out, r"(?m)^tern-access-2 +failed, ")
        self.assertIn("the system could not do this (cause 41) (templates/cowl/vlans.j2:", run.out)

    def test_a_summary_counts_by_section_what_the_lines_would_say(self) -> None:
        run = self.oast("diff", "--summary", "--section", "time", "--section", "vlans", expect=1)
        self.assertRegex(run.out, r"(?m)^time +24 +154 +6$")
        self.assertRegex(run.out, r"(?m)^vlans +14 +98 +0$")
        self.assertIn("24 devices to change (+252 -6)", run.out)
        # Of a container that several sections share, each counts its own; what only leads there counts once.
        run = self.oast("diff", "--summary", "--on", "platform=roundel", expect=1)
        rows = [
            line.split()
            for line in run.out.splitlines()
            if line and line.split()[-1].isdigit() and "devices" not in line
        ]
        total = re.search(r"\(\+(\d+) -(\d+)\)", run.out)
        self.assertIsNotNone(total)
        self.assertEqual(
            [str(sum(int(row[n]) for row in rows)) for n in (2, 3)], list(total.groups() if total else ())
        )
        self.assertEqual({row[0]: row[1] for row in rows}["border-routes"], "2")

    def test_a_long_difference_opens_with_what_goes_away_and_shows_once_what_differs_in_values_only(
        self,
    ) -> None:
        self.oast("push", "-m", "all", "--yes")
        self.edit("templates/bine/system.j2", 'location "', 'location "At ')
        self.edit("templates/bine/time.j2", "{% for", "{# none #}{% for")
        run = self.oast("diff", expect=1)
        self.assertIn("6 of 24 devices would change: +6 -6", run.out)
        self.assertIn(
            "6 devices, each with its own value  +1 -1 each\n    system\n  -   location …\n  +   location …\n",
            run.out,
        )
        self.assertRegex(run.out, r'(?m)^      tern-edge-1 +"Tern pier"  \|  "At Tern pier"$')
        self.assertIn("      and 3 more values; --full shows them", run.out)
        self.assertNotIn("Dunlin slipway", run.out)
        full = self.oast("diff", "--full", expect=1).out
        self.assertIn('dunlin-edge-1  +1 -1\n    system\n  -   location "Dunlin slipway"', full)
        self.edit("templates/bine/system.j2", 'location "At ', 'location "')
        self.edit("values/network.yaml", "    - {address: 192.0.2.124}\n", "")
        first = self.oast("diff", expect=1).out.splitlines()[:2]
        self.assertEqual(first[0], "24 of 24 devices would change: +0 -56")
        self.assertRegex(first[1], r"^removed: .*server on \d+ devices")
