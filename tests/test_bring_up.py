"""A network of many routers comes up from bare in two waves with one command; and what a later wave breaks is found."""

from __future__ import annotations

import os
import tempfile
import unittest
from pathlib import Path

from larkwater import program, simulator_of
from routers import ENVIRONMENT, lay_out

# With OAST_ROUNDS (`make faults`), two hundred.
CORES, EDGES = (20, 180) if os.environ.get("OAST_ROUNDS") else (8, 72)


class BringUpTest(unittest.TestCase):
    def started(self, cores: int, edges: int) -> Path:
        estate = lay_out(
            Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-"))), cores, edges
        )
        simulator = simulator_of(estate, ENVIRONMENT)
        self.addCleanup(simulator.stop)
        simulator.start()
        self.assertEqual(program("devices", "trust", "--yes", cwd=estate, environment=ENVIRONMENT).code, 0)
        return estate

    def test_many_routers_come_up_in_two_waves_with_one_command(self) -> None:
        estate = self.started(CORES, EDGES)
        run = program("push", "-m", "bring up", "--yes", cwd=estate, environment=ENVIRONMENT)
        self.assertEqual(run.code, 0, run.out[-3000:] + run.err[-1000:])
        self.assertIn(f"{CORES + EDGES} devices delivered", run.out)
        run = program("verify", "--wait", "30", cwd=estate, environment=ENVIRONMENT)
        self.assertIn(f"on {CORES + EDGES} devices: all passed", run.out)

    def test_a_neighbour_with_a_wrong_hello_interval_is_not_confirmed(self) -> None:
        estate = self.started(3, 3)
        self.assertEqual(
            program("push", "-m", "bring up", "--yes", cwd=estate, environment=ENVIRONMENT).code, 0
        )
        template = estate / "templates/bine/all.j2"
        template.write_text(
            template.read_text().replace(
                "hello-interval 1", "hello-interval {{ 9 if device.name == 'edge-1' else 1 }}"
            )
        )
        arguments = ("--on", "name=edge-1", "--verify-timeout", "3", "--revert-timer", "30")
        run = program("push", "-m", "hello", "--yes", *arguments, cwd=estate, environment=ENVIRONMENT)
        self.assertEqual(run.code, 5, run.out)
        self.assertRegex(
            run.out, r"edge-1: OSPF neighbor core-[12] on port[12] is full: expected full, found nothing"
        )
        self.assertRegex(
            program("diff", "--on", "role=core", cwd=estate, environment=ENVIRONMENT).out,
            r"(?m)^\d+ devices? in sync$",
        )
