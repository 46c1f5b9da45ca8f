"""On a terminal: the question before a delivery, the live table, colours; and none of them elsewhere."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from larkwater import SECRETS, LarkwaterTest, clean_environment, on_terminal


class TerminalTest(LarkwaterTest):
    def typed(
        self, answer: str, *arguments: str, environment: dict[str, str] | None = None, meanwhile: Callable[[], object] | None = None
    ) -> tuple[int, str]:
        """Run the program on a terminal and answer its question, after `meanwhile`; its exit code and all it showed."""
        return on_terminal(arguments, self.estate, "Type yes to go on: ", answer, environment=environment, meanwhile=meanwhile)

    def test_nothing_is_delivered_without_a_yes(self) -> None:
        code, shown = self.typed("no", "push", "-m", "x", "--on", "role=core")
        self.assertEqual(code, 1)
        self.assertIn("Deliver to 2 devices?", shown)
        self.assertIn("nothing was delivered", shown)
        self.oast("diff", "--on", "role=core", expect=1)

    def test_a_yes_delivers_with_a_live_table_and_colours(self) -> None:
        code, shown = self.typed("yes", "push", "-m", "x", "--on", "role=core")
        self.assertEqual(code, 0, shown)
        self.assertIn("\x1b[32m", shown)
        self.assertIn("of 2 done", shown)
        self.oast("diff", "--on", "role=core")

    def test_a_device_that_moves_between_compare_and_load_is_not_touched(self) -> None:
        def moves() -> None:
            self.console("gull-core-1", "raise", SECRETS["privilege-password"], "edit", "system", "  contact me", "close")

        code, shown = self.typed("yes", "push", "-m", "x", "--on", "role=core", meanwhile=moves)
        self.assertEqual(code, 4, shown)
        self.assertIn("the device has changed since it was compared: it was not touched", shown)
        self.assertIn("contact me", self.running("gull-core-1"))
        self.assertNotIn("192.0.2.123", self.running("gull-core-1"))
        self.assertIn("192.0.2.123", self.running("heron-core-1"))

    def test_no_color_is_honoured_and_a_pipe_gets_plain_lines(self) -> None:
        _, shown = self.typed("no", "diff", "--on", "role=core", environment={"NO_COLOR": "1"})
        self.assertNotIn("\x1b[32m", shown)
        run = self.oast("diff", "--on", "role=core", expect=1)
        self.assertNotIn("\x1b", run.out + run.err)
        self.assertRegex(run.err, r"(?m)^gull-core-1 +compared +\d")

    def test_output_that_nobody_reads_any_more_is_no_error(self) -> None:
        program = Path(sys.executable).with_name("oast")
        done = subprocess.run(
            ["bash", "-c", f"{program} render | head -1"],
            cwd=self.estate,
            env=clean_environment(),
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.stderr, "")
        self.assertEqual(done.stdout, "# gull-core-1\n")
