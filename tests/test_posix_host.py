"""Hosts whose daemon can check and reload one file: edited in place, under a revert timer that Oast brings, in a real shell."""

from __future__ import annotations

import asyncio
import io
import subprocess
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from rich.console import Console

import oast
import posix_host
from oast import Cause, Outcome, State
from oast.cli.diff_view import show_files
from oast.platforms.file_timer import file_timer

CONFIG = """# The lanterns of the quay, kept by the night desk.
lamp north {
    colour  white;   # since the storm
    height 12;
}

# do not touch: the harbour master's rules
rule fog {
    if (sight < 200 || horn == "on }") { flash [ 3, 5 ]; }   # code
}
lamp south { }
"""
AFTER = CONFIG.replace("colour  white;", "colour red;")


class HostTest(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        super().setUp()
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-host-")))
        self.host = posix_host.Host(folder, CONFIG)
        self.estate_folder = folder / "estate"

    async def open(self, colour: str = "red", timer_s: int = 6, check: str | None = None) -> oast.OpenEstate:
        if not hasattr(self, "port"):
            self.port = await self.host.listen()
            self.addAsyncCleanup(self.host.close)
        files = {
            "oast.toml": f'format = 1\n[connection]\nusername = "{posix_host.USER}"\npassword = {{ secret = "login" }}\n'
            f"[delivery]\nrevert_timer_s = {timer_s}\nverify_timeout_s = 0.1\n",
            "inventory/devices.yaml": f"devices:\n  quay-host: {{address: 127.0.0.1, port: {self.port}, platform: lantern, out_of_band: true}}\n",
            "intent.yaml": "sections:\n  - section: north\n",
            "templates/lantern/north.j2": "{#\nsection: north\nowns: ['lamp north']\n#}\nlamp north {\n  colour COLOUR;\n  height 12;\n}\n".replace(
                "COLOUR", colour
            ),
            "platforms/lantern.toml": self.host.platform + (check or ""),
            "known_hosts": f"quay-host {self.host.trusted}\n",
        }
        if check is not None:
            files["checks/lamps.yaml"] = (
                "checks:\n  - {check: lamp, reading: lamps, where: {name: north}, must_be: {colour: never}}\n"
            )
        for name, text in files.items():
            (self.estate_folder / name).parent.mkdir(parents=True, exist_ok=True)
            (self.estate_folder / name).write_text(text)
        return oast.open(self.estate_folder, {"OAST_SECRET_LOGIN": posix_host.PASSWORD})

    async def push(self, colour: str = "red", **more: object) -> Outcome:
        async with await (await self.open(colour, **more)).compare() as plan:  # type: ignore[arg-type]
            self.assertEqual(plan.failed, ())
            return (await plan.deliver("a test")).outcomes[0]

    def settled(self, text: str) -> None:
        self.assertEqual(self.host.path.read_text(), text)
        self.assertEqual((self.host.folder / "running").read_text(), text)
        self.assertEqual(self.host.leftovers, [])

    async def test_one_word_of_the_file_changes_and_every_other_byte_stays(self) -> None:
        outcome = await self.push()
        self.assertEqual((outcome.state, outcome.cause), (State.DELIVERED, Cause.NONE), outcome)
        self.assertEqual(
            outcome.rollback_method.name if outcome.rollback_method else "",
            "timer that Oast runs on the device",
        )
        self.settled(AFTER)
        async with await (await self.open()).compare() as plan:
            self.assertEqual(plan.different, (), "the second run is empty")

    async def test_a_failed_check_restores_the_original_bytes(self) -> None:
        reading = '[readings.lamps]\ncommand = "echo lamp north"\nbegins = "lamp"\npatterns = { name = "lamp (.*)", colour = "x(.*)" }\n'
        outcome = await self.push(check=reading)
        self.assertEqual((outcome.state, outcome.cause), (State.REVERTED, Cause.CHECKS), outcome)
        self.settled(CONFIG)

    async def test_what_the_daemon_refuses_is_never_put_in_its_place(self) -> None:
        outcome = await self.push("bad")
        self.assertEqual((outcome.state, outcome.cause), (State.UNCHANGED, Cause.FAILED), outcome)
        self.assertIn("line with a bad colour", str(outcome.reason))
        self.settled(CONFIG)

    async def test_a_reload_that_fails_is_rolled_back(self) -> None:
        self.host.refuse = " && cat "
        outcome = await self.push()
        self.assertIn(outcome.state, (State.REVERTED, State.UNCHANGED), outcome)
        self.settled(CONFIG)

    async def test_when_the_confirmation_is_lost_the_timer_of_the_host_restores_the_file(self) -> None:
        estate = await self.open(timer_s=4)
        plan = await estate.compare()
        self.host.refuse = "mv "  # neither confirming nor cancelling gets through
        outcome = (await plan.deliver("a test")).outcomes[0]
        await plan.close()
        self.assertEqual(outcome.state, State.REVERTED, outcome)
        self.host.refuse = ""
        self.assertEqual(self.host.path.read_text(), CONFIG)
        self.assertEqual((self.host.folder / "running").read_text(), CONFIG)

    async def test_an_extended_timer_restores_the_file_later_and_a_timer_that_is_over_is_not_extended(
        self,
    ) -> None:
        path = self.host.path
        commands = file_timer(str(path), f"{path}.new", f"sh {self.host.folder}/reload.sh", None)
        path.with_name(f"{path.name}.new").write_text(AFTER)

        def shell(command: str | None, seconds: int = 1) -> int:
            text = str(command).format(path=commands.beside, token="one", seconds=seconds)  # no password
            return subprocess.run(["/bin/sh", "-c", text], capture_output=True, check=False).returncode

        self.assertNotEqual(shell(commands.extend), 0, "nothing is armed")
        self.assertEqual(shell(commands.apply), 0)
        self.assertEqual(shell(commands.extend, 600), 0)
        await asyncio.sleep(1.2)
        self.assertEqual(path.read_text(), AFTER, "the first timer does nothing any more")
        self.assertEqual(shell(commands.extend, 1), 0)
        async with asyncio.timeout(60):
            while self.host.leftovers != ["lantern.conf.new"]:
                await asyncio.sleep(0.05)
        self.assertEqual(path.read_text(), CONFIG)
        self.assertNotEqual(shell(commands.extend), 0, "it has restored the file")

    async def test_another_timer_is_left_alone(self) -> None:
        process = await asyncio.create_subprocess_exec("sleep", "30")
        saved = self.host.folder / "lantern.conf.before-hers"
        saved.write_text(CONFIG)
        (self.host.folder / "lantern.conf.before-hers.pid").write_text(str(process.pid))
        outcome = await self.push()
        self.assertEqual(outcome.state, State.UNCHANGED, outcome)
        self.assertIn("as hers", str(outcome.reason))
        self.assertEqual(self.host.path.read_text(), CONFIG)
        self.assertTrue(saved.exists())
        process.kill()
        await process.wait()

    async def test_the_platform_of_the_documentation_does_all_this(self) -> None:
        page = (Path(__file__).parent.parent / "docs" / "new-platform.md").read_text()
        described = page.split("```toml platforms/lantern.toml\n")[1].split("```")[0]
        self.assertLess(len(described.splitlines()), 20)
        for said, here in (
            ("/etc/lantern.conf", str(self.host.path)),
            ("lanternd verify", f"sh {self.host.folder}/check.sh"),
            ("systemctl reload lanternd", f"sh {self.host.folder}/reload.sh"),
        ):
            self.assertIn(said, described)
            described = described.replace(said, here)
        with mock.patch.object(posix_host.Host, "platform", described):
            outcome = await self.push()
        self.assertEqual(outcome.state, State.DELIVERED, outcome)
        self.settled(AFTER)

    async def test_the_preview_shows_every_line_of_the_file_that_changes(self) -> None:
        async with await (await self.open()).compare() as plan:
            out = io.StringIO()
            show_files(plan.comparisons, Console(file=out, width=100))
        self.assertEqual(
            [line.strip() for line in out.getvalue().splitlines()],
            [
                f"{self.host.path} on quay-host:",
                "@@ -3 +3 @@",
                "-    colour  white;   # since the storm",
                "+    colour red;   # since the storm",
                "",
            ],
        )

    async def test_there_and_back_is_byte_identical(self) -> None:
        await self.push("red")
        self.assertEqual((await self.push("white")).state, State.DELIVERED)
        self.settled(CONFIG.replace("colour  white;", "colour white;"))


if __name__ == "__main__":
    unittest.main()
