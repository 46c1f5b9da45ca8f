"""What a pipeline does with Oast: the script in examples/, and the forms in which a change is told."""

from __future__ import annotations

import os
import subprocess
import time
import unittest
from pathlib import Path
from xml.etree import ElementTree

from larkwater import LarkwaterTest, clean_environment

SCRIPT = Path(__file__).parent.parent / "examples" / "pipeline" / "deliver.sh"


class PipelineTest(LarkwaterTest):
    delivered = True

    def pipeline(self, reason: str = "The day desk") -> subprocess.Popen[str]:
        """The script under way."""
        environment = {
            **clean_environment(),
            "PATH": f"{self.programs()}:{os.environ['PATH']}",
            "OAST_IDENTITY": "pipeline@larkwater.example",
        }
        process = subprocess.Popen(
            ["bash", str(SCRIPT), str(self.estate), reason, str(self.folder / "public")],
            cwd=self.folder, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        )  # fmt: skip
        self.addCleanup(process.kill)
        return process

    def test_the_pipeline_tries_a_change_in_a_lab_waits_for_an_approval_delivers_and_tells(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        # A device that came later is not in network.yaml: that is said, and holds up nothing in the lab.
        network = self.estate / "network.yaml"
        lines = network.read_text().splitlines(keepends=True)
        network.write_text("".join(line for line in lines if "dunlin-edge-1" not in line))
        process = self.pipeline()
        deadline = time.monotonic() + 120
        while self.state() != "proposed":
            self.assertIsNone(
                process.poll(), process.stdout.read() if process.poll() is not None and process.stdout else ""
            )
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.3)
        self.assertIn("Larkwater network desk", self.running("gull-core-1"), "only the lab has it so far")
        self.oast("change", "approve", "last", "--yes", environment={"OAST_IDENTITY": "bo@larkwater.example"})
        out, _ = process.communicate(timeout=120)
        self.assertEqual(process.returncode, 0, out)
        self.assertIn("all passed", out)
        self.assertIn("not in the lab, and not tried there: dunlin-edge-1", out)
        self.assertIn("git add changes", out)
        self.assertTrue(
            list((self.folder / "public/lab").glob("*/outcome.json")), "the logs of the lab are kept"
        )
        self.assertIn("6 devices delivered", out)
        self.assertIn("Larkwater day desk", self.running("gull-core-1"))
        summary = (self.folder / "public/summary.md").read_text()
        self.assertIn("# The day desk", summary)
        self.assertIn("| approved |", summary)
        self.assertIn(
            '```diff\n- system / contact "Larkwater network desk"\n+ system / contact "Larkwater day desk"\n```',
            summary,
        )
        suite = ElementTree.parse(self.folder / "public/junit.xml").getroot()
        self.assertEqual((suite.get("tests"), suite.get("failures")), ("6", "0"))
        self.assertTrue((self.folder / "public/log/gull-core-1.log").is_file())

    def test_what_fails_in_the_lab_is_shown_whole_and_its_logs_are_kept(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        (self.estate / "checks" / "never.yaml").write_text(
            "checks:\n  - {check: never, on: role=core, reading: system, must_be: {os-name: nothing}}\n"
        )
        process = self.pipeline()
        out, _ = process.communicate(timeout=240)
        self.assertNotEqual(process.returncode, 0, out)
        self.assertIn("failed with exit code", out)
        self.assertTrue(list((self.folder / "public/lab").glob("*/outcome.json")), out)
        self.assertEqual(self.state(), "", "nothing was proposed")

    def state(self) -> str:
        changes = self.oast("change", "list", "--last", "1", "--format", "json").json()["changes"]
        return str(changes[0]["state"]) if changes and changes[0]["reason"] == "The day desk" else ""

    def test_what_failed_is_a_failure_in_the_report_and_markdown_takes_no_word_for_a_sign(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.fault("gull-core-1", "refuse", "--match", "contact")
        self.oast(
            "push",
            "-m",
            "The *day* desk | at <gull> @all https://ferries.example",
            "--on",
            "role=core",
            "--yes",
            expect=4,
        )
        suite = ElementTree.fromstring(self.oast("report", "--format", "junit").out)
        self.assertEqual((suite.get("tests"), suite.get("failures")), ("2", "1"))
        failed = [case.get("name") for case in suite if case.find("failure") is not None]
        self.assertEqual(failed, ["gull-core-1"])
        text = self.oast("report", "--change", "last").out
        self.assertIn(
            "# The \\*day\\* desk \\| at &lt;gull&gt; @\u200ball https:\u200b//ferries.example\n", text
        )
        self.assertIn("@\u200ball", suite.get("name") or "")
        self.assertRegex(text, r"(?m)^\| gull-core-1 \| (reverted|unchanged) \(failed\) \|")
        self.assertIn("unknown change 'nothing'", self.oast("report", "--change", "nothing", expect=2).err)


if __name__ == "__main__":
    unittest.main()
