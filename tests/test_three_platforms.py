"""The same intent in three templates gives the same network, whichever platform each device is of: the readings are equal."""

from __future__ import annotations

import asyncio
import shutil
import tempfile
import unittest
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import oast
from larkwater import program, simulator_of
from oast.platforms.reading_schema import READINGS as READ

ESTATE = Path(__file__).parent / "data" / "estates" / "trio"
ENVIRONMENT = {"OAST_SECRET_LOGIN": "reed-and-sedge", "OAST_FINGERPRINT_KEY": "0f" * 32}
DEVICES = ("r-1", "r-2", "r-3")
READINGS = (
    "interfaces",
    "ospf-neighbors",
    "routes",
    "lldp-neighbors",
    "bgp-neighbors",
    "ntp",
    "system",
    "ip-neighbors",
    "users",
    "communities",
    "environment",
)
# What no two devices have alike, and what the systems do not have in common.
OWN = {"os-name", "os-release", "role", "access"}


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
            for command in (
                ("devices", "trust", "--yes"),
                ("lint",),
                ("push", "-m", "first", "--yes"),
                ("diff",),
                ("verify",),
            ):
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
                    fields = READ[reading].fields
                    self.assertLessEqual(
                        {field for field in fields if field not in OWN}, set(records[0]), (device, reading)
                    )
                    kept = [field for field in fields if field not in OWN and not fields[field].counts]
                    rows = [tuple((k, one[k]) for k in sorted(kept) if one[k] is not None) for one in records]
                    found[device, reading] = sorted(rows, key=str)
                    counts = {type(one[k]) for one in records for k, field in fields.items() if field.counts}
                    self.assertLessEqual(counts, {int, float})
                # What is tried out is told alike, too: who answers, and by which way.
                for name in ("ping 203.0.113.3", "ping 192.0.2.250", "trace 203.0.113.3"):
                    tried = await session.read(*name.split())
                    found[device, name] = [
                        (one.get("answered"), one.get("arrived"), str(one.get("address"))) for one in tried
                    ]
        return found

    def test_equal_readings_from_every_mixture(self) -> None:
        wanted = self.network_of(("bine", "cowl", "roundel"))
        self.assertEqual(len(wanted["r-3", "ospf-neighbors"]), 2)
        routes = {
            (str(r["destination-prefix"]), r.get("network-instance")): r
            for r in map(dict, wanted["r-1", "routes"])
        }
        self.assertEqual(routes["203.0.113.3/32", None]["source-protocol"], "ospf")
        self.assertEqual(routes["2001:db8:2::/64", None]["next-hop"], ip_address("2001:db8:1::2"))
        self.assertEqual(
            (routes["198.51.100.0/26", None]["source-protocol"], routes["198.51.100.0/26", None]["next-hop"]),
            ("bgp", ip_address("203.0.113.25")),
        )
        self.assertEqual(routes["198.51.100.128/25", "crew-r-1"]["next-hop"], ip_address("198.51.100.2"))
        self.assertEqual(
            {dict(s)["session-state"] for d in DEVICES for s in wanted[d, "bgp-neighbors"]}, {"established"}
        )
        clocks = [(str(c["address"]), c.get("stratum"), c["state"]) for c in map(dict, wanted["r-2", "ntp"])]
        self.assertEqual(clocks, [("192.0.2.123", 1, "system-peer"), ("192.0.2.124", None, "unreachable")])
        for platforms in (("roundel", "roundel", "roundel"), ("cowl", "bine", "bine")):
            found = self.network_of(platforms)
            for key, records in wanted.items():
                with self.subTest(platforms=platforms, what=key):
                    self.assertEqual(found[key], records)


if __name__ == "__main__":
    unittest.main()
