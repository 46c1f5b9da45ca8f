"""The program as a whole: the demo, its help, its version, and the examples in the documentation."""

from __future__ import annotations

import importlib
import re
import shlex
import tempfile
import unittest
from collections.abc import Iterator
from dataclasses import fields
from pathlib import Path
from typing import Any

from larkwater import LarkwaterTest, apart, program
from oast import __version__
from oast.cli.arguments import parse
from oast.cli.command import CommandGroup, Subcommand
from oast.cli.main import COMMANDS

NAMES = {name: summary for group in COMMANDS.values() for name, summary in group.items()}


DOCS = Path(__file__).parent.parent / "docs"


class ProgramTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))

    def test_the_version_the_first_screen_and_the_overview(self) -> None:
        self.assertEqual(apart("--version", cwd=self.folder).out, f"oast {__version__}\n")
        first = program(cwd=self.folder)
        self.assertEqual((first.code, first.err), (0, ""))
        overview = program("--help", cwd=self.folder)
        for name, summary in NAMES.items():
            self.assertIn(f"  {name.ljust(8)}  {summary}\n", overview.out)
        for line in (first.out + overview.out).splitlines():
            self.assertLessEqual(len(line), 110, line)
            if line.startswith("  oast ") and "--help" not in line:
                parse(shlex.split(line.partition("   ")[0])[1:], COMMANDS)

    def test_every_command_has_a_help_with_examples_that_parse_and_its_exit_codes(self) -> None:
        for name in NAMES:
            for words, command in self.subcommands(
                (name,), importlib.import_module(f"oast.cli.{name}").COMMAND
            ):
                shown = program(*words, "--help", cwd=self.folder)
                self.assertEqual((shown.code, shown.err), (0, ""), words)
                self.assertIn("exit codes:\n  0 ", shown.out)
                self.assertEqual(1 in command.exits, bool(command.no), words)
                declared = [one for one in fields(command.options) if one.metadata]
                for one in declared:
                    declaration = one.metadata["command line"]
                    self.assertTrue(declaration.keywords["help"], (words, one.name))
                    self.assertIn((declaration.names or (declaration.keywords["metavar"],))[-1], shown.out)
                for example, _ in command.examples:
                    parse(shlex.split(example)[1:], COMMANDS)
                self.assertEqual(bool(command.examples) or len(words) > 1, True, f"{words} has no example")

    def subcommands(
        self, words: tuple[str, ...], command: Subcommand[Any] | CommandGroup
    ) -> Iterator[tuple[tuple[str, ...], Subcommand[Any]]]:
        if isinstance(command, Subcommand):
            yield words, command
            return
        if command.alone is not None:
            yield words, command.alone
        for name, action in command.actions.items():
            yield from self.subcommands((*words, name), action)

    def test_a_wrong_command_line_gets_the_reason_and_a_hint_and_no_page_of_usage(self) -> None:
        for line, error, hint in (
            ("psuh -m x", "unknown command 'psuh'", "did you mean 'push'?"),
            ("diff --sectoin x", "unknown option --sectoin", "did you mean '--section'?"),
            (
                "diff gull-core-1",
                "unexpected argument 'gull-core-1'",
                "to select a device, write --on name=gull-core-1",
            ),
            ("diff --parallel x", "--parallel: 'x' is not a whole number above 0", "see oast diff --help"),
            ("diff --parallel", "--parallel needs a value", "see oast diff --help"),
            (
                "push --one-wave --split-waves",
                "--split-waves and --one-wave exclude each other",
                "see oast push --help",
            ),
            ("sim strat", "unknown action 'strat'", "did you mean 'start'?"),
            ("sim fault tern-edge-1 dwon", "FAULT: 'dwon' is not one of", "did you mean 'down'?"),
            ("sim status --formt json", "unknown option --formt", "did you mean '--format'?"),
            ("devices --format jsn", "--format: 'jsn' is not one of text, json, csv", "did you mean 'json'?"),
            ("secret", "an action is missing", "choose from set, read, rotate, remove, list, age"),
            ("explain", "missing: DEVICE", "see oast explain --help"),
            (
                "backup --label x list",
                "oast backup list has no option --label",
                "see oast backup list --help",
            ),
            ("--versoin", "unknown option --versoin", "did you mean '--version'?"),
            ("-q", "unknown option -q", "oast --help lists the commands"),
        ):
            run = program(*line.split(), cwd=self.folder)
            self.assertEqual((run.code, run.out), (2, ""), line)
            self.assertRegex(run.err, f"\\Aerror: {re.escape(error)}.*\nhint: {re.escape(hint)}\n\\Z", line)

    def test_help_lists_the_pages_shows_one_and_refuses_an_unknown_topic(self) -> None:
        listed = program("help", cwd=self.folder)
        pages = {path.stem for path in DOCS.glob("*.md")}
        self.assertEqual({line.split()[0] for line in listed.out.splitlines()}, pages)
        self.assertLessEqual(max(map(len, listed.out.splitlines())), 100)
        self.assertEqual(
            program("help", "failures", cwd=self.folder).out,
            (DOCS / "failures.md").read_text(encoding="utf-8"),
        )
        unknown = program("help", "failure", cwd=self.folder)
        self.assertEqual((unknown.code, unknown.out), (2, ""))
        self.assertIn("no page 'failure'", unknown.err)
        self.assertIn("did you mean 'failures'?", unknown.err)

    def test_outside_an_estate_a_command_says_so(self) -> None:
        run = apart("devices", cwd=self.folder)
        self.assertEqual(run.code, 2)
        self.assertIn("no oast.toml", run.err)

    def test_the_demo_tells_its_story_and_leaves_an_estate_to_play_with(self) -> None:
        into = self.folder / "play"
        run = apart(
            "demo", "--into", str(into), cwd=self.folder, at_most_s=600
        )  # a machine may be busy with all the rest
        self.assertEqual(run.code, 0, run.out + run.err)
        for passage in (
            "24 devices running",
            "24 host keys accepted,",
            "24 devices delivered",
            "checks on 24 devices: all",
            "24 devices in",
            "tern-edge-1  rolled back (checks failed)",
            "revert timer)",
            "(exit code 5)",
            "\n6 records of 1 device",
            "knot-edge-1: is managed: delivered, verified, and added to the inventory",
            "\n7 records of 1 device",
            "checks on 25 devices: all",
        ):
            self.assertIn(passage, run.out)
        estate = into / "larkwater"
        self.assertEqual(apart("sim", "status", cwd=estate).code, 1)
        self.assertEqual(apart("devices", cwd=estate).code, 0)
        self.assertEqual((into / "larkwater-secrets.toml").stat().st_mode & 0o077, 0)
        again = apart("demo", "--into", str(into), cwd=self.folder)
        self.assertEqual(again.code, 2)
        self.assertIn("exists already", again.err)


class NewTest(unittest.TestCase):
    def test_a_new_estate_lints_clean_and_runs_in_the_simulator(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        made = program("new", "harbour", cwd=folder)
        self.assertEqual(made.code, 0, made.err)
        estate = folder / "harbour"
        self.addCleanup(program, "sim", "stop", cwd=estate)
        steps = [
            line.strip()
            for line in made.out.partition("next steps:")[2].splitlines()
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
        self.assertIn("exists already", again.err)


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
