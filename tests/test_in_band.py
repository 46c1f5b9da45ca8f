"""Devices that are reached through the network itself: what breaks the path of a session really ends it, whoever has broken it."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

from larkwater import Run, program, simulator_of

PASSWORDS = {"OAST_SECRET_LOGIN": "reed-and-sedge"}
FILES = {
    "oast.toml": """format = 1
[connection]
username = "oast"
password = { secret = "login" }
privilege_password = { secret = "login" }
simulated = true
command_timeout_s = 4
connect_timeout_s = 4
retries = 0
[delivery]
revert_timer_s = 12
verify_timeout_s = 2
""",
    "inventory/devices.yaml": """devices:
  near: {address: 203.0.113.1, platform: bine}
  far: {address: 203.0.113.2, platform: cowl}
""",
    "network.yaml": """format: 1
accounts: [{name: oast, role: administrator, password: login}]
privilege-password: login
defaults: {station: desk, ports: [port1, port2]}
devices:
  near: {system: bine, management: 203.0.113.1, startup: startup/near.txt}
  far: {system: cowl, management: 203.0.113.2, startup: startup/far.txt}
links: [[near port2, far port1]]
outside:
  desk: {at: near port1, addresses: [192.0.2.10/24], gateways: [192.0.2.1]}
""",
    "startup/near.txt": """system
  hostname near
acl open
  ace accept ip
interface loop0
  ipv4
    address 203.0.113.1/32
interface port1
  ipv4
    address 192.0.2.1/24
interface port2
  ingress-acl open
  ipv4
    address 198.51.100.1/30
static-route 203.0.113.2/32
  next-hop 198.51.100.2
""",
    "startup/far.txt": """/system/hostname = far
/interfaces/interface[name=loop0]/ipv4/address[ip=203.0.113.2]/prefix-length = 32
/interfaces/interface[name=port1]/ipv4/address[ip=198.51.100.2]/prefix-length = 30
/routing/static-route[destination-prefix=0.0.0.0/0]/next-hop = 198.51.100.1
""",
    "intent.yaml": "sections:\n  - section: all\n",
    "values/all.yaml": "everywhere: {hop: 198.51.100.1, port: 22}\n",
    "templates/bine/all.j2": """{#
section: all
owns: [acl open]
#}
acl open
{% if port != 22 %}
  ace drop tcp source-port {{ port }}
{% endif %}
  ace accept ip
""",
    "templates/cowl/all.j2": """{#
section: all
owns: [routing, system/contact]
#}
/system/contact = desk
/routing/static-route[destination-prefix=0.0.0.0/0]/next-hop = {{ hop }}
""",
}


class InBandTest(unittest.TestCase):
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

    def oast(self, *arguments: str, expect: int = 0, stdin: str = "") -> Run:
        run = program(*arguments, cwd=self.estate, environment=PASSWORDS, stdin=stdin)
        self.assertEqual(run.code, expect, run.out + run.err)
        return run

    def push(self, *arguments: str, expect: int = 0) -> dict[str, dict[str, str]]:
        run = self.oast("push", "-m", "why", "--yes", "--format", "json", *arguments, expect=expect)
        return {d["device"]: d for d in run.json()["devices"]}

    def reachable(self) -> dict[str, bool]:
        status = json.loads(self.oast("sim", "status", "--format", "json").out)
        return {name: device["reachable"] for name, device in status["devices"].items()}

    def test_sessions_come_in_through_other_devices(self) -> None:
        self.assertEqual(self.push()["far"]["state"], "delivered")
        self.assertIn(
            "/system/contact = desk", self.oast("sim", "console", "far", stdin="list running\nleave\n").out
        )

    def test_a_route_to_nowhere_ends_the_session_and_goes_back(self) -> None:
        found = self.push("--on", "name=far", "--with", "hop=198.51.100.3", expect=5)
        self.assertEqual(found["far"]["state"], "reverted")
        self.assertIn("cut off management access", found["far"]["reason"])
        self.assertEqual(self.reachable(), {"near": True, "far": True})
        self.assertNotIn("contact", self.oast("sim", "console", "far", stdin="list running\nleave\n").out)

    def test_what_another_device_drops_does_not_come_in(self) -> None:
        """A filter on one device cuts off another: it cannot be reached, and says so, until the filter goes."""
        self.push("--on", "name=far")
        self.push("--on", "name=near", "--with", "port=179")
        self.assertEqual(self.reachable(), {"near": True, "far": True})
        self.oast(
            "sim",
            "console",
            "near",
            stdin="raise\nreed-and-sedge\nedit\nacl open\n  remove ace accept ip\nclose\nleave\n",
        )
        self.assertEqual(self.reachable(), {"near": True, "far": False})
        self.assertIn("far", self.oast("diff", "--on", "name=far", expect=4).err)
        self.push("--on", "name=near")
        self.assertEqual(self.reachable(), {"near": True, "far": True})

    def test_a_cable_that_is_cut_takes_along_who_is_behind_it(self) -> None:
        self.oast("sim", "fault", "near", "cut", "--match", "port2")
        self.assertEqual(self.reachable(), {"near": True, "far": False})
        self.oast("sim", "fault", "near", "mend", "--match", "port2")
        self.assertEqual(self.reachable(), {"near": True, "far": True})


if __name__ == "__main__":
    unittest.main()
