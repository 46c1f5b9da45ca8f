"""A healthy network raises no alarm, however its intent is and whatever it has been through: as many seeds as are asked for.

`make faults` takes fifty; OAST_SEEDS=5 python -m unittest test_healthy (in tests/) as many, OAST_SEED=N from another seed. Without a word it
is left out: the network of test_misconfigured is a healthy one at first, too.
"""

from __future__ import annotations

import os
import random
import unittest

from larkwater import LarkwaterTest

SEEDS = int(os.environ.get("OAST_SEEDS", "0"))
SEED = int(os.environ.get("OAST_SEED", "4711"))


@unittest.skipUnless(SEEDS, "for make faults")
class HealthyTest(LarkwaterTest):
    whole = True

    def test_nothing_that_is_right_is_told_as_wrong(self) -> None:
        self.edit("oast.toml", "neighbor_hops = 0", "neighbor_hops = 1")
        devices = list(self.oast("devices", "--format", "json").json()["devices"])
        names = [device["name"] for device in devices]
        for seed in range(SEED, SEED + SEEDS):
            with self.subTest(seed=seed):
                self.round(random.Random(seed), names)

    def round(self, chance: random.Random, names: list[str]) -> None:
        """Another intent is delivered, devices restart and cables are pulled and put back: after that, all is as it should be."""
        costs = {role: chance.choice((1, 5, 10, 40, 200)) for role in ("core", "border", "edge")}
        shut = chance.choice(("sandpiper", "dunlin", "plover"))
        rules = "".join(
            f"  - on: role={role}\n    values: {{link_cost: {cost}}}\n" for role, cost in costs.items()
        )
        announced = chance.choice(("[203.0.113.0/24, '2001:db8:ff::/48']", "[203.0.113.0/24]"))
        (self.estate / "values/zz-chance.yaml").write_text(
            f"everywhere:\n  contact: desk {chance.randrange(1000)}\n  trap_receivers: [192.0.2.60, 192.0.2.{chance.randrange(62, 70)}]\n"
            f"rules:\n{rules}  - on: role=border\n    values: {{announced: {announced}}}\n"
            f"  - on: role=distribution and name=*-dist-1\n    values: {{gateway_priority: {chance.choice((110, 120, 250))}}}\n"
            f"  - on: site={shut} and role=access\n    values: {{location: {chance.choice(('pier', 'quay, shed 2'))}}}\n"
        )
        self.oast(
            "push",
            "-m",
            "by chance",
            "--one-wave",
            "--yes",
            "--allow-removals",
            "--expect",
            "bgp-neighbors",
            "--expect",
            "routes",
        )
        for name in chance.sample(names, 3):
            self.fault(name, "restart")
        ends = chance.choice((("gull-core-1", "port2"), ("heron-core-1", "port1"), ("gull-dist-1", "port3")))
        self.simulator.ask({"do": "fault", "device": ends[0], "kind": "cut", "match": ends[1]})
        self.simulator.ask({"do": "fault", "device": ends[0], "kind": "mend", "match": ends[1]})
        run = self.oast("verify", "--wait", "60", "-q", expect=None)
        self.assertEqual((run.code, run.out.count("not true")), (0, 0), run.out + run.err)
        drift = self.oast("drift", expect=None)
        self.assertEqual(drift.code, 0, drift.out + drift.err)
        self.assertIn("no drift: 24 devices as delivered", drift.out)


if __name__ == "__main__":
    unittest.main()
