"""Boxes that come all at once: how long it takes until the bootstrap server has answered each of them to its
end."""

from __future__ import annotations

import asyncio
import os
import re
import subprocess
import sys
import threading
import time
from pathlib import Path

from cryptography import x509

from oast.onboard import keys
from oast.operations.staging import Staging, stage
from oastsim.manufacturer import Manufacturer
from oastsim.new_device import Box, Factory

BOXES = 500
SETTINGS = """format = 1
[onboarding]
keys = "../keys"
listen = "127.0.0.1:0"
names = ["localhost"]
call_home = "127.0.0.1:0"
makers = "{authority}"
voucher_authorities = "{vouchers}"
vouchers = "../vouchers"
first = ["first"]
"""
TEMPLATE = "{#\nsection: first\nowns: [system]\n#}\nsystem\n  hostname {{ device.name }}\n"
ENVIRONMENT = {"OAST_FINGERPRINT_KEY": "0f" * 32}


def seconds_to_answer(folder: Path) -> float:
    """500 boxes at once, each with four questions over TLS."""
    maker, estate = Manufacturer(folder / "maker"), folder / "estate"
    for name in ("inventory", "templates/bine", "values"):
        (estate / name).mkdir(parents=True)
    (folder / "vouchers").mkdir()
    (estate / "oast.toml").write_text(
        SETTINGS.format(authority=maker.authority, vouchers=maker.voucher_authority)
    )
    (estate / "inventory/devices.yaml").write_text(
        "devices:\n  pier-0: {address: 192.0.2.1, platform: bine}\n"
    )
    (estate / "intent.yaml").write_text("sections:\n  - section: first\n")
    (estate / "templates/bine/first.j2").write_text(TEMPLATE)
    keys.make_keys(folder / "keys", "Bench", ["localhost"])
    owner = x509.load_pem_x509_certificates((folder / "keys/owner.pem").read_bytes())[0]
    serials = [f"B-{number}" for number in range(BOXES)]
    for serial in serials:
        (folder / "vouchers" / f"{serial}.vcj").write_bytes(maker.voucher(serial, owner))
    table = "".join(f"{serial},box-{n},198.18.{n >> 8}.{n & 255},bine\n" for n, serial in enumerate(serials))
    (folder / "boxes.csv").write_text(f"serial,name,address,platform\n{table}")
    rows = Staging(estate, ENVIRONMENT).rows(folder / "boxes.csv", "boxes.csv")
    if len(stage(estate, rows)) != BOXES:
        raise SystemExit(f"not all boxes could be staged: {next(row.wrong for row in rows if row.wrong)}")
    boxes = [Box(Factory(serial, *maker.box(serial), maker.voucher_authority)) for serial in serials]
    command = [sys.executable, "-m", "oast", "onboard", "serve", "--estate", str(estate)]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env={**os.environ, **ENVIRONMENT})
    try:
        assert server.stdout is not None
        match = re.search(r":(\d+)/restconf", server.stdout.readline())
        assert match is not None
        drained = asyncio.run(_come(boxes, int(match[1]), server))
    finally:
        server.terminate()
        server.communicate()
    if not all(box.happened[-1] == "complete" for box in boxes):
        raise SystemExit(
            "not all boxes were answered:"
            f" {next(box.happened for box in boxes if box.happened[-1] != 'complete')}"
        )
    return drained


async def _come(boxes: list[Box], port: int, server: subprocess.Popen[str]) -> float:
    assert server.stdout is not None
    reading = threading.Thread(target=lambda: [None for _ in server.stdout or ()])
    reading.start()
    started = time.monotonic()
    await asyncio.gather(*(box.find_its_way("localhost", port) for box in boxes))
    taken = time.monotonic() - started
    server.terminate()
    reading.join()
    return taken
