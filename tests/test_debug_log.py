"""The debug log says what is decided and why, without secrets; and optional parts say what they need."""

from __future__ import annotations

import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

from larkwater import SECRETS, EstateTest, LarkwaterTest, clean_environment
from oast import extras
from oast.errors import UsageError


class DebugLogTest(LarkwaterTest):
    def test_a_delivery_logs_phases_decisions_and_waves_and_no_secret(self) -> None:
        log = self.estate / "debug.log"
        push = ("push", "-m", "x", "--section", "time", "--on", "role=core", "--yes", "--one-wave")
        self.assertNotIn("oast.change", self.oast(*push, "--debug-file", str(log)).err)
        written = log.read_text()
        self.assertRegex(
            written,
            r"(?m)^\d{4}-\d\d-\d\dT[0-9:.]+Z oast\.change\.rollout\.rollout wave 1 of 1: gull-core-1, ",
        )
        self.assertIn("oast.connect.transcript gull-core-1: connecting to ", written)
        for phase in ("staged", "applying", "applied", "confirming", "confirmed"):
            self.assertIn(f"oast.change.device.transaction gull-core-1: phase {phase}", written)
        self.assertIn("gull-core-1: unless confirmed, the", written)
        for secret in SECRETS.values():
            self.assertNotIn(secret, written)
        self.assertEqual(log.stat().st_mode & 0o777, 0o600)
        run = self.oast("diff", "--on", "name=gull-core-1", "--debug", expect=1)
        self.assertIn("oast.connect.transcript gull-core-1: connecting to ", run.err)
        self.assertNotIn("oast.connect", run.out)
        self.assertNotIn("compared  ", run.err, "the progress display is off")


class StartTest(EstateTest):
    def test_a_log_that_cannot_be_written_is_an_error_before_anything_is_done(self) -> None:
        run = self.oast("devices", "--debug-file", str(self.estate), expect=2)
        self.assertIn("cannot write", run.err)
        self.assertEqual(run.out, "")

    def test_programs_that_tests_start_run_the_tree_that_the_tests_stand_in(self) -> None:
        code = "import oast, oastsim; print(oast.__file__); print(oastsim.__file__)"
        done = subprocess.run(
            [sys.executable, "-c", code],
            cwd=self.estate,
            capture_output=True,
            text=True,
            check=True,
            env=clean_environment(),
        )
        source = Path(__file__).resolve().parent.parent / "src"
        self.assertEqual([Path(line).parent.parent for line in done.stdout.splitlines()], [source, source])

    def test_what_needs_no_device_imports_no_ssh_and_no_http(self) -> None:
        code = "import sys; from oast.cli.main import main; main({!r}); print(*sys.modules, file=sys.stderr)"
        for command in (
            ["devices"],
            ["render", "--on", "name=gull-core-1"],
            ["explain", "gull-core-1", "location"],
        ):
            done = subprocess.run(
                [sys.executable, "-c", code.format(command)],
                cwd=self.estate,
                capture_output=True,
                text=True,
                check=True,
            )
            self.assertTrue(done.stdout)
            loaded = {"asyncssh", "aiohttp", "matplotlib", "networkx"} & set(done.stderr.split())
            self.assertEqual(loaded, set(), command)


class ExtrasTest(unittest.TestCase):
    def test_a_missing_extra_names_the_command_that_installs_it(self) -> None:
        for extra, what in (("plot", "drawing the history"), ("sim", "the simulator")):
            extras.require_extra(extra, what)
            with (
                mock.patch.object(extras, "find_spec", lambda name: None),
                self.assertRaises(UsageError) as found,
            ):
                extras.require_extra(extra, what)
            self.assertIn(what, found.exception.message)
            self.assertEqual(found.exception.hint, f"install with: pip install 'oast[{extra}]'")


if __name__ == "__main__":
    unittest.main()
