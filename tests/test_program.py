"""The program as a whole: the demo, its help, its version, and the examples in the documentation."""

from __future__ import annotations

import shlex
import tempfile
import unittest
from pathlib import Path

from larkwater import LarkwaterTest, apart, program
from oast import __version__
from oast.cli.main import COMMANDS


class ProgramTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))

    def test_the_version_and_every_commands_help(self) -> None:
        self.assertEqual(apart("--version", cwd=self.folder).out, f"oast {__version__}\n")
        top = apart("--help", cwd=self.folder)
        for name, summary in COMMANDS.items():
            self.assertIn(name, top.out)
            shown = program(name, "--help", cwd=self.folder)
            self.assertEqual(shown.code, 0, shown.err)
            self.assertIn(summary[1:20], " ".join(shown.out.split()))

    def test_a_misspelt_command_option_or_choice_gets_its_nearest_word(self) -> None:
        for line, near in (
            ("psuh -m x", "push"),
            ("diff --sectoin x", "--section"),
            ("sim strat", "start"),
            ("sim fault tern-edge-1 dwon", "down"),
            ("sim status --formt json", "--format"),
            ("devices --format jsn", "json"),
        ):
            run = program(*line.split(), cwd=self.folder)
            self.assertEqual(run.code, 2, line)
            self.assertIn(f"did you mean '{near}'?", run.err)

    def test_outside_an_estate_a_command_says_so(self) -> None:
        run = apart("devices", cwd=self.folder)
        self.assertEqual(run.code, 2)
        self.assertIn("there is no oast.toml", run.err)

    def test_the_demo_tells_its_story_and_leaves_an_estate_to_play_with(self) -> None:
        into = self.folder / "play"
        run = apart(
            "demo", "--into", str(into), cwd=self.folder, at_most_s=600
        )  # a machine may be busy with all the rest
        self.assertEqual(run.code, 0, run.out + run.err)
        for passage in (
            "24 devices running",
            "24 host keys trusted",
            "24 devices delivered",
            "checks on 24 devices: all true",
            "nothing to do: 24 devices as intended",
            "tern-edge-1  reverted",
            "its revert timer brought it back",
            "(exit code 5)",
            "\n6 records of 1 device",
            "knot-edge-1: is managed: delivered, checked, and in the inventory",
            "\n7 records of 1 device",
            "checks on 25 devices: all true",
        ):
            self.assertIn(passage, run.out)
        estate = into / "larkwater"
        self.assertEqual(apart("sim", "status", cwd=estate).code, 1)
        self.assertEqual(apart("devices", cwd=estate).code, 0)
        self.assertEqual((into / "larkwater-secrets.toml").stat().st_mode & 0o077, 0)
        again = apart("demo", "--into", str(into), cwd=self.folder)
        self.assertEqual(again.code, 2)
        self.assertIn("is there already", again.err)


class NewTest(unittest.TestCase):
    def test_a_new_estate_lints_clean_and_runs_in_the_simulator(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        made = program("new", "harbour", cwd=folder)
        self.assertEqual(made.code, 0, made.err)
        estate = folder / "harbour"
        self.addCleanup(program, "sim", "stop", cwd=estate)
        steps = [
            line.strip()
            for line in made.out.partition("go on with:")[2].splitlines()
            if line.strip().startswith("oast ")
        ]
        self.assertIn("oast sim start", steps)
        expected = {"oast diff": 1}
        for step in steps:
            words = [*shlex.split(step)[1:], *(["--yes"] if "push" in step or "trust" in step else [])]
            run = program(*words, cwd=estate)
            self.assertEqual(run.code, expected.get(step, 0), f"{step}\n{run.out}{run.err}")
        self.assertEqual(program("diff", cwd=estate).code, 0)
        self.assertEqual((folder / "harbour-secrets.toml").stat().st_mode & 0o077, 0)
        self.assertIn("pier-edge-1 on port1 is full", program("verify", "-v", cwd=estate).out)
        again = program("new", "harbour", cwd=folder)
        self.assertEqual(again.code, 2)
        self.assertIn("is there already", again.err)


class ConsoleTest(LarkwaterTest):
    def test_an_engineer_gets_the_devices_own_command_line(self) -> None:
        said = self.console("gull-core-1", "read interfaces", "sevrer")
        self.assertIn("Type ? for the commands.", said)
        self.assertRegex(said, r"(?m)^port1 +up +up +203\.0\.113\.0/31 +-$")
        self.assertRegex(said, r"(?m)^ +\^$")
        self.assertIn('error: "sevrer" is not a command', said)

    def test_configurations_survive_a_stop_and_a_second_start_is_refused(self) -> None:
        self.assertIn("running already", self.oast("sim", "start", expect=4).err)
        self.console("gull-core-1", "raise", "Is0lde-privilege", "edit", "system", "  contact tern", "close")
        self.oast("sim", "stop")
        self.oast("sim", "start")
        self.assertIn("contact tern", self.running("gull-core-1"))
        self.assertIn("gull-core-1", self.oast("sim", "status").out)
