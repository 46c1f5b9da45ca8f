"""Management access: what the inventory states of it, and addresses that move, through the real program and the simulator."""

from __future__ import annotations

import json
import os
import signal
import tempfile
import unittest
from contextlib import suppress
from pathlib import Path
from unittest import mock

from larkwater import Run, program, simulator_of
from oast.operations.lint import lint_estate

PASSWORDS = {"OAST_SECRET_LOGIN": "reed-and-sedge"}
BINE = """{#
section: all
owns: ["interface manage0", "interface loop0"]
#}
{% if device.address != "203.0.113.9" %}
interface manage0
  ipv4
    address {{ device.address if not typo else "192.0.2.99" }}/24
{% endif %}
interface loop0
  ipv4
    address 203.0.113.9/32
"""
ROUNDEL = """{#
section: all
owns: ["interfaces/interface manage0/ipv4"]
#}
/interfaces/interface[name=manage0]/ipv4/address[ip={{ device.address }}]/prefix-length = 24
"""
FILES = {
    "oast.toml": """format = 1
[connection]
username = "oast"
password = { secret = "login" }
privilege_password = { secret = "login" }
simulated = true
command_timeout_s = 2
connect_timeout_s = 4
retries = 0
[delivery]
revert_timer_s = 12
verify_timeout_s = 2
""",
    "inventory/devices.yaml": """devices:
  hub:
    address: 192.0.2.1
    platform: bine
  border:
    address: 192.0.2.2
    platform: roundel
""",
    "network.yaml": """format: 1
accounts: [{name: oast, role: administrator, password: login}]
privilege-password: login
defaults: {ports: [manage0, port1]}
devices:
  hub: {system: bine, management: 192.0.2.1, alternate: 203.0.113.9, startup: startup/hub.txt}
  border: {system: roundel, management: 192.0.2.2, startup: startup/border.txt}
""",
    "startup/hub.txt": "interface manage0\n  ipv4\n    address 192.0.2.1/24\ninterface loop0\n  ipv4\n    address 203.0.113.9/32\n",
    "startup/border.txt": "/interfaces/interface[name=manage0]/type = roundel-if-type:ethernet\n"
    "/interfaces/interface[name=manage0]/ipv4/address[ip=192.0.2.2]/prefix-length = 24\n",
    "intent.yaml": "sections:\n  - section: all\n",
    "values/all.yaml": "everywhere: {typo: false}\n",
    "templates/bine/all.j2": BINE,
    "templates/roundel/all.j2": ROUNDEL,
}


class InventoryTest(unittest.TestCase):
    def error(self, attributes: str) -> str:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        files = {
            **FILES,
            "inventory/devices.yaml": f"devices:\n  hub: {{address: 192.0.2.1, platform: bine, {attributes}}}\n",
        }
        for file, text in files.items():
            (folder / file).parent.mkdir(parents=True, exist_ok=True)
            (folder / file).write_text(text)
        found = lint_estate(folder, PASSWORDS).problems
        return "; ".join(f"{problem.place}: {problem.message}" for problem in found)

    def test_what_contradicts_itself_is_an_error_at_its_line(self) -> None:
        for attributes, told in (
            ("alternate_address: 192.0.2.1", "'alternate_address' is the device's own address 192.0.2.1"),
            (
                "alternate_address: '192.0.2.1:22', port: 22",
                "'alternate_address' is the device's own address 192.0.2.1",
            ),
            ("alternate_address: '192.0.2.1:99999'", "'99999' is not a port"),
            ("alternate_address: 999.1.1.1", "'999.1.1.1' is not an address"),
            ("alternate_address: ''", "'' is not an address"),
            ("alternate_interface: loop0", "'alternate_interface' has no 'alternate_address'"),
            ("previous_address: 192.0.2.1", "'previous_address' is the device's address 192.0.2.1"),
            ("previous_address: 17", "'previous_address' must be an IP address or host name"),
            ("out_of_band: maybe", "'out_of_band' must be true or false"),
            (
                "out_of_band: true, management_interface: manage0",
                "'management_interface' and 'out_of_band: true' contradict each other",
            ),
            (
                "alternate_address: 203.0.113.9, alternate_interface: manage0, management_interface: manage0",
                "'alternate_interface' and 'management_interface' are both manage0",
            ),
        ):
            with self.subTest(attributes=attributes):
                self.assertIn(f"inventory/devices.yaml:2: {told}", self.error(attributes))

    def test_what_is_right_is_no_error(self) -> None:
        for attributes in (
            "alternate_address: '203.0.113.9:2222'",
            "alternate_address: '[2001:db8::1]:22'",
            "alternate_address: 203.0.113.9, out_of_band: true",
        ):
            self.assertEqual(self.error(attributes), "")

    def test_an_alternate_address_on_the_same_interface_is_found_without_a_device(self) -> None:
        template = BINE.replace("interface loop0\n  ipv4\n", "").replace("    address 203", "    address 203")
        with mock.patch.dict(
            FILES, {"templates/bine/all.j2": template.replace("{% endif %}\n", "") + "{% endif %}\n"}
        ):
            told = self.error("alternate_address: 203.0.113.9")
        self.assertIn(
            "inventory/devices.yaml:2: the alternate management address 203.0.113.9 and 192.0.2.1",
            told,
        )


class MoveTest(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        self.estate = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        for file, text in FILES.items():
            (self.estate / file).parent.mkdir(parents=True, exist_ok=True)
            (self.estate / file).write_text(text)
        self.simulator = simulator_of(self.estate, PASSWORDS)
        self.addCleanup(self.simulator.stop)
        self.simulator.start()
        self.oast("devices", "trust", "--yes")
        self.assertEqual(self.oast("diff", "-q").out, "2 devices in sync\n")

    def oast(self, *arguments: str, expect: int = 0) -> Run:
        run = program(*arguments, cwd=self.estate, environment=PASSWORDS)
        self.assertEqual(run.code, expect, run.out + run.err)
        return run

    def readdress(self, old: str, new: str) -> None:
        path = self.estate / "inventory/devices.yaml"
        path.write_text(path.read_text().replace(f"address: {old}\n", f"address: {new}\n", 1))

    def test_addresses_move_and_are_confirmed_from_the_new_ones(self) -> None:
        self.readdress("192.0.2.1", "192.0.2.101\n    previous_address: 192.0.2.1")
        self.readdress("192.0.2.2", "192.0.2.102\n    previous_address: 192.0.2.2")
        shown = self.oast("push", "-m", "renumber", "--yes", "-q").out
        for device, n in (("hub", 1), ("border", 2)):
            self.assertIn(
                f"{device} gives up its management address 192.0.2.{n}: Oast reconnects at its new management address 192.0.2.10{n}",
                shown,
            )
            self.assertIn(
                f"{device} now answers at 192.0.2.10{n}: remove previous_address from inventory/devices.yaml:",
                shown,
            )
        self.assertIn("2 devices delivered", shown)
        for n in (1, 2):
            self.readdress(f"192.0.2.10{n}\n    previous_address: 192.0.2.{n}", f"192.0.2.10{n}")
        self.assertEqual(self.oast("diff", "-q").out, "2 devices in sync\n")
        self.simulator.stop()
        self.simulator.start()
        self.assertEqual(self.oast("diff", "-q").out, "2 devices in sync\n", "it was saved")

    def test_a_device_that_does_not_answer_at_the_new_address_rolls_back_to_the_previous_one(self) -> None:
        self.readdress("192.0.2.1", "192.0.2.101\n    previous_address: 192.0.2.1")
        shown = self.oast(
            "push", "-m", "renumber", "--with", "typo=true", "--on", "name=hub", "--yes", "-q", expect=5
        ).out
        self.assertIn(
            "hub gives up its management address 192.0.2.1 and no other is known: it will be rolled back",
            shown,
        )
        self.assertIn("1 device rolled back (checks failed)", shown)
        self.oast("push", "-m", "renumber", "--on", "name=hub", "--yes", "-q")

    def test_a_management_address_is_given_up_for_the_alternate_one(self) -> None:
        self.readdress("192.0.2.1", "203.0.113.9\n    previous_address: 192.0.2.1")
        shown = self.oast(
            "push", "-m", "no port of its own any more", "--on", "name=hub", "--allow-removals", "--yes", "-q"
        ).out
        self.assertIn("1 device delivered", shown)
        self.assertEqual(self.oast("diff", "-q", "--on", "name=hub").out, "1 device in sync\n")

    def test_it_is_confirmed_at_the_alternate_address_where_that_is_all_that_remains(self) -> None:
        self.readdress("192.0.2.1", "192.0.2.1\n    alternate_address: 203.0.113.9")
        (self.estate / "templates/bine/all.j2").write_text(
            BINE.replace('!= "203.0.113.9"', '== "203.0.113.9"')
        )
        shown = self.oast(
            "push", "-m", "gives it up", "--on", "name=hub", "--allow-removals", "--yes", "-q"
        ).out
        self.assertIn(
            "Oast reconnects at its alternate management address 203.0.113.9 and confirms from there", shown
        )
        self.assertIn("1 device delivered", shown)

    def test_killed_and_started_again_the_devices_listen_where_they_did(self) -> None:
        listening = self.estate / ".oast/sim/listening.json"
        before = json.loads(listening.read_text())
        os.kill(before["process"], signal.SIGKILL)
        with suppress(ChildProcessError):
            os.waitpid(before["process"], 0)
        self.simulator.start()
        self.assertEqual(json.loads(listening.read_text())["devices"], before["devices"])


if __name__ == "__main__":
    unittest.main()
