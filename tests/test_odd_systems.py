"""Two systems that nobody ever built, each described in one file and no code: found out about, delivered to, disturbed by chance.

OAST_FAULTS=80 python -m unittest test_odd_systems (in tests/) disturbs as many devices.
"""

from __future__ import annotations

import copy
import os
import random
import shutil
import tempfile
import unittest
from pathlib import Path

from larkwater import Run, program
from odd_devices import Dotterel
from odd_servers import PASSWORD, Petrel, Server, Trouble, running

PLATFORMS = Path(__file__).parent / "data" / "platforms"
ENVIRONMENT = {"OAST_SECRET_LOGIN": PASSWORD, "OAST_SECRET_KEY": "kelp-and-foam"}
FAULTS = int(os.environ.get("OAST_FAULTS", "6"))
KINDS = ("refuse", "untrue", "drop", "hang", "slow", "garble", "cut", "none")
FILE = """name pier;
link quay/1 {
    text old;
    address 192.0.2.2/24;
}
link quay/2 {
    closed;
}
peer 192.0.2.9 {
    as 64500;
}
"""
LINES = (
    "name pier",
    "watch kelp",
    "port quay/1 text old",
    "port quay/1 size 9000",
    "port quay/2 text gone",
    "peer 192.0.2.9 as 70",
)
SETTINGS = """format = 1
[connection]
username = "oast"
password = { secret = "login" }
command_timeout_s = 2
connect_timeout_s = 20
max_answer_s = 8
retries = 0
[delivery]
revert_timer_s = 9
verify_timeout_s = 1
max_failures = 1000
"""
TEMPLATES = {
    "petrel": """{#
section: all
owns: [link *, ospf]
#}
link quay/1 {
    text "{{ text }}";
    size 9000;
    address 192.0.2.2/24;
}
link quay/3 {
    address 198.51.100.1/30;
}
ospf {
    network 192.0.2.0/24 in 0.0.0.0;
    quiet quay/3;
}
""",
    "dotterel": """{#
section: all
owns: [port *, resolver]
#}
resolver { server [ 192.0.2.1 192.0.2.2 ]; }
port quay/1 { text "{{ text }}"; size 9000; }
port quay/3 { text new; }
""",
}


class OddTest(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        self.loop = self.enterContext(running())
        self.estate = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))

    def lay_out(self, number: int) -> dict[str, Server]:
        """An estate of `number` devices, every other one a petrel."""
        servers = {}
        inventory = "devices:\n"
        for n in range(1, number + 1):
            name, platform = f"pier-{n}", "petrel" if n % 2 else "dotterel"
            servers[name] = Server(Petrel(FILE) if n % 2 else Dotterel(*LINES), self.loop)
            self.addCleanup(servers[name].close)
            inventory += f"  {name}: {{address: 127.0.0.1, port: {servers[name].port}, platform: {platform}, out_of_band: true}}\n"
        files = {
            "oast.toml": SETTINGS,
            "inventory/devices.yaml": inventory,
            "values/all.yaml": "everywhere: {text: to the pier}\n",
        }
        files["intent.yaml"] = "sections:\n  - section: all\n"
        for platform, text in TEMPLATES.items() if number > 1 else [("petrel", TEMPLATES["petrel"])]:
            files[f"templates/{platform}/all.j2"] = text
            (self.estate / "platforms").mkdir(exist_ok=True)
            shutil.copy(PLATFORMS / f"{platform}.toml", self.estate / "platforms")
        for file, text in files.items():
            (self.estate / file).parent.mkdir(parents=True, exist_ok=True)
            (self.estate / file).write_text(text)
        self.oast("devices", "trust", "--yes")
        return servers

    def oast(self, *arguments: str, expect: int | None = 0) -> Run:
        run = program(*arguments, cwd=self.estate, environment=ENVIRONMENT)
        self.assertNotIn("fault of Oast", run.err + run.out)
        self.assertNotIn("Traceback", run.err)
        if expect is not None:
            self.assertEqual(run.code, expect, run.out + run.err)
        return run

    def truth(self, server: Server) -> object:
        device = server.device
        # What a dotterel has is known by what it holds: lines that came back stand elsewhere.
        return server.ask(lambda: device.truth if isinstance(device, Petrel) else copy.deepcopy(device.tree))

    # --- from the file alone ------------------------------------------------------------------------------------------

    def test_both_are_compared_delivered_to_and_then_as_intended(self) -> None:
        servers = self.lay_out(2)
        self.oast("lint")
        self.oast("diff", expect=1)
        run = self.oast("push", "-m", "first", "--yes")
        self.assertIn("rollback: file with a daemon timer (pier-1)", run.out)
        self.assertIn("2 devices delivered", run.out)
        running_, file = self.truth(servers["pier-1"])  # type: ignore[misc]
        self.assertEqual(running_, file)
        for line in (
            "    network 192.0.2.0/24 in 0.0.0.0;\n",
            '    text "to the pier";\n',
            "peer 192.0.2.9 {\n",
        ):
            self.assertIn(line, running_)
        self.assertNotIn("quay/2", running_)
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")
        # OSPF by networks: what lies in one takes part, but for what is quiet.
        self.assertRegex(self.oast("verify", "-v").out, r"pier-1 +interface quay/1 is up +up +up")

    def test_a_command_line_without_a_session_is_tried_step_by_step(self) -> None:
        self.lay_out(1)
        shown = self.oast("platform", "try", "petrel", "--on", "name=pier-1").out
        for step in (
            "connect, log in, and get ready for commands: logged in",
            "read running: petrel show: 8 lines, 8 understood",
            "read startup: cat /etc/petrel.conf: 8 lines, 8 understood",
            "check for a pending file: petrel state: none pending",
            "reading interfaces: petrel links: 2 records; the first: name quay/1, oper-status up, ipv4-address 192.0.2.2/24",
            "reading ospf-neighbors: petrel neighbours: 1 record; the first: interface quay/1, address 192.0.2.1, state full",
        ):
            self.assertIn(f"yes  {step}", shown)

    def test_what_is_refused_is_told_with_its_own_words(self) -> None:
        servers = self.lay_out(1)
        template = self.estate / "templates" / "petrel" / "all.j2"
        template.write_text(
            template.read_text()
            .replace("owns: [", "owns: [name, ")
            .replace("link quay/1", "name of-late;\nlink quay/1", 1)
        )
        platform = self.estate / "platforms" / "petrel.toml"
        platform.write_text(
            platform.read_text().replace(
                '"link/text" = {', '"link/words" = { kind = "leaf", takes = "text" }\n"link/text" = {'
            )
        )
        template.write_text(template.read_text().replace("size 9000;", "words here;"))
        before = self.truth(servers["pier-1"])
        run = self.oast("push", "-m", "no", "--yes", expect=4)
        self.assertIn("the device rejected 'petrel check /etc/petrel.new': what is 'words here'?", run.out)
        self.assertEqual(self.truth(servers["pier-1"]), before)
        servers["pier-1"].trouble = Trouble("cut", 1)
        self.assertIn("without an exit status", self.oast("diff", expect=4).err)

    def test_what_does_not_go_with_commands_that_are_run_by_themselves_is_told_at_its_line(self) -> None:
        self.lay_out(1)
        platform = self.estate / "platforms" / "petrel.toml"
        text = platform.read_text()
        for old, new, told in (
            (
                "one_shot = true",
                "one_shot = true\nprompts = { all = '> ' }",
                "'prompts' and 'one_shot' exclude each other",
            ),
            (
                "one_shot = true",
                'one_shot = true\nprepare = "hush"',
                "'prepare' and 'one_shot' exclude each other",
            ),
            (
                'startup = "cat /etc/petrel.conf"',
                'startup = "cat /etc/petrel.conf"\nenter = "edit"',
                "'enter' and 'one_shot' exclude each other",
            ),
            ("one_shot = true", 'one_shot = "yes"', "'one_shot' must be true or false"),
            ("one_shot = true", "one_sot = true", "unknown key 'one_sot' in [session]"),
        ):
            with self.subTest(new=new):
                platform.write_text(text.replace(old, new, 1))
                line = text.replace(old, new, 1)[: text.index(old) + len(new)].count("\n") + 1
                self.assertIn(f"platforms/petrel.toml:{line}: {told}", self.oast("lint", expect=3).out)

    # --- disturbed ----------------------------------------------------------------------------------------------------

    def test_what_is_reported_is_what_devices_run(self) -> None:
        chance = random.Random(52)
        servers = self.lay_out(FAULTS)
        before = {name: self.truth(server) for name, server in servers.items()}
        for server in servers.values():
            server.trouble = Trouble(
                chance.choice(KINDS), chance.randrange(1, 16), chance.random() < 0.3, chance.randrange(1000)
            )
        run = self.oast(
            "push",
            "-m",
            "through",
            "--yes",
            "--format",
            "json",
            "--one-wave",
            "--parallel",
            "100",
            expect=None,
        )
        self.assertIn(run.code, (0, 4, 5), run.err)
        told = {one["device"]: one for one in run.json()["devices"]}
        self.assertEqual(set(told), set(servers))
        for name, server in servers.items():
            now, state = self.truth(server), told[name]["state"]
            with self.subTest(device=name, trouble=server.trouble, told=state, reason=told[name]["reason"]):
                if state == "delivered":
                    self.assertIn("to the pier", str(now))
                    self.assertNotEqual(now, before[name])
                elif state in ("unchanged", "reverted"):
                    self.assertEqual(now, before[name])
                else:
                    self.assertEqual(state, "unknown")
                    self.assertTrue(told[name]["reason"])


if __name__ == "__main__":
    unittest.main()
