"""What a refresh from an inventory service costs: 10,000 devices over HTTP, against fetching the same pages
and reading their JSON."""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import aiohttp
import jmespath

from oast.estate.settings import read_settings
from oast.operations.sources import plan_refresh, write

DEVICES = 10_000
TOKEN = "bench"
SETTINGS = """format = 1
[[sources]]
name = "office"
url = "{url}?limit=500"
token = {{ secret = "office" }}
records = "devices"
count = "total"
which = "stage == 'in-use'"
[sources.attributes]
name = "hostname"
address = "management.address"
platform = {{ path = "model", values = {{ "QX-4" = "bine" }} }}
site = "place.code"
role = "duty"
tags = "labels"
"""


@contextmanager
def service(folder: Path) -> Iterator[str]:
    """The stand-in with its devices; where it is."""
    devices = [
        {
            "key": n,
            "hostname": f"box-{n}",
            "management": {"address": f"198.18.{n >> 8}.{n & 255}/24"},
            "model": "QX-4",
            "place": {"code": f"site-{n % 50}"},
            "duty": "edge",
            "labels": ["terminal"],
            "stage": "in-use",
            "serial": f"LW{n:05}",
        }
        for n in range(DEVICES)
    ]
    file = folder / "devices.json"
    file.write_text(json.dumps({"devices": devices}), encoding="utf-8")
    command = [sys.executable, "-m", "oastsim.inventory", str(file), str(folder)]
    process = subprocess.Popen(command, env={**os.environ, "OASTSIM_TOKEN": TOKEN})
    try:
        listening = folder / "inventory.json"
        while not listening.exists():
            time.sleep(0.02)
        url = json.loads(listening.read_text(encoding="utf-8"))["url"]
        (folder / "oast.toml").write_text(SETTINGS.format(url=url), encoding="utf-8")
        yield url
    finally:
        process.terminate()
        process.wait()


def refresh(folder: Path) -> None:
    """From nothing: read, find what is new, write."""
    (folder / "inventory" / "office.source.yaml").unlink(missing_ok=True)
    [source] = read_settings(folder).sources
    found = asyncio.run(plan_refresh(folder, {"OAST_SECRET_OFFICE": TOKEN}, source))
    if len(found.added) != DEVICES:
        raise AssertionError(f"{len(found.added)} devices were read")
    write(folder, found)


def bare(url: str) -> None:
    """The same pages, and six fields of every record."""

    async def pages() -> None:
        paths = [
            jmespath.compile(p)
            for p in ("hostname", "management.address", "model", "place.code", "duty", "labels")
        ]
        async with aiohttp.ClientSession(headers={"Authorization": f"Bearer {TOKEN}"}) as session:
            next_: str | None = f"{url}?limit=500"
            while next_ is not None:
                async with session.get(next_) as response:
                    for record in json.loads(await response.text())["devices"]:
                        for path in paths:
                            path.search(record)
                    links = response.links
                    next_ = str(links["next"]["url"]) if "next" in links else None

    asyncio.run(pages())
