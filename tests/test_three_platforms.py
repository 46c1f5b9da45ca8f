"""The same intent in three templates gives the same network, whichever platform each device is of: the readings are equal."""

from __future__ import annotations

import asyncio
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

import oast
from larkwater import program, simulator_of

ESTATE = Path(__file__).parent / "data" / "estates" / "trio"
ENVIRONMENT = {"OAST_SECRET_LOGIN": "reed-and-sedge"}
DEVICES = ("r-1", "r-2", "r-3")
READINGS = ("interfaces", "ospf-neighbors", "routes", "lldp-neighbors", "bgp-neighbors", "ntp")


class ThreePlatformsTest(unittest.TestCase):
    def network_of(self, platforms: tuple[str, str, str]) -> dict[tuple[str, str], Any]:
        """What the devices say of the network that is delivered to them, each of one of the platforms."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-"))) / "trio"
        shutil.copytree(ESTATE, folder)
        for file in ("network.yaml", "inventory/devices.yaml"):
            lines = (folder / file).read_text().splitlines()
            for number, line in enumerate(lines):
                for device, old, new in zip(DEVICES, ("bine", "cowl", "roundel"), platforms, strict=True):
                    if line.strip().startswith(f"{device}:"):
                        lines[number] = line.replace(old, new)
            (folder / file).write_text("\n".join(lines) + "\n")
        simulator = simulator_of(folder, ENVIRONMENT)
        simulator.start()
        try:
            for command in (("devices", "trust", "--yes"), ("lint",), ("push", "-m", "first", "--yes"), ("diff",), ("verify",)):
                run = program(*command, cwd=folder, environment=ENVIRONMENT)
                self.assertEqual(run.code, 0, (platforms, command, run.out + run.err))
            return asyncio.run(self.read(folder))
        finally:
            simulator.stop()

    async def read(self, folder: Path) -> dict[tuple[str, str], Any]:
        estate = oast.open(folder, environment=ENVIRONMENT)
        found = {}
        for device in DEVICES:
            async with estate.session(device) as session:
                for reading in READINGS:
                    records = await session.read(reading)
                    found[device, reading] = sorted(tuple(sorted((k, v) for k, v in one.items() if v is not None)) for one in records)
        return found

    def test_equal_readings_from_every_mixture(self) -> None:
        wanted = self.network_of(("bine", "cowl", "roundel"))
        self.assertEqual(len(wanted["r-3", "ospf-neighbors"]), 2)
        routes = {(r["destination-prefix"], r.get("network-instance")): r for r in map(dict, wanted["r-1", "routes"])}
        self.assertEqual(routes["203.0.113.3/32", None]["source-protocol"], "ospf")
        self.assertEqual(routes["2001:db8:2::/64", None]["next-hop"], "2001:db8:1::2")
        self.assertEqual(
            (routes["198.51.100.0/26", None]["source-protocol"], routes["198.51.100.0/26", None]["next-hop"]), ("bgp", "203.0.113.25")
        )
        self.assertEqual(routes["198.51.100.128/25", "crew-r-1"]["next-hop"], "198.51.100.2")
        self.assertEqual({dict(s)["session-state"] for d in DEVICES for s in wanted[d, "bgp-neighbors"]}, {"established"})
        clocks = [(c["address"], c.get("stratum"), c["state"]) for c in map(dict, wanted["r-2", "ntp"])]
        self.assertEqual(clocks, [("192.0.2.123", "1", "system-peer"), ("192.0.2.124", None, "unreachable")])
        for platforms in (("roundel", "roundel", "roundel"), ("cowl", "bine", "bine")):
            found = self.network_of(platforms)
            for key, records in wanted.items():
                with self.subTest(platforms=platforms, what=key):
                    self.assertEqual(found[key], records)


if __name__ == "__main__":
    unittest.main()
