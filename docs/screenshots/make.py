"""Makes the pictures of this folder anew: the real program in a terminal (xterm under Xvfb), on the demo's
estate.

    python docs/screenshots/make.py [NAME ...]

Needs xterm, Xvfb and ImageMagick's import (Debian: xterm xvfb imagemagick).
"""

from __future__ import annotations

import json
import os
import random
import secrets
import shlex
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

from oast.estate.encrypted_file import EncryptedFile

HERE = Path(__file__).parent
ROOT = HERE.parent.parent
OAST = ROOT / ".venv" / "bin" / "oast"
SIZE = "1280x800"
COLOURS = (
    "-bg",
    "#101418",
    "-fg",
    "#d8dee4",
    "-xrm",
    "XTerm*color1: #f06a5d",
    "-xrm",
    "XTerm*internalBorder: 12",
)
GEOMETRY = {11: "139x40+0+0", 9: "179x51+0+0"}


@dataclass(frozen=True)
class Shot:
    """A picture: `before` runs unseen, `shown` in the terminal; with `after_s` it is taken so long after the
    start, not at the end."""

    name: str
    shown: str
    before: tuple[str, ...] = ()
    after_s: float | None = None
    font: int = 11


BY_HAND = (
    "raise\\n%s\\nedit\\nsnmp\\n  community left-by-a-visitor\\nsystem\\n  contact by-hand\\nclose\\nleave\\n"
)
WATCHED = (
    '\\n[[watch.jobs]]\\ndo = "backup"\\nat = "0 3 * * *"\\n[[watch.jobs]]\\ndo = "drift"\\nat = "*/30 * * * *"\\n'
    '[[watch.jobs]]\\ndo = "verify"\\nevery_s = 300\\nwait_s = 5\\n[[watch.notify]]\\nname = "duty"\\ncommand = ["./tell"]\\n'
)
SHIPPED = ROOT / "src" / "oast" / "platforms" / "bine.toml"
PUSH = 'oast push -m "Bring the routers under Oast" --ticket LF-1041 --yes'
SPARES = ("LW-7011", "LW-7012", "LW-7013", "LW-7014", "LW-7015")
SEVENTH = """
from pathlib import Path
from oast.cli.demo import ADDED, SEVENTH
import shutil
shutil.copytree(SEVENTH, ".", dirs_exist_ok=True)
for file, (before, text) in ADDED.items():
    there = Path(file).read_text()
    Path(file).write_text(there.replace(before, text + before, 1) if before else there + text)
rule = Path("templates/bine/interfaces.j2")
rule.write_text(rule.read_text().replace("links: {least: 1", "links: {least: 0"))
own = Path("values/devices/knot-edge-1.yaml").read_text().partition("links:")[0]
with Path("boxes.csv").open("a") as rows:
    for n in range(1, 6):
        text = own.replace("203.0.113.227", f"203.0.113.{237 + n}").replace("2001:db8:ff::27", f"2001:db8:ff::{37 + n}")
        Path(f"values/devices/spare-edge-{n}.yaml").write_text(text + "links: []\\nservices: []\\n")
        rows.write(f"LW-701{n},spare-edge-{n},192.0.2.{90 + n},bine,knot,edge,terminal\\n")
"""
PLACE = "sed -n '%ds/.*[:]\\([0-9]*\\)[/ ].*/localhost:\\1/p' served"
BOX = f"S=$({PLACE % 1}); H=$({PLACE % 2}); oast sim new-device add "
SERVICE = """
import json
from pathlib import Path
known = (("gull-core-1", 11), ("heron-core-1", 12), ("tern-edge-1", 21), ("plover-edge-1", 22))
devices = [
    {"key": n, "hostname": name, "management": {"address": f"192.0.2.{n}/24"}, "place": {"code": name.split("-")[0]}, "shelf": f"R{n % 4}",
     "stage": "in-use", "seen": {"serial": "?", "release": "4.1"}}
    for name, n in known
]
pier = {"key": 97, "hostname": "dunlin-edge-7", "management": {"address": "192.0.2.97/24"}, "place": {"code": "dunlin"}, "shelf": "R1",
        "stage": "planned", "seen": {}}
Path("inventory-service.json").write_text(json.dumps({"devices": [*devices, pier]}))
url = Path("url").read_text().strip() if Path("url").exists() else ""
with Path("oast.toml").open("a") as file:
    file.write(f'''
[inventory]
in_service = "not stage=planned"

[[sources]]
name = "office"
url = "{url}?limit=2"
token = {{ secret = "office-token" }}
records = "devices"
count = "total"
record = "key"

[sources.attributes]
name = "hostname"
address = "management.address"
platform = {{ default = "bine" }}
site = "place.code"
role = {{ default = "edge" }}
shelf = "shelf"
stage = "stage"

[sources.publish.fields]
"seen.serial" = 'system."serial-num"'
"seen.release" = 'system."os-release"'
"seen.drift" = "drift.state"
"seen.delivered" = "last_change.id"
''')
"""
SERVED = (
    PUSH,
    "echo 'office-token = \"tide-table\"' >> ../larkwater-secrets.toml",
    "echo '{\"devices\": []}' > inventory-service.json; OASTSIM_TOKEN=tide-table oast sim inventory start > url; oast sim inventory stop",
    f"python - <<'END'\n{SERVICE}\nEND",
    'OASTSIM_TOKEN=tide-table oast sim inventory start > url; sed -i "s|^url = .*|url = \\"$(cat url)?limit=2\\"|" oast.toml',
)
# A pallet of new boxes: one becomes a managed device, and the others get as far as they can.
ONBOARDED = (
    f"python - <<'END'\n{SEVENTH}\nEND",
    "oast onboard keys",
    f"oast sim manufacturer LW-7007 {' '.join(SPARES)} LW-7099 --owner ../larkwater-onboarding/owner.pem --into ../vouchers",
    "oast onboard stage boxes.csv --yes > staged 2>&1",
    "oast push -m 'Links to the Knot' --on role=core --section interfaces --section routing --yes",
    "oast onboard serve --port 0 > served 2>&1 & echo $! > serving; sleep 4",
    f"{BOX} LW-7007 --server $S --call-home $H --at gull-core-1:port11 --at heron-core-1:port11",
    f"{BOX} LW-7011 --server $S --clock-year 1970",
    f"{BOX} LW-7012 --server $S --power-cut taking",
    f"{BOX} LW-7013 --server $S",
    f"{BOX} LW-7013 --server $S --duplicate-serial",
    f"{BOX} LW-7099 --server $S",
    "for n in $(seq 60); do oast onboard status | grep -q managed && break; sleep 1; done; kill $(cat serving)",
)
SHOTS = (
    Shot("render", "oast render --on name=tern-edge-1 --section time --section access-lists --section monitoring --trace"),
    Shot("diff", "oast diff --on 'site in (gull, tern, plover)' --section time --section monitoring --section access-lists"),
    Shot(
        "change",
        "oast change list; echo; oast change show last; OAST_IDENTITY=bo@larkwater.example oast change approve last --yes;"
        " oast change audit",
        (
            "oast push -m 'Bring the routers under Oast' --ticket LF-1041 --section time --on role=core --yes",
            "oast push -m 'The day desk answers' --ticket LF-1042 --section system --on role=core --propose"
            " --with 'contact=Larkwater day desk'",
        ),
    ),
    Shot(
        "push-live",
        "oast push -m 'New time servers' --section time --yes --timeout 20 --revert-timer 60",
        tuple(
            f"oast sim fault {name} slow --seconds {seconds}" for name, seconds in (("heron-core-1", 0.05), ("tern-edge-1", 0.1))
        ),
        after_s=6.5,
    ),
    Shot("push", "oast push -m 'Time and monitoring' --section time --section monitoring --yes"),
    Shot(
        "verify",
        "oast verify; oast verify --against monday --on 'site in (gull, tern)'",
        (
            PUSH,
            "oast verify --save monday",
            "printf 'raise\\n%s\\nedit\\ninterface port2\\n enabled false\\nclose\\nleave\\n' \"$PRIVILEGE\" > typed.txt",
            "oast sim console gull-core-1 < typed.txt; sleep 5",
        ),
    ),
    Shot(
        "ask",
        "oast ask bgp-neighbors --where 'peer-as>64500'; oast ask interfaces --on site=gull --where 'speed>=1G and name=bundle*'"
        " --columns device,name,oper-status,speed; oast ask --raw 'read users' --on role=core",
        (PUSH, "printf 'raise\\n%s\\nedit\\nuser visitor\\nclose\\nleave\\n' \"$PRIVILEGE\" > typed.txt",
            "oast sim console heron-core-1 < typed.txt"),
    ),
    Shot(
        "went-back",
        "oast push -m 'Tidy up' --on name=tern-edge-1 --with management.enabled=false --revert-timer 20 --verify-timeout 8 --yes; oast diff",
        (PUSH,),
    ),
    Shot(
        "failures",
        "oast push -m 'New time server' --with 'time_servers=[{address: 192.0.2.123}, {address: 192.0.2.130}]' --one-wave --yes",
        (PUSH, "oast sim fault dunlin-edge-1 down", "oast sim fault plover-edge-1 refuse --match 192.0.2.130"),
    ),
    Shot(
        "lint",
        "oast lint --trace",
        (
            "sed -i 's/  serv /  sevr /' templates/bine/time.j2",
            "sed -i 's/203.0.113.13.31/203.0.113.129\\/31/; s/vlan: 120/vlan: 4120/' values/devices/tern-edge-1.yaml",
            "sed -i 's/203.0.113.224/203.0.113.223/' values/devices/dunlin-edge-1.yaml",
            "sed -i 's/acl crew-wireless-in/acl crew-wirless-in/' templates/bine/access-lists.j2",
        ),
    ),
    Shot(
        "explain",
        "oast explain gull-core-1 link_cost; oast explain gull-core-1 location; "
        "oast render --describe --section routing --section monitoring --on role=core",
    ),
    Shot(
        "drift",
        "oast drift",
        (
            PUSH,
            f"printf '{BY_HAND}' \"$PRIVILEGE\" > typed.txt",
            "for device in tern-edge-1 gull-core-1; do oast sim console $device < typed.txt; done",
            "sed -i 's/secret_age: 180/secret_age: 30/' policies/standard.yaml",
        ),
    ),
    Shot(
        "platform",
        "oast platform try brine --on name=tern-edge-1; oast platform check platforms/brine.toml --text startup/gull-core-1.txt",
        (
            "mkdir platforms",
            f"sed 's/^name = .*/name = \"brine\"/; s/read interfaces/read interfoces/"
            f"; /^.snmp.community.access/d; s/, access = .access. }}/ }}/' {SHIPPED}"
            " > platforms/brine.toml",
        ),
    ),
    Shot(
        "rotate",
        "oast secret rotate snmp-read --push -m 'Yearly rotation' --yes; oast secret list; oast devices --connection --on site=tern",
        (PUSH,),
        font=9,
    ),
    Shot("onboard", "oast onboard status", (PUSH, *ONBOARDED)),
    Shot("source", "oast source refresh --dry-run; oast source refresh --yes > refreshed; oast source list; "
        "oast explain tern-edge-1 device.shelf; oast explain gull-core-1 device.role; "
        "oast source publish --on 'site in (gull, tern)' --dry-run", SERVED),
    Shot(
        "watch",
        "oast watch --once; oast sim console tern-edge-1 < typed.txt > typed; oast watch --once; oast watch --list",
        (
            f"{PUSH} --revert-timer 90 --verify-timeout 30",
            f"printf '{WATCHED}' >> oast.toml",
            "printf 'raise\\n%s\\nedit\\ninterface port1\\n enabled false\\nclose\\nleave\\n' \"$PRIVILEGE\" > typed.txt",
        ),
    ),
)  # fmt: skip


@contextmanager
def screen() -> Iterator[str]:
    """A virtual screen; its name."""
    read, write = os.pipe()
    command = ["Xvfb", "-displayfd", str(write), "-screen", "0", f"{SIZE}x24", "-nolisten", "tcp"]
    server = subprocess.Popen(command, pass_fds=[write], stderr=subprocess.DEVNULL)
    os.close(write)
    with os.fdopen(read) as numbers:
        display = f":{numbers.readline().strip()}"
    try:
        yield display
    finally:
        server.terminate()
        server.wait()


@contextmanager
def estate() -> Iterator[tuple[Path, dict[str, str]]]:
    """The demo's estate with its devices running and trusted, and the environment for its commands."""
    folder = Path(tempfile.mkdtemp(prefix="oast-shots-"))
    path = folder / "larkwater"
    shutil.copytree(ROOT / "src" / "oast" / "cli" / "larkwater", path)
    words = {n: secrets.token_urlsafe(8) for n in ("login-password", "privilege-password")}
    encrypted = EncryptedFile(path / "secrets.jwe", folder / "larkwater.key", {})
    for name, days in (("snmp-read", 12), ("snmp-billing", 74)):
        encrypted.put(name, secrets.token_urlsafe(8), date.today() - timedelta(days=days))
    (folder / "larkwater-secrets.toml").write_text("".join(f'{n} = "{v}"\n' for n, v in words.items()))
    environment = {
        **os.environ,
        "PATH": f"{OAST.parent}:{os.environ['PATH']}",
        "PRIVILEGE": words["privilege-password"],
    }
    environment["OAST_IDENTITY"] = "ada@larkwater.example"
    environment.pop("NO_COLOR", None)

    def oast(*arguments: str) -> None:
        subprocess.run(
            [str(OAST), *arguments], cwd=path, env=environment, check=True, stdout=subprocess.DEVNULL
        )

    oast("sim", "start")
    try:
        oast("devices", "trust", "--yes")
        yield path, environment
    finally:
        oast("sim", "stop")
        shutil.rmtree(folder)


def take(shot: Shot, display: str) -> None:
    with estate() as (folder, environment):
        for command in shot.before:
            subprocess.run(
                ["bash", "-c", command], cwd=folder, env=environment, check=False, capture_output=True
            )
        done = folder / "done"
        typed = shlex.quote(f"$ {shot.shown}")
        script = f"printf '%s\\n' {typed}; {shot.shown}; touch {done}; sleep 600"
        terminal = subprocess.Popen(
            [
                "xterm",
                "-fa",
                "DejaVu Sans Mono",
                "-fs",
                str(shot.font),
                "-geometry",
                GEOMETRY[shot.font],
                *COLOURS,
                "-e",
                "bash",
                "-c",
                script,
            ],
            cwd=folder,
            env={**environment, "DISPLAY": display, "TERM": "xterm-256color"},
        )
        try:
            started = time.monotonic()
            while not done.exists() and time.monotonic() - started < (shot.after_s or 60):
                time.sleep(0.05)
            time.sleep(0.0 if shot.after_s else 0.5)
            picture = HERE / f"{shot.name}.png"
            subprocess.run(["import", "-display", display, "-window", "root", str(picture)], check=True)
            subprocess.run(["mogrify", "-strip", "-colors", "64", str(picture)], check=False)
        finally:
            terminal.terminate()
            terminal.wait()


def take_trend() -> None:
    """What was found in nine days that are made up: half an hour between two looks, and a night that nobody
    watched."""
    with estate() as (folder, environment):
        subprocess.run(
            [
                "bash",
                "-c",
                f"{PUSH} --revert-timer 90 --verify-timeout 30; printf '{WATCHED}' >> oast.toml; oast watch --once",
            ],
            cwd=folder,
            env=environment,
            check=False,
            capture_output=True,
        )
        lot, now = random.Random(5), datetime.now(UTC)
        found = {"drifted": 0, "unsaved": 0, "wrong": 0}
        rows = []
        for number in range(9 * 48, 0, -1):
            if 190 <= number <= 208:
                continue
            if lot.random() < (0.06 if found["drifted"] else 0.03):
                found["drifted"] = 0 if found["drifted"] else lot.choice((1, 1, 2, 3))
                found["unsaved"] = min(found["drifted"], lot.choice((0, 1)))
            if lot.random() < (0.15 if found["wrong"] else 0.02):
                found["wrong"] = 0 if found["wrong"] else lot.choice((1, 4, 7))
            at, failed = (now - timedelta(minutes=30 * number)).isoformat(), int(lot.random() < 0.01)
            for does, names in (("drift", ("drifted", "unsaved")), ("verify", ("wrong",))):
                counts = {
                    "devices": 24 - failed,
                    "checks": 1174,
                    "failed": failed,
                    **{name: found[name] for name in names},
                }
                rows.append((at, does, does, json.dumps(counts)))
        database = sqlite3.connect(folder / ".oast" / "watch.sqlite")
        with database:
            database.executemany("INSERT INTO trend VALUES (?, ?, ?, ?)", rows)
        database.close()
        subprocess.run(
            [str(OAST), "drift", "--plot", str(HERE / "trend.png")], cwd=folder, env=environment, check=True
        )


def main(names: list[str]) -> int:
    with screen() as display:
        for shot in SHOTS:
            if not names or shot.name in names:
                take(shot, display)
                sys.stdout.write(f"{shot.name}.png\n")
    if not names or "trend" in names:
        take_trend()
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
