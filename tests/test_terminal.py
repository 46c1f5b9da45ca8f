"""On a terminal: the question before a delivery, the live table, colours; and none of them elsewhere."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from larkwater import SECRETS, EstateTest, LarkwaterTest, clean_environment, on_terminal


class TerminalTest(LarkwaterTest):
    def typed(
        self,
        answer: str,
        *arguments: str,
        environment: dict[str, str] | None = None,
        meanwhile: Callable[[], object] | None = None,
    ) -> tuple[int, str]:
        """Run the program on a terminal and answer its question, after `meanwhile`; its exit code and all it showed."""
        return on_terminal(
            arguments,
            self.estate,
            "Type yes to continue: ",
            answer,
            environment=environment,
            meanwhile=meanwhile,
        )

    def test_nothing_is_delivered_without_a_yes(self) -> None:
        code, shown = self.typed("no", "push", "-m", "x", "--on", "role=core")
        self.assertEqual(code, 1)
        self.assertRegex(shown, r"Deliver to 2 devices \(\+\d+ -\d+; affects management access of 2\)\?")
        self.assertIn("nothing was delivered", shown)
        self.fault("heron-core-1", "down")
        _, shown = self.typed("no", "push", "-m", "x", "--on", "role=core")
        self.assertIn("could not be compared, so nothing will be sent: heron-core-1", shown)
        self.assertIn("? 1 could not be compared.", shown)
        self.fault("heron-core-1", "none")
        self.oast("diff", "--on", "role=core", expect=1)

    def test_a_yes_delivers_with_a_live_table_and_colours(self) -> None:
        code, shown = self.typed("yes", "push", "-m", "x", "--on", "role=core")
        self.assertEqual(code, 0, shown)
        self.assertIn("\x1b[32m", shown)
        self.assertIn("of 2 done", shown)
        self.oast("diff", "--on", "role=core")

    def test_a_device_that_moves_between_compare_and_load_is_not_touched(self) -> None:
        def moves() -> None:
            self.console(
                "gull-core-1",
                "raise",
                SECRETS["privilege-password"],
                "edit",
                "system",
                "  contact me",
                "close",
            )

        code, shown = self.typed("yes", "push", "-m", "x", "--on", "role=core", meanwhile=moves)
        self.assertEqual(code, 4, shown)
        self.assertIn("the device has changed since the comparison; nothing was sent to it", shown)
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


class EscapesTest(EstateTest):
    def test_control_codes_in_values_are_spelt_out(self) -> None:
        self.edit("values/network.yaml", "Larkwater network desk", '"desk \\e[31m\\u009b2J\\u202e"')
        # As a value it can be looked at; in a configuration it is a mistake, told with the line.
        for arguments, expected in (
            (("explain", "gull-core-1", "contact"), 0),
            (("render", "--section", "system", "--on", "site=gull"), 3),
        ):
            code, shown = on_terminal(arguments, self.estate, "never asked", "")
            self.assertEqual(code, expected, shown)
            self.assertIn("desk \\x1b[31m\\x9b2J\\u202e", shown)
        run = self.oast("explain", "gull-core-1", "contact", "--format", "json")
        self.assertIn("desk \\u001b[31m\\u009b2J\\u202e", run.out)
        self.assertEqual(run.json()["values"][0]["value"], "desk \x1b[31m\x9b2J\u202e")

    def test_what_is_too_long_for_a_line_goes_on_indented(self) -> None:
        self.edit("values/devices/dunlin-edge-1.yaml", "203.0.113.224", "203.0.113.223")
        _, shown = on_terminal(("lint",), self.estate, "never asked", "")
        plain = re.sub(r"\x1b\[[0-9;]*m", "", shown).replace("\r", "")
        self.assertRegex(plain, r"also on sandpiper-edge-1 interface\n    loop0 \(for dunlin-edge-1\)\n")
