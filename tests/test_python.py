"""The public Python interface: what the commands do, for a script; rules that no caller can pass by; secrets that stay secrets."""

from __future__ import annotations

import asyncio
import os
import pickle
import re
import subprocess
import sys
from pathlib import Path
from unittest import mock

import oast
from larkwater import SECRETS, EstateTest, LarkwaterTest, clean_environment

ROOT = Path(__file__).parent.parent
NOTEBOOK = ROOT / "examples/notebook.py"


class InterfaceTest(EstateTest):
    def test_everything_that_is_promised_is_there_and_needs_no_command_line(self) -> None:
        for name in oast.__all__:
            self.assertIsNotNone(getattr(oast, name), name)
        self.assertFalse([name for name in oast.__all__ if name.startswith("_")])
        code = "import oast, sys; oast.open; oast.Plan; sys.exit('oast.cli' in sys.modules or 'rich' in sys.modules)"
        self.assertEqual(
            subprocess.run([sys.executable, "-c", code], check=False, env=clean_environment()).returncode, 0
        )

    def test_opening_writes_nothing_and_estates_stand_beside_each_other(self) -> None:
        def files() -> set[Path]:
            return set(self.estate.rglob("*"))

        before = files()
        one, other = oast.open(self.estate), oast.open(str(self.estate))
        self.assertEqual(one.pick("role=core"), ["gull-core-1", "heron-core-1"])
        self.assertIn("hostname gull-core-1", one.render("role=core")["gull-core-1"])
        self.assertEqual((other.lint().problems, other.lint().devices), ((), 6))
        self.assertEqual(files(), before)

    def test_what_is_wrong_is_an_error_of_the_family(self) -> None:
        with self.assertRaises(oast.UsageError):
            oast.open(self.folder)
        with self.assertRaises(oast.EstateError):
            oast.open(self.estate).pick("site=nowhere")
        self.edit("intent.yaml", "sections:", "section:")
        self.assertEqual([p.kind for p in oast.open(self.estate).lint().mistakes], ["estate"])

    def test_a_secret_can_be_had_by_no_expression_and_does_not_leave_the_process(self) -> None:
        line = "{{ community.name%s }}"
        for part in (
            ".reveal()",
            "['reveal']()",
            "|attr('reveal')",
            "._value",
            ".name",
            ".become('x')",
            "|string",
            "[0]",
            "|length",
        ):
            self.edit(
                "templates/bine/monitoring.j2", "community {{ community.name }}", "community " + line % part
            )
            told = self.oast("render", "--on", "role=core", expect=3)
            self.assertNotIn(SECRETS["snmp-read"], told.out + told.err, part)
            self.edit(
                "templates/bine/monitoring.j2", "community " + line % part, "community {{ community.name }}"
            )
        self.edit(
            "values/network.yaml", "contact: Larkwater", 'contact: "{{ communities[0].name.reveal() }}" #'
        )
        self.assertNotIn(SECRETS["snmp-read"], (told := self.oast("lint", expect=3)).out + told.err)

    def test_a_secret_stands_only_where_the_platform_says_so(self) -> None:
        self.edit(
            "templates/bine/monitoring.j2", "  community {{", "  target {{ community.name }}\n  community {{"
        )
        found = self.oast("lint", "--on", "role=core", expect=3).out
        self.assertRegex(
            found,
            r"monitoring\.j2:\d+: the secret 'snmp-read' is in 'target', which the platform does not mark as secret",
        )
        self.assertNotIn(SECRETS["snmp-read"], found)

    def test_text_joined_to_a_secret_is_a_secret(self) -> None:
        self.edit(
            "templates/bine/monitoring.j2",
            "community {{ community.name }}",
            "community {{ community.name + '-x' }}",
        )
        shown = self.oast("render", "--on", "name=gull-core-1", "--section", "monitoring").out
        self.assertRegex(shown, r"community <secret [0-9a-f]{8}>\n")


class DeviceTest(LarkwaterTest):
    delivered = True

    def environment(self) -> dict[str, str]:
        return {**clean_environment(), "PYTHONPATH": str(ROOT / "src")}

    def test_the_notebook_does_the_job_in_under_thirty_lines(self) -> None:
        text = NOTEBOOK.read_text(encoding="utf-8")
        self.assertLess(len(text.splitlines()), 30)
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")
        done = subprocess.run(
            [sys.executable, str(NOTEBOOK)],
            cwd=self.estate,
            env=self.environment(),
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("gull-core-1: +2 -2, rollback: revert timer", done.stdout)
        self.assertIn("{'gull-core-1': 'delivered', 'heron-core-1': 'delivered'} done", done.stdout)
        self.assertIn("('port1', 'up')", done.stdout)
        self.assertIn("all passed", done.stdout)

    def test_the_example_of_the_page_runs(self) -> None:
        code = re.findall(
            r"^```python\n(.*?)^```$",
            (ROOT / "docs/python.md").read_text(encoding="utf-8"),
            re.MULTILINE | re.DOTALL,
        )
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")
        for block in code:
            done = subprocess.run(
                [sys.executable, "-c", block],
                cwd=self.estate,
                env=self.environment(),
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("heron-core-1 delivered None", done.stdout)

    def test_what_a_policy_forbids_no_caller_delivers(self) -> None:
        (self.estate / "policies/more.yaml").write_text(
            "policies:\n  - policy: no-agents\n    must_not_contain: ntp/server 192.0.2.125\n"
        )
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")

        async def deliver(**options: float) -> None:
            async with await oast.open(self.estate, os.environ).compare() as plan:
                self.assertEqual(len(plan.different), 6)
                self.assertNotIn(SECRETS["snmp-read"], str(pickle.loads(pickle.dumps(plan.document()))))
                await plan.deliver("agents", options=oast.DeliveryOptions(**options))

        before = self.running("gull-core-1")
        with self.assertRaises(oast.EstateError):
            asyncio.run(deliver())
        (self.estate / "policies/more.yaml").unlink()
        with self.assertRaises(oast.UsageError):
            asyncio.run(deliver(revert_timer_s=5, verify_timeout_s=4))
        self.assertEqual(self.running("gull-core-1"), before)

    def test_a_record_that_cannot_be_written_hides_nothing(self) -> None:
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")
        with mock.patch(
            "oast.operations.deliver.write_whole", side_effect=OSError(28, "No space left on device")
        ):
            run = self.oast("push", "-m", "agents", "--on", "name=gull-core-1", "--yes")
        self.assertIn("1 device delivered", run.out)
        self.assertIn("outcome.json: No space left on device", run.err)

    def test_cancelling_takes_back_what_is_not_confirmed_and_says_so(self) -> None:
        self.edit("values/network.yaml", "192.0.2.124", "192.0.2.125")
        before = self.running("gull-core-1")

        async def cancelled() -> oast.DeliveryResult:
            async with await oast.open(self.estate, os.environ).compare(on="name=gull-core-1") as plan:
                task: asyncio.Task[oast.DeliveryResult] | None = None

                def cancel(event: object) -> None:
                    if (
                        isinstance(event, oast.DeviceEvent)
                        and event.stage is oast.Stage.APPLIED
                        and task is not None
                    ):
                        task.cancel()

                task = asyncio.create_task(plan.deliver("agents", on_event=cancel))
                return await task

        result = asyncio.run(cancelled())
        self.assertEqual(result.verdict, oast.Verdict.INTERRUPTED)
        self.assertEqual(
            [(o.state, o.cause) for o in result.outcomes], [(oast.State.REVERTED, oast.Cause.INTERRUPTED)]
        )
        self.assertEqual(self.running("gull-core-1"), before)
