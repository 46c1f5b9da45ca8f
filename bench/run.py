"""Measures Oast against bare floors in the same run, and prints the ratios as a table. Exits 1 when one is
above its limit.

Every figure is the best of several rounds, the floor's and ours taken in turn, because machines are noisy.
    python bench/run.py [WORD ...]     only the measurements whose title contains one of the words
"""

from __future__ import annotations

import asyncio
import datetime
import difflib
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import asyncssh
import jinja2
import yaml
from asking import asked, bare_listing, parsing, peak_of, verified
from converging import seconds_to_converge
from mixed import ROUNDS, bare_reading, by_openssh, mixed_network, peak_of_comparing, slow_down
from onboarding import BOXES, seconds_to_answer
from records import archiving, in_turn, listing_and_auditing, recording_a_thousand
from simulator import configuring
from sourcing import bare, refresh, service

import oast
from oast.cli.simulator import Simulator
from oast.config.commands import commands_of
from oast.config.dependency_order import in_dependency_order
from oast.config.edits import apply_edits, difference
from oast.config.indented_syntax import IndentedSyntax
from oast.config.tree import canonical
from oast.connect.connector import Connector
from oast.errors import DeviceError, ErrorCollector
from oast.estate.estate import Estate, load_estate
from oast.estate.filters import FILTERS
from oast.estate.inventory import Device, read_inventory
from oast.fleet.concurrency import for_each
from oast.intent.intent import IntentBuilder
from oast.intent.lint import Lint
from oast.platforms.load import SHIPPED, Platforms, load_platform
from oast.records import Fingerprints

AT_ONCE = 50
# Files written through to a disk cost both sides what the disk wants; that is not what is measured.
MEMORY = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
SECRETS = {"OAST_SECRET_LOGIN_PASSWORD": "bench-login", "OAST_SECRET_PRIVILEGE_PASSWORD": "bench-privilege"}


@dataclass(frozen=True)
class Figure:
    title: str
    ours_s: float
    floor_s: float
    floor: str
    limit: float
    unit: str = "s"

    @property
    def ratio(self) -> float:
        return self.ours_s / self.floor_s


def best(rounds: int, *jobs: Callable[[], object]) -> list[float]:
    """The shortest time of each job, in seconds, over `rounds` in which they take turns."""
    times = [float("inf")] * len(jobs)
    for _ in range(rounds):
        for number, job in enumerate(jobs):
            started = time.perf_counter()
            job()
            times[number] = min(times[number], time.perf_counter() - started)
    return times


def start() -> list[Figure]:
    program = str(Path(sys.executable).with_name("oast"))

    def run(*command: str) -> Callable[[], object]:
        return lambda: subprocess.run(command, check=True, stdout=subprocess.DEVNULL)

    bare, version, usage = best(
        15, run(sys.executable, "-c", "pass"), run(program, "--version"), run(program, "--help")
    )
    floor = "bare interpreter start"
    return [
        Figure("oast --version", version, bare, floor, 4.0),
        Figure("oast --help", usage, bare, floor, 8.0),
    ]


# --- reading 200 devices
# ------------------------------------------------------------------------------------------------


def network(folder: Path, number: int) -> Estate:
    """An estate with `number` simulated devices, each with some fifty interfaces."""
    ports = ", ".join(f"port{n}" for n in range(1, 51))
    names = [f"edge-{n}" for n in range(1, number + 1)]
    addresses = [f"192.0.2.{n % 250 + 1}" for n in range(number)]
    interfaces = "".join(f"interface port{n}\n  description gate-{n}\n  mtu 9000\n" for n in range(1, 51))
    (folder / "first.txt").write_text(
        "system\n  hostname ${name}\ninterface manage0\n  ipv4\n    address ${management}/24\n" + interfaces
    )
    (folder / "network.yaml").write_text(
        "format: 1\naccounts: [{name: oast, password: login-password}]\nprivilege-password:"
        f" privilege-password\ndefaults: {{system: bine, startup: first.txt, ports: [manage0, {ports}],"
        f" attached: [{ports}]}}\ndevices:\n"
        + "".join(
            f"  {name}: {{management: {address}}}\n" for name, address in zip(names, addresses, strict=True)
        )
    )
    (folder / "oast.toml").write_text(
        'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login-password" }\nsimulated ='
        " true\nconnect_timeout_s = 60\ncommand_timeout_s = 60\n"
    )
    (folder / "inventory").mkdir()
    (folder / "inventory" / "devices.yaml").write_text(
        "devices:\n"
        + "".join(f"  {n}: {{address: {a}, platform: bine}}\n" for n, a in zip(names, addresses, strict=True))
    )
    return load_estate(folder, SECRETS)


async def bare_loop(addresses: list[tuple[str, int]], parallel: int) -> None:
    """Connect, run the same commands in a shell, disconnect."""
    places = asyncio.Semaphore(parallel)

    async def one(host: str, port: int) -> str:
        async with places:
            connection = await asyncssh.connect(
                host,
                port,
                username="oast",
                password=SECRETS["OAST_SECRET_LOGIN_PASSWORD"],
                known_hosts=None,
                config=(),
                agent_path=None,
                client_keys=None,
            )
            async with (
                connection,
                connection.create_process(term_type="dumb", term_size=(500, 200)) as process,
            ):
                await process.stdout.readuntil("view| ")
                process.stdin.write("session page-length 0\n")
                await process.stdout.readuntil("view| ")
                process.stdin.write("read running\n")
                text: str = await process.stdout.readuntil("view| ")
                return text

    await asyncio.gather(*(one(host, port) for host, port in addresses))


async def our_loop(estate: Estate, parallel: int) -> None:
    connector = Connector(estate, estate.devices.values())
    platforms = Platforms(None, estate.fingerprints)

    async def one(device: Device) -> str:
        session = await connector.open(device, platforms.get(str(device.attributes["platform"])))
        try:
            return await session.read_running()
        finally:
            await session.close()

    def done(device: Device, result: str | DeviceError) -> None:
        if isinstance(result, DeviceError):
            raise result

    await for_each(estate.devices.values(), one, parallel, done)


@contextmanager
def simulated(estate: Estate) -> Iterator[list[tuple[str, int]]]:
    """The estate's devices running and trusted; where each listens."""
    environment = {**os.environ, **SECRETS}
    simulator = Simulator(estate.folder / "network.yaml", estate.folder / ".oast" / "sim", environment)
    simulator.start()
    try:
        program = [
            str(Path(sys.executable).with_name("oast")),
            "devices",
            "trust",
            "--yes",
            "--estate",
            str(estate.folder),
        ]
        subprocess.run(program, check=True, stdout=subprocess.DEVNULL, env=environment)
        connector = Connector(estate, estate.devices.values())
        yield [(target.host, target.port) for target in map(connector.target, estate.devices.values())]
    finally:
        simulator.stop()


def reading() -> list[Figure]:
    return [_reading(200, AT_ONCE, 1.4, 6), _reading(1000, 100, 1.2, 3)]


def _reading(number: int, parallel: int, limit: float, rounds: int) -> Figure:
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        folder = Path(name)
        estate = network(folder, number)
        with simulated(estate) as addresses:
            bare, ours = best(
                rounds,
                lambda: asyncio.run(bare_loop(addresses, parallel)),
                lambda: asyncio.run(our_loop(estate, parallel)),
            )
    return Figure(f"read {number} devices, {parallel} at once", ours, bare, "bare asyncssh loop", limit)


LATENCY_S = 2.0


def mixed_reading() -> list[Figure]:
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        folder = Path(name)
        estate = mixed_network(folder, 1000)
        with simulated(estate) as addresses:
            bare, ours = best(
                3,
                lambda: asyncio.run(bare_reading(estate, addresses, 100)),
                lambda: asyncio.run(our_loop(estate, 100)),
            )
            figures = [Figure("read 1,000 mixed devices, 100 at once", ours, bare, "bare asyncssh loop", 1.3)]
            if shutil.which("ssh"):
                (theirs,) = best(1, by_openssh(estate, addresses, folder))
                figures.append(
                    Figure("the same against OpenSSH's client", ours, theirs, "xargs -P 20 ssh", 1.0)
                )
    return figures


def waiting() -> list[Figure]:
    """Devices that take two seconds for every command cost the time of as many rounds as there are, and no
    more."""
    number, parallel = 500, 250
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        folder = Path(name)
        estate = mixed_network(folder, number)
        with simulated(estate) as addresses:
            simulator = Simulator(
                folder / "network.yaml", folder / ".oast" / "sim", {**os.environ, **SECRETS}
            )
            (quick,) = best(2, lambda: asyncio.run(bare_reading(estate, addresses, parallel)))
            slow_down(estate, simulator.ask, LATENCY_S)
            (ours,) = best(1, lambda: asyncio.run(our_loop(estate, parallel)))
    rounds = sum(ROUNDS[str(device.attributes["platform"])] for device in estate.devices.values())
    floor = quick + rounds / parallel * LATENCY_S
    return [
        Figure(
            f"read {number} devices, {LATENCY_S:g} s a command",
            ours,
            floor,
            "rounds of waiting, and a bare asyncssh loop",
            1.2,
        )
    ]


def asking() -> list[Figure]:
    """One reading of 1,000 devices, and all that follows from their intents, against bare loops that list the
    same."""
    figures = [Figure("parse a table of 10,000 lines", parsing(), 0.05, "the limit", 1.0)]
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        folder = Path(name)
        pushed_to(folder, 1000)
        (folder / "values/all.yaml").write_text("everywhere: {word: gate}\n")
        estate = load_estate(folder, SECRETS)
        password = SECRETS["OAST_SECRET_LOGIN_PASSWORD"]
        with simulated(estate) as addresses:
            bare, ours, checked = best(
                2,
                lambda: asyncio.run(bare_listing(addresses, ["read ports"], 100, password)),
                lambda: asyncio.run(asked(estate, 100)),
                lambda: asyncio.run(verified(estate, 100)),
            )
            peak = peak_of(lambda: asyncio.run(asked(estate, 100)))
    figures.append(Figure("ask 1,000 devices, 100 at once", ours, bare, "bare asyncssh loop", 1.3))
    figures.append(Figure("verify 1,000 devices, 100 at once", checked, bare, "bare asyncssh loop", 1.3))
    figures.append(Figure("ask 1,000 devices", peak, 200, "the limit", 1.0, "MB"))
    return figures


def sourcing() -> list[Figure]:
    """An inventory of 10,000 devices, from a service."""
    with tempfile.TemporaryDirectory(dir=MEMORY) as name, service(Path(name)) as url:
        folder = Path(name)
        floor, ours = best(3, lambda: bare(url), lambda: refresh(folder))
        peak = peak_of(lambda: refresh(folder))
    return [
        Figure(
            "refresh 10,000 devices from a service",
            ours,
            floor,
            "the same pages and fields by a bare loop",
            3.5,
        ),
        Figure("refresh 10,000 devices from a service", ours, 5, "the limit", 1.0),
        Figure("refresh 10,000 devices from a service", peak, 200, "the limit", 1.0, "MB"),
    ]


def onboarding() -> list[Figure]:
    """New boxes that are plugged in at once."""
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        taken = seconds_to_answer(Path(name))
    return [Figure(f"answer {BOXES} new boxes at once", taken, 60, "the limit", 1.0)]


def memory() -> list[Figure]:
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        peak = peak_of_comparing(Path(name), 1000, 2000) / 1e6
    return [Figure("compare 1,000 devices of 2,000 lines", peak, 300, "the limit", 1.0, "MB")]


# --- pushing to 200 devices
# ---------------------------------------------------------------------------------------------

CHANGED = 20
EXCHANGE_BEFORE = (
    *("session page-length 0", "read running\n", "read startup\n", "read running\n"),
    *("read ports\n", "raise\nbench-privilege"),
)
EXCHANGE_TIMER = ("revert-timer state", "revert-timer arm 300", "revert-timer state", "edit")
EXCHANGE_AFTER = (
    *(
        "close",
        "read running\n",
        "read ports\n",
        "read running\n",
        "revert-timer confirm",
        "revert-timer state",
    ),
    *("read running\n", "save startup", "read startup\n", "read running\n"),
)


async def bare_push(addresses: list[tuple[str, int]], word: str) -> None:
    """One login for each device, and the same exchange as ours: the lines in flight at once, everything else
    answered one by one."""
    places = asyncio.Semaphore(AT_ONCE)
    lines = "\n".join(f"interface port{n}\n  description {word}-{n}" for n in range(1, CHANGED + 1))
    blocks = lines.split("\n")

    async def one(host: str, port: int) -> None:
        async with places:
            connection = await asyncssh.connect(
                host,
                port,
                username="oast",
                password="bench-login",
                known_hosts=None,
                config=(),
                agent_path=None,
                client_keys=None,
            )
            async with (
                connection,
                connection.create_process(term_type="dumb", term_size=(500, 200)) as process,
            ):
                await process.stdout.readuntil("| ")
                for command in (*EXCHANGE_BEFORE, *EXCHANGE_TIMER):
                    await told(process, command)
                for start in range(0, len(blocks), 20):
                    block = blocks[start : start + 20]
                    process.stdin.write("\n".join(block) + "\n")
                    for _ in block:
                        await process.stdout.readuntil(_PROMPT)
                for command in EXCHANGE_AFTER:
                    await told(process, command)

    async def told(process: asyncssh.SSHClientProcess[str], command: str) -> None:
        process.stdin.write(command + "\n")
        for _ in range(2 if command.endswith("\n") else 1):
            await process.stdout.readuntil(_PROMPT)

    await asyncio.gather(*(one(host, port) for host, port in addresses))


_PROMPT = re.compile(r"[\w.-]+ (?:view|full|edit)\| ")


async def our_push(folder: Path) -> None:
    async with await oast.open(folder, SECRETS).compare() as plan:
        if len(plan.different) != 200 or any(len(c.commands) != 2 * CHANGED for c in plan.different):
            raise AssertionError(f"{len(plan.different)} devices differ")
        result = await plan.deliver(
            "bench", options=oast.DeliveryOptions(revert_timer_s=300, verify_timeout_s=60)
        )
        if {o.state for o in result.outcomes} != {oast.State.DELIVERED}:
            raise AssertionError(next(o for o in result.outcomes if o.state is not oast.State.DELIVERED))


def pushed_to(folder: Path, number: int = 200) -> Estate:
    """So many devices, and a section that changes some of their lines with each value of `word`."""
    estate = network(folder, number)
    for inner in ("values", "templates/bine"):
        (folder / inner).mkdir(parents=True)
    settings = folder / "oast.toml"
    settings.write_text(settings.read_text() + 'privilege_password = { secret = "privilege-password" }\n')
    (folder / "intent.yaml").write_text("sections:\n  - section: interfaces\n")
    (folder / "templates/bine/interfaces.j2").write_text(
        "{#\nsection: interfaces\nowns: ['interface port*/description']\n#}\n{% for n in range(1, 51)"
        f" %}}\ninterface port{{{{ n }}}}\n  description {{{{ word if n <= {CHANGED} else 'gate' }}}}-{{{{ n"
        " }}\n{% endfor %}\n"
    )
    return estate


def pushing() -> list[Figure]:
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        folder = Path(name)
        estate = pushed_to(folder)
        with simulated(estate) as addresses:
            floor, ours = float("inf"), float("inf")
            for number in range(3):
                (folder / "values/all.yaml").write_text(f"everywhere: {{word: ours{number}}}\n")
                floor = min(
                    floor, *best(1, lambda word=f"bare{number}": asyncio.run(bare_push(addresses, word)))
                )  # type: ignore[misc]
                ours = min(ours, *best(1, lambda: asyncio.run(our_push(folder))))
    return [
        Figure(
            f"push {CHANGED} lines to 200 devices, 50 at once",
            ours,
            floor,
            "bare asyncssh script, same exchange",
            1.3,
        )
    ]


def recording() -> list[Figure]:
    """The same push without its record is the floor; the ledger and the archive have limits in seconds."""
    with tempfile.TemporaryDirectory(dir=MEMORY) as name:
        folder = Path(name)
        with simulated(pushed_to(folder)):
            bare, recorded = in_turn(
                lambda: asyncio.run(our_push(folder)), lambda word: give_word(folder, word)
            )
    listed, audited = listing_and_auditing()
    begun_s, ended_s = recording_a_thousand()
    return [
        Figure("push to 200 devices, recorded", recorded, bare, "the same without a record", 1.05),
        Figure("record of a change of 1,000 devices", begun_s + ended_s, 3.0, "the limit", 1.0),
        Figure("list 10,000 changes", listed, 0.5, "the limit", 1.0),
        Figure("audit 10,000 entries", audited, 2.0, "the limit", 1.0),
        Figure("commit 10,000 backups", archiving(), 10.0, "the limit", 1.0),
    ]


def give_word(folder: Path, word: str) -> None:
    """Every push changes the same lines, and to something new."""
    (folder / "values/all.yaml").write_text(f"everywhere: {{word: {word}}}\n")


# --- rendering 2,000 devices
# --------------------------------------------------------------------------------------------

TEMPLATE = """{% for interface in interfaces %}
interface {{ interface.name }}
  description "{{ device.site }} {{ interface.name }}"
{% if interface.vlan is defined %}
  vlan-id {{ interface.vlan }}
{% endif %}
  mtu {{ mtu }}
  ipv4
    address {{ interface.address }}
{% endfor %}
"""


def rendering() -> list[Figure]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "oast.toml").write_text("format = 1\n")
        for inner in ("inventory", "values/devices", "templates/bine"):
            (folder / inner).mkdir(parents=True)
        (folder / "intent.yaml").write_text("sections:\n  - section: interfaces\n")
        (folder / "templates/bine/interfaces.j2").write_text(
            '{#\nsection: interfaces\nowns: ["interface *"]\n#}\n' + TEMPLATE
        )
        (folder / "values/all.yaml").write_text(
            "everywhere: {mtu: 1500}\nrules:\n  - on: site=quay-1\n    values: {mtu: 9000}\n"
        )
        inventory = ["devices:\n"]
        for n in range(2000):
            inventory.append(
                f"  edge-{n}: {{address: 192.0.2.{n % 250 + 1}, platform: bine, site: quay-{n % 20}}}\n"
            )
            interfaces = ", ".join(
                f"{{name: port{i}.{i + 100}, vlan: {i + 100}, address: 198.51.{n % 200}.{i}/31}}"
                for i in range(1, 51)
            )
            (folder / f"values/devices/edge-{n}.yaml").write_text(f"interfaces: [{interfaces}]\n")
        (folder / "inventory/devices.yaml").write_text("".join(inventory))
        estate = load_estate(folder, {})
        template = jinja2.Environment(trim_blocks=True, lstrip_blocks=True, autoescape=False).from_string(
            TEMPLATE
        )
        data = [
            {**estate.values_of(device), "device": device.attributes} for device in estate.devices.values()
        ]
        builder = IntentBuilder(estate)
        bare, ours = best(
            3,
            lambda: [template.render(values) for values in data],
            lambda: [builder.texts(device) for device in estate.devices.values()],
        )
    return [Figure("render 2,000 devices of 50 interfaces", ours, bare, "bare Jinja2 loop", 1.5)]


# --- reading 10,000 devices, linting 1,000
# ------------------------------------------------------------------------------


def inventory() -> list[Figure]:
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "inventory" / "devices.yaml"
        path.parent.mkdir()
        rows = [
            f"  edge-{n}:\n    address: 198.51.{n // 250}.{n % 250 + 1}\n    platform: bine\n"
            f"    site: quay-{n % 90}\n    tags: [terminal, t{n % 7}]\n"
            for n in range(10_000)
        ]
        path.write_text("devices:\n" + "".join(rows))
        text = path.read_text()
        bare, ours = best(
            3,
            lambda: yaml.load(text, Loader=yaml.CSafeLoader),
            lambda: read_inventory(Path(name), ErrorCollector()),
        )
    return [Figure("load an inventory of 10,000 devices", ours, bare, "bare C YAML loader", 3.0)]


LARKWATER = Path(__file__).parent.parent / "src" / "oast" / "cli" / "larkwater"


def fleet(folder: Path, number: int) -> Estate:
    """The demo's estate with `number` edge routers of its kind in place of its own devices."""
    shutil.copytree(LARKWATER, folder)
    (folder / "values" / "sites.yaml").unlink()
    settings = folder / "oast.toml"
    settings.write_text(
        "".join(
            line for line in settings.read_text().splitlines(keepends=True) if not line.startswith("waves")
        )
    )
    for path in (folder / "values" / "devices").iterdir():
        path.unlink()
    for name in (
        "inventory/terminals.csv",
        "inventory/switches.yaml",
        "inventory/borders.yaml",
        "values/switches.yaml",
        "values/borders.yaml",
        "policies/switches.yaml",
    ):
        (folder / name).unlink()
    intent = folder / "intent.yaml"
    kept = intent.read_text().partition("  - section: vlans\n")[0]
    intent.write_text(kept.replace("role in (core, border)", "role=core"))
    shutil.rmtree(folder / "checks")
    rows = [
        f"  e{n}: {{address: 10.255.{n // 250}.{n % 250}, platform: bine, site: s{n}, role: edge, tags:"
        " [cameras]}\n"
        for n in range(number)
    ]
    (folder / "inventory" / "devices.yaml").write_text(
        "devices:\n  hub: {address: 192.0.2.1, platform: bine, role: core}\n"
        + "".join(rows)
        + "links:\n"
        + "".join(
            f"  - [e{n} port{port}, hub port{2 * n + port + 9}]\n" for n in range(number) for port in (1, 2)
        )
        + "  - [hub port1, hub port3]\n  - [hub port2, hub port4]\n"
    )
    for n in range(-1, number):
        high, low = divmod(n + 1, 250)
        links = "".join(f"  - {{port: port{p}, address: 10.{p}.{high}.{low}/31}}\n" for p in (1, 2))
        services = "".join(
            f"  - name: {name}\n    interfaces:\n      - {{port: port3, vlan: {vlan}, address:"
            f" 10.{vlan}.{high}.{low}/16}}\n"
            for name, vlan in (("ticket-gates", 110), ("crew-wireless", 130), ("cameras", 120))
        )
        text = (
            f"site_name: quay {n}\nloopback: {{ipv4: 10.200.{high}.{low}, ipv6:"
            f" '2001:db8:{n + 2:x}::1'}}\nlinks:\n{links}"
        )
        name = "hub" if n < 0 else f"e{n}"
        (folder / "values" / "devices" / f"{name}.yaml").write_text(
            text + (f"services:\n{services}" if n >= 0 else "services: []\n")
        )
    secrets = {"OAST_SECRET_SNMP_READ": "one", "OAST_SECRET_SNMP_BILLING": "two"}
    return load_estate(folder, secrets)


def linting() -> list[Figure]:
    def lint(estate: Estate) -> None:
        found = Lint(estate, ErrorCollector(), datetime.date(2026, 1, 1), ()).problems(
            list(estate.devices.values())
        )
        if found:
            raise AssertionError(found[0])

    with tempfile.TemporaryDirectory() as name:
        estates = {number: fleet(Path(name) / str(number), number) for number in (100, 1000, 2000)}
        estate = estates[1000]
        environment = jinja2.Environment(
            loader=jinja2.FileSystemLoader(estate.folder / "templates" / "bine"),
            trim_blocks=True,
            lstrip_blocks=True,
            autoescape=False,
        )
        environment.filters.update(FILTERS)
        builder = IntentBuilder(estate)
        network = estate.network
        work = [
            (
                environment.get_template(f"{template.section}.j2"),
                {**estate.values_of(device), "device": device.attributes, "network": network},
            )
            for device in estate.devices.values()
            for template in builder.templates_of(device)
        ]
        bare, few, ours, many = best(
            5,
            lambda: [template.render(values) for template, values in work],
            lambda: [lint(estates[100]) for _ in range(20)],
            lambda: lint(estates[1000]),
            lambda: lint(estates[2000]),
        )
    return [
        Figure("lint 1,000 devices of the demo's kind", ours, bare, "bare rendering of them", 8.0),
        Figure("lint 2,000 devices against 20 times 100", many, few, "flat time per device", 1.2),
    ]


# --- comparing 50,000 lines
# ---------------------------------------------------------------------------------------------


def configuration(lines: int, changes: random.Random | None) -> str:
    """A configuration of interfaces; with `changes`, one in thirty has another description and one in fifty
    is missing."""
    text = ["system", "  hostname big"]
    number = 0
    while len(text) < lines:
        number += 1
        if changes is not None and changes.random() < 0.02:
            continue
        name = "Gate" if changes is None or changes.random() > 0.033 else "New gate"
        text += [f"interface port{number}", f'  description "{name} {number}"', "  mtu 9000", "  ipv4"]
        text += [f"    address 198.{18 + number // 65000}.{number // 250 % 250}.{number % 250}/31", "  ipv6"]
        text += [f"    address 2001:db8:{number:x}::1/64"]
    return "\n".join(text[:lines]) + "\n"


def shuffled_list(entries: int) -> tuple[str, str]:
    """An access list, and the same in any order."""
    written = [f"  ace accept tcp source-network 10.0.{n // 250}.{n % 250}/32" for n in range(entries)]
    other = random.Random(1).sample(written, len(written))
    return tuple("\n".join(["acl gate", *lines]) + "\n" for lines in (written, other))  # type: ignore[return-value]


def comparing() -> list[Figure]:
    def compare(one: str, other: str) -> None:
        # A fresh grammar each time, so that nothing is remembered from the round before.
        syntax = IndentedSyntax(load_platform(SHIPPED / "bine.toml", Fingerprints(b"bench")))
        edits = difference(canonical(syntax.parse(one).tree), canonical(syntax.parse(other).tree))
        if not edits:
            raise AssertionError("the configurations differ")

    def reorder(one: str, other: str) -> None:
        platform = load_platform(SHIPPED / "bine.toml", Fingerprints(b"bench"))
        syntax = IndentedSyntax(platform)
        running = canonical(syntax.parse(one).tree)
        edits = difference(running, canonical(syntax.parse(other).tree))
        if (
            not apply_edits(edits, running).children
            or len(commands_of(in_dependency_order(edits), platform)) < 1000
        ):
            raise AssertionError("most entries have to be moved")

    shuffled, few = (shuffled_list(20_000), shuffled_list(2_000))
    many, tenth = best(3, lambda: reorder(*shuffled), lambda: [reorder(*few) for _ in range(10)])
    big = configuration(50_000, None), configuration(50_000, random.Random(1))
    small = configuration(5_000, None), configuration(5_000, random.Random(1))
    lines = big[0].splitlines(), big[1].splitlines()
    # Ten small ones in a row take as long as the large one, so that the machine's moods meet both alike.
    theirs, ours, small_ones = best(
        5,
        lambda: list(difflib.unified_diff(*lines)),
        lambda: compare(*big),
        lambda: [compare(*small) for _ in range(10)],
    )
    return [
        Figure("compare two of 50,000 lines", ours, theirs, "difflib.unified_diff", 0.5),
        Figure("50,000 lines against ten times 5,000", ours, small_ones, "linear growth", 1.2),
        Figure("20,000 shuffled against ten times 2,000", many, tenth, "linear growth", 1.5),
    ]


# --- configuring 1,000 simulated routers from nothing
# -------------------------------------------------------------------


def simulating() -> list[Figure]:
    ours, floor, lines = configuring(1000, MEMORY)
    return [
        Figure(
            f"1,000 routers from nothing, {lines} lines",
            ours,
            floor,
            "servers that only answer with a prompt",
            2,
        )
    ]


def converging() -> list[Figure]:
    took = min(seconds_to_converge() for _ in range(3))
    return [Figure("100 routers after a change", took, 1.0, "the limit", 1.0)]


def main(words: list[str]) -> int:
    measurements = {
        "start": start,
        "compare": comparing,
        "render": rendering,
        "inventory": inventory,
        "lint": linting,
        "read": reading,
        "ask": asking,
        "source": sourcing,
        "onboarding": onboarding,
        "mixed": mixed_reading,
        "records": recording,
        "latency": waiting,
        "memory": memory,
        "push": pushing,
        "simulator": simulating,
        "converge": converging,
    }
    print(f"{'measured':38}  {'ours':>9}  {'floor':>9}  {'ratio':>6}  {'limit':>6}  floor")
    is_good = True
    for title, measure in measurements.items():
        if words and not any(word in title for word in words):
            continue
        began, cpu = time.monotonic(), processor_s()
        try:
            figures = measure()
        except Exception:  # one part that cannot be measured hides no other
            traceback.print_exc()
            print(f"{title}: FAILED", flush=True)
            is_good = False
            continue
        for f in figures:
            verdict = "" if f.ratio <= f.limit else "  ABOVE ITS LIMIT"
            is_good = is_good and not verdict
            print(
                f"{f.title:38}  {f.ours_s:7.3f} {f.unit:2} {f.floor_s:7.3f} {f.unit:2} {f.ratio:6.2f} "
                f" {f.limit:6.1f}  {f.floor}{verdict}"
            )
        print(
            f"{title}: {time.monotonic() - began:.0f} s, {processor_s() - cpu:.0f} s of processors",
            flush=True,
        )
    return 0 if is_good else 1


def processor_s() -> float:
    """The processor time of this process and of those that it has waited for, in seconds."""
    times = os.times()
    return times.user + times.system + times.children_user + times.children_system


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
