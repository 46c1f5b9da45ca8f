"""Three roundels in a ring, delivered to by the real program."""

from __future__ import annotations

import json
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

from larkwater import Run, program, simulator_of
from netconf_client import Client

ESTATE = Path(__file__).parent / "data" / "estates" / "wharf"
QUICK = ("--revert-timer", "15", "--verify-timeout", "5")


class ProgramTest(unittest.TestCase):
    """Three routers in a ring, delivered to by the real program."""

    without: tuple[str, ...] = ()

    def setUp(self) -> None:
        super().setUp()
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        self.estate = folder / "wharf"
        shutil.copytree(ESTATE, self.estate)
        if self.without:
            self.edit("network.yaml", "defaults: {", f"defaults: {{without: [{', '.join(self.without)}], ")
        self.environment = {"OAST_SECRET_LOGIN": "reed-and-sedge"}
        self.simulator = simulator_of(self.estate, self.environment)
        self.addCleanup(self.simulator.stop)
        self.simulator.start()
        self.oast("devices", "trust", "--yes")

    def oast(self, *arguments: str, expect: int | None = 0) -> Run:
        run = program(*arguments, cwd=self.estate, environment=self.environment)
        self.assertNotIn("fault of Oast", run.err + run.out)
        self.assertNotIn("Traceback", run.err)
        if expect is not None:
            self.assertEqual(run.code, expect, run.out + run.err)
        return run

    def push(self, *arguments: str, expect: int = 0) -> dict[str, dict[str, Any]]:
        run = self.oast("push", "-m", "a reason", "--yes", "--format", "json", *arguments, expect=expect)
        return {device["device"]: device for device in run.json()["devices"]}

    def kept(self, device: str, file: str = "running") -> str:
        """What the device itself has on its disk."""
        return (self.estate / ".oast" / "sim" / "devices" / device / file).read_text()

    def client(self, device: str) -> Client:
        """A session of somebody else."""
        where = json.loads((self.estate / ".oast" / "sim" / "listening.json").read_text())["devices"][device]
        return Client(where["host"], where["port"], "oast", "reed-and-sedge")

    def edit(self, file: str, old: str, new: str) -> None:
        path = self.estate / file
        self.assertIn(old, path.read_text())
        path.write_text(path.read_text().replace(old, new))
