"""A device whose platform has no grammar: compared, delivered to and cleaned up by structure alone, and that is said."""

from __future__ import annotations

import re
import tempfile
import unittest
from pathlib import Path

from larkwater import Run, program, simulator_of

BINE = Path(__file__).parent.parent / "src" / "oast" / "platforms" / "bine.toml"
PASSWORDS = {"OAST_SECRET_LOGIN": "reed-and-sedge"}
FILES = {
    "oast.toml": 'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login" }\nprivilege_password = { secret = "login" }\n'
    "simulated = true\n[delivery]\nrevert_timer_s = 20\nverify_timeout_s = 1\n",
    "inventory/devices.yaml": "devices:\n  pier: {address: 192.0.2.7, platform: plain}\n",
    "network.yaml": "format: 1\naccounts: [{name: oast, password: login}]\nprivilege-password: login\n"
    "devices:\n  pier: {system: bine, management: 192.0.2.7, ports: [manage0, port1], startup: first.txt}\n",
    "first.txt": "system\n  hostname pier\n  contact before\nntp\n  server 192.0.2.9\n    port 1123\ninterface manage0\n  ipv4\n    address 192.0.2.7/24\n"
    "interface port1\n  description old\n",
    "intent.yaml": "sections:\n  - section: all\n",
    "templates/plain/all.j2": '{#\nsection: all\nowns: [ntp, "interface port1"]\n#}\nntp\n  server 192.0.2.1\n    prefer true\ninterface port1\n  description new\n',
}


def plain_platform() -> str:
    """What is left of a platform without its grammar, and without what rests on it."""
    plain = re.sub(r"(?ms)^\[roles\].*", "", BINE.read_text()).replace('name = "bine"', 'name = "plain"')
    plain = re.sub(
        r"(?m)^(intervals|abbreviations|remove_unknown|insert_before|insert_last) = .*\n", "", plain
    )
    return re.sub(r"(?ms)^# [^\n]*\n\[readings\.communities\].*?(?=^\[)", "", plain)


class StructureTest(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        self.estate = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        for file, text in {**FILES, "platforms/plain.toml": plain_platform()}.items():
            (self.estate / file).parent.mkdir(parents=True, exist_ok=True)
            (self.estate / file).write_text(text)
        simulator = simulator_of(self.estate, PASSWORDS)
        self.addCleanup(simulator.stop)
        simulator.start()
        self.oast("devices", "trust", "--yes")

    def oast(self, *arguments: str, expect: int = 0, stdin: str = "") -> Run:
        run = program(*arguments, cwd=self.estate, environment=PASSWORDS, stdin=stdin)
        self.assertEqual(run.code, expect, run.out + run.err)
        return run

    def test_it_is_compared_delivered_and_cleaned_up_by_structure_and_that_is_said(self) -> None:
        said = "because the platform has no grammar: pier"
        self.assertIn(f"statements were not checked, {said}", self.oast("lint").out)
        self.assertEqual(self.oast("lint", "--format", "json").json()["unchecked"], ["pier"])
        shown = self.oast("diff", expect=1).out
        self.assertIn(f"compared by structure only, {said}", shown)
        for line in (
            "  -   server 192.0.2.9\n",
            "  +   server 192.0.2.1\n",
            "  -   description old\n",
            "  +   description new\n",
        ):
            self.assertIn(line, shown)
        self.assertTrue(self.oast("diff", "--format", "json", expect=1).json()["devices"][0]["by_structure"])
        run = self.oast("push", "-m", "by structure", "--yes")
        self.assertIn(f"compared by structure only, {said}", run.out)
        self.assertIn("1 device delivered", run.out)
        running = self.oast("sim", "console", "pier", stdin="read running\nleave\n").out
        self.assertIn("ntp\n  server 192.0.2.1\n    prefer true\n", running)
        self.assertNotIn("192.0.2.9", running)
        self.assertIn("  contact before\n", running)
        self.assertRegex(self.oast("push", "-m", "again", "--yes").out, r"(?m)^\d+ devices? in sync$")


if __name__ == "__main__":
    unittest.main()
