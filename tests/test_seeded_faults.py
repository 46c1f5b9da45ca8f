"""Devices of all systems, each with a fault of its own by chance: whatever is reported of one is what it runs.

OAST_FAULTS=200 python -m unittest test_seeded_faults (in tests/) tries as many.
"""

from __future__ import annotations

import os
import random
import re
import tempfile
import unittest
from pathlib import Path

import roundels
from hostile import COWL_STARTUP, COWL_TEMPLATE, PASSWORDS, STARTUP, TEMPLATE
from larkwater import Run, program, simulator_of
from oast.config.tree import Node
from trees import cowl_tree_of, tree_of

# A roundel that is told by XML and by paths what the others are told.
ROUNDEL_TEMPLATE = """{#
section: all
owns: [system/contact, system/ntp, "snmp/community *", acls/acl gate, interfaces/interface port1/description, interfaces/interface port1/enabled]
#}
/system/contact = desk-{{ round }}
/system/ntp/server[name=a]/udp/address = 192.0.2.1
/snmp/community[index=read]/text-name = {{ read }}
/snmp/community[index=read]/security-name = {{ read }}
/acls/acl[name=gate]/aces/ace[name=first]/actions/forwarding = accept
/acls/acl[name=gate]/aces/ace[name=first]/matches/ipv4/source-ipv4-network = 198.51.100.0/24
/acls/acl[name=gate]/aces/ace[name=last]/actions/forwarding = drop
/interfaces/interface[name=port1]/description = "round {{ round }}"
/interfaces/interface[name=port1]/enabled = false
"""
ROUNDEL_STARTUP = """/system/hostname = {name}
/system/contact = before
/system/ntp/server[name=b]/udp/address = 192.0.2.9
/acls/acl[name=gate]/aces/ace[name=last]/actions/forwarding = ietf-access-control-list:accept
/interfaces/interface[name=manage0]/type = roundel-if-type:ethernet
/interfaces/interface[name=manage0]/ipv4/address[ip=192.0.2.7]/prefix-length = 24
/interfaces/interface[name=port1]/type = roundel-if-type:ethernet
/interfaces/interface[name=port1]/description = before
/interfaces/interface[name=port1]/enabled = false
"""
STARTUPS = {"bine": STARTUP, "cowl": COWL_STARTUP, "roundel": ROUNDEL_STARTUP}
FAULTS = int(os.environ.get("OAST_FAULTS", "8"))
TOGETHER = 20
KINDS = (
    "down", "hang", "drop", "slow", "refuse", "untrue", "full", "forgets",
    "busy", "log", "prompt", "long", "bytes", "halves", "banner", "none",
)  # fmt: skip
LINES = (
    "server",
    "contact",
    "community",
    "gate",
    "revert-timer arm",
    "revert-timer confirm",
    "save",
    "commit",
    "confirm",
    "persist-id",
    "edit-config",
    "lock",
    "running",
    "",
)
SETTINGS = """format = 1
[connection]
username = "oast"
password = { secret = "login" }
privilege_password = { secret = "privilege" }
simulated = true
command_timeout_s = 3
connect_timeout_s = 20
max_answer_s = 10
retries = 0
[delivery]
revert_timer_s = 16
verify_timeout_s = 1
max_failures = 1000
"""


class Piers(unittest.TestCase):
    """Devices of all systems that have nothing to do with each other."""

    def setUp(self) -> None:
        super().setUp()
        self.estate = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))

    def lay_out(self, number: int) -> dict[str, str]:
        """An estate of `number` devices that have nothing to do with each other; their systems by name."""
        systems = {f"pier-{n}": tuple(STARTUPS)[n % len(STARTUPS)] for n in range(1, number + 1)}
        inventory, network = (
            "devices:\n",
            "format: 1\naccounts:\n  - {name: oast, password: login}\nprivilege-password: privilege\ndevices:\n",
        )
        for n, (name, system) in enumerate(systems.items(), 1):
            startup = STARTUPS[system].format(name=name).replace("192.0.2.7", f"192.0.2.{n}")
            self.write(f"startup/{name}.txt", startup)
            inventory += f"  {name}: {{address: 192.0.2.{n}, platform: {system}}}\n"
            network += f"  {name}: {{system: {system}, management: 192.0.2.{n}, startup: startup/{name}.txt, ports: [manage0, port1]}}\n"
        for file, text in (
            ("oast.toml", SETTINGS),
            ("inventory/devices.yaml", inventory),
            ("network.yaml", network),
            ("values/all.yaml", "everywhere:\n  round: 1\n  read: {secret: read}\n"),
            ("intent.yaml", "sections:\n  - section: all\n"),
            ("templates/bine/all.j2", TEMPLATE),
            ("templates/cowl/all.j2", COWL_TEMPLATE),
            ("templates/roundel/all.j2", ROUNDEL_TEMPLATE),
        ):
            self.write(file, text)
        return systems

    def write(self, file: str, text: str) -> None:
        path = self.estate / file
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)

    def oast(self, *arguments: str, stdin: str = "") -> Run:
        run = program(*arguments, cwd=self.estate, environment=PASSWORDS, stdin=stdin)
        self.assertNotIn("fault of Oast", run.err + run.out)
        self.assertNotIn("Traceback", run.err)
        return run

    def running(self, name: str, system: str) -> str:
        first, last = (
            ("session page-length 0", "read running") if system == "bine" else ("page off", "list running")
        )
        said = self.oast("sim", "console", name, stdin=f"{first}\n{last}\nleave\n").out
        return (
            said.partition(f"{last}\n")[2].rpartition("\n")[0].rpartition("leave")[0].rpartition("\n")[0]
            + "\n"
        )

    def tree(self, name: str, system: str) -> Node:
        if system == "roundel":
            # It has no command line; what it runs stands on its own disk.
            return roundels.tree_of(
                (self.estate / ".oast" / "sim" / "devices" / name / "running").read_text()
            )
        text = self.running(name, system)
        return tree_of(text) if system == "bine" else cowl_tree_of(text)


class SeededTest(Piers):
    def run_with(self, number: int, seed: int) -> None:
        chance = random.Random(seed)
        systems = self.lay_out(number)
        simulator = simulator_of(self.estate, PASSWORDS)
        simulator.start()
        try:
            self.oast("devices", "trust", "--yes")
            before = {name: self.tree(name, system) for name, system in systems.items()}
            faults = {}
            for name in systems:
                faults[name] = (
                    chance.choice(KINDS),
                    chance.choice(LINES),
                    chance.randrange(6),
                    chance.randrange(1000),
                )
                kind, match, after, own = faults[name]
                options = (
                    "--match",
                    match or "no such line" if kind in ("refuse", "untrue") else match,
                    "--after",
                    str(after),
                    "--seed",
                    str(own),
                )
                self.oast("sim", "fault", name, kind, *options, "--seconds", "0.3")
            run = self.oast("push", "-m", "through", "--yes", "--format", "json", "--one-wave")
            self.assertIn(run.code, (0, 4, 5), run.err)
            told = {d["device"]: d for d in run.json()["devices"]}
            self.assertEqual(set(told), set(systems))
            for name in systems:
                self.oast("sim", "fault", name, "none")
            for name, system in systems.items():
                with self.subTest(
                    seed=seed,
                    device=name,
                    system=system,
                    fault=faults[name],
                    told=told[name]["state"],
                    reason=told[name]["reason"],
                ):
                    self.judge(told[name], self.tree(name, system), before[name])
        finally:
            simulator.stop()

    def judge(self, told: dict[str, str], now: Node, before: Node) -> None:
        delivered = any(re.search("contact desk-1", node.text) for _, node in now.walk())
        if told["state"] == "delivered":
            self.assertTrue(delivered)
            self.assertNotEqual(now, before)
        elif told["state"] in ("unchanged", "reverted"):
            self.assertEqual(now, before)
        else:
            self.assertEqual(told["state"], "unknown")
            self.assertTrue(told["reason"])

    def test_what_is_reported_is_what_devices_run(self) -> None:
        for first in range(0, FAULTS, TOGETHER):
            with tempfile.TemporaryDirectory(prefix="oast-test-") as folder:
                self.estate = Path(folder)
                self.run_with(min(TOGETHER, FAULTS - first), 4100 + first)
