"""Devices of both systems that turn hostile at some moment, behind the real program: a simulated device whose answers somebody garbles.

What the program reports is held against what the device holds.
"""

from __future__ import annotations

import asyncio
import json
import random
import resource
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from in_memory import run_program
from oast.connect.transport import Login, Target
from oast.errors import ConnectionFailed
from oastsim.bine.device import Device as Bine
from oastsim.cowl.device import Device as Cowl
from oastsim.network import Account, DevicePlan, NetworkPlan
from oastsim.state import NetworkState
from trees import cowl_tree_of, tree_of

PASSWORDS = {
    "OAST_SECRET_LOGIN": "Tideline-3301",
    "OAST_SECRET_PRIVILEGE": "Breakwater-77",
    "OAST_SECRET_READ": "kelp-and-foam",
}
TEMPLATE = """{#
section: all
owns: [system/contact, ntp, snmp/community *, acl gate, interface port1/description, interface port1/enabled]
#}
system
  contact desk-{{ round }}
ntp
  server 192.0.2.1
snmp
  community {{ read }}
acl gate
  ace accept tcp source-network 198.51.100.0/24
  ace drop ip
interface port1
  description "round {{ round }}"
  enabled false
"""
STARTUP = """system
  hostname {name}
  contact before
ntp
  server 192.0.2.9
acl gate
  ace accept ip
interface manage0
  ipv4
    address 192.0.2.7/24
interface port1
  description before
  enabled false
  ingress-acl gate
"""
COWL_TEMPLATE = """{#
section: all
owns: [system/contact, ntp, snmp/community *, acls/acl gate, interfaces/interface port1/description, interfaces/interface port1/enabled]
#}
/system/contact = desk-{{ round }}
/ntp/server[address=192.0.2.1]
/snmp/community[name={{ read }}]
/acls/acl[name=gate]/ace[name=first]/forwarding = accept
/acls/acl[name=gate]/ace[name=first]/source-network = 198.51.100.0/24
/acls/acl[name=gate]/ace[name=last]/forwarding = drop
/interfaces/interface[name=port1]/description = "round {{ round }}"
/interfaces/interface[name=port1]/enabled = false
"""
COWL_STARTUP = """/system/hostname = {name}
/system/contact = before
/ntp/server[address=192.0.2.9]
/acls/acl[name=gate]/ace[name=last]/forwarding = accept
/interfaces/interface[name=manage0]/ipv4/address[ip=192.0.2.7]/prefix-length = 24
/interfaces/interface[name=port1]/description = before
/interfaces/interface[name=port1]/enabled = false
/interfaces/interface[name=port1]/ingress-acl = gate
"""
# The rest of what a device says from some moment on, made of what it would have said.
Turn = Callable[[random.Random, str], Iterator[str | float]]
PAGES = ("[ page 1: Enter for more, q to stop ]", "-- page 1, space: more, x: enough --")
PROMPTS = ("quay full| ", "quay ~ ", "quay candidate ~ ")
SECONDS = 400.0


def silent(chance: random.Random, said: str) -> Iterator[str | float]:
    yield SECONDS


def gone(chance: random.Random, said: str) -> Iterator[str | float]:
    yield said[: chance.randrange(len(said) + 1)]
    yield ""


def trickling(chance: random.Random, said: str) -> Iterator[str | float]:
    for _ in range(5000):
        yield chance.choice("x \r\n")
        yield 0.4


def paging(chance: random.Random, said: str) -> Iterator[str | float]:
    for _ in range(5000):
        yield f"\r\nmore of the same{chance.choice((*PAGES, *PROMPTS))}"
        yield 0.05


def flooding(chance: random.Random, said: str) -> Iterator[str | float]:
    line = chance.choice(("x" * 4000, "  \r\n" * 1000, "\x1b[1m" * 900, chance.choice(PROMPTS) * 300))
    for _ in range(3000):
        yield line


def deepening(chance: random.Random, said: str) -> Iterator[str | float]:
    yield (
        "\r\n".join(" " * n + "deeper" for n in range(chance.choice((50, 3000))))
        + f"\r\n{chance.choice(PROMPTS)}"
    )


def garbling(chance: random.Random, said: str) -> Iterator[str | float]:
    odd = "".join(map(chr, (*range(32), 0x7F, 0x85, 0x202E, 0x2028, 0xE100, 0xFFFD)))
    yield "".join(chance.choice(odd) if chance.random() < 0.1 else letter for letter in said)


def refusing(chance: random.Random, said: str) -> Iterator[str | float]:
    yield f"\r\n{chance.choice(('error', 'refused'))}: no {PASSWORDS['OAST_SECRET_PRIVILEGE']} today, {PASSWORDS['OAST_SECRET_READ']}\r\n{chance.choice(PROMPTS)}"


def dawdling(chance: random.Random, said: str) -> Iterator[str | float]:
    for number in range(0, len(said), 7):
        yield said[number : number + 7]
        yield chance.choice((0.0, 0.2, 3.0))


def repeating(chance: random.Random, said: str) -> Iterator[str | float]:
    yield said * chance.choice((2, 3))


def interrupting(chance: random.Random, said: str) -> Iterator[str | float]:
    at = chance.randrange(len(said) + 1)
    yield (
        said[:at]
        + chance.choice(
            (
                f"\r\n{chance.choice(PROMPTS)}",
                "\r\n%clock: tide has turned\r\n",
                *PAGES,
                "Privilege password: ",
            )
        )
        + said[at:]
    )


TURNS: tuple[Turn, ...] = (
    silent, gone, trickling, paging, flooding, deepening, garbling, refusing, dawdling, repeating, interrupting,
)  # fmt: skip


class Hostile:
    """A transport to `device` which turns hostile after `good` lines, and, where `lasting`, stays so."""

    addresses = ("192.0.2.7", "192.0.2.200")

    def __init__(
        self, device: Bine | Cowl, chance: random.Random, *, good: int, turn: Turn | None, lasting: bool
    ) -> None:
        self._shell = device.terminal("oast", 200)
        self._chance = chance
        self._good = good
        self._turn = turn
        self._lasting = lasting
        self._said: asyncio.Queue[str | float] = asyncio.Queue()
        self._said.put_nowait(self._shell.greeting())
        self._rest: Iterator[str | float] | None = None

    async def read(self) -> str:
        while True:
            if self._rest is None:
                piece = await self._said.get()
            else:
                piece = next(self._rest, 0.0)
                if piece == 0.0:
                    self._rest = None
                    continue
            if isinstance(piece, str):
                await asyncio.sleep(0)
                return piece
            await asyncio.sleep(piece)

    def write(self, text: str) -> None:
        said = self._shell.receive(text)
        self._good -= text.count("\n")
        if self._turn is not None and self._good < 0:
            self._rest = self._turn(self._chance, said)
            self._turn = self._turn if self._lasting else None
        else:
            self._said.put_nowait(said)
        if self._shell.closed:
            self._said.put_nowait("")

    def end_input(self) -> None:
        return

    async def close(self) -> None:
        self._shell.end()


class Fleet:
    """An estate with `number` devices of which each of these turns hostile in its own way, by `seed`."""

    def __init__(self, folder: Path, number: int, seed: int) -> None:
        self.folder = folder
        self.chance = random.Random(seed)
        self.devices: dict[int, Bine | Cowl] = {}
        self.turns: dict[int, tuple[Turn, int, bool]] = {}
        for port in range(1, number + 1):
            name = f"pier-{port}"
            system = self.chance.choice(("bine", "cowl"))
            startup = (STARTUP if system == "bine" else COWL_STARTUP).format(name=name)
            plan = DevicePlan(
                name, system, frozenset(("manage0", "port1")), frozenset(), "192.0.2.7", startup
            )
            state = NetworkState(NetworkPlan((plan,), (), (), "x", 0.0), lambda: 0.0)
            (folder / "sim" / name).mkdir(parents=True)
            device = SYSTEMS[system](plan, folder / "sim" / name, state)
            device.start(
                (Account("oast", "administrator", PASSWORDS["OAST_SECRET_LOGIN"]),),
                PASSWORDS["OAST_SECRET_PRIVILEGE"],
            )
            self.devices[port] = device
            # A whole delivery is about forty lines.
            self.turns[port] = (
                self.chance.choice(TURNS),
                self.chance.randrange(45),
                self.chance.random() < 0.5,
            )
        self._write()

    def _write(self) -> None:
        inventory = "".join(
            f"  pier-{p}: {{address: 127.0.0.1, port: {p}, platform: {d.plan.system}}}\n"
            for p, d in self.devices.items()
        )
        files = {
            "oast.toml": 'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login" }\n'
            'privilege_password = { secret = "privilege" }\ncommand_timeout_s = 5\nmax_answer_s = 20\nmax_answer_bytes = 200000\n'
            "[delivery]\nrevert_timer_s = 60\nverify_timeout_s = 2\nmax_failures = 1000\n",
            "inventory/devices.yaml": f"devices:\n{inventory}",
            "values/all.yaml": "everywhere:\n  round: 1\n  read: {secret: read}\n",
            "intent.yaml": "sections:\n  - section: all\n",
            "templates/bine/all.j2": TEMPLATE,
            "templates/cowl/all.j2": COWL_TEMPLATE,
        }
        for name, text in files.items():
            path = self.folder / "estate" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)

    async def connect(self, target: Target, login: Login, timeout_s: float, jumps: object = None) -> Hostile:
        if target.port not in self.devices:
            raise ConnectionFailed("no such device")
        turn, good, lasting = self.turns[target.port]
        return Hostile(
            self.devices[target.port],
            random.Random(self.chance.random()),
            good=good,
            turn=turn,
            lasting=lasting,
        )

    def run(self, *arguments: str) -> tuple[int, str, str]:
        """The program on this estate: its exit code and what it wrote."""
        return run_program([*arguments, "--estate", str(self.folder / "estate")], self.connect, PASSWORDS)


SYSTEMS: Mapping[str, type[Bine | Cowl]] = {"bine": Bine, "cowl": Cowl}
EXITS = (0, 1, 4, 5)
RUN_AT_MOST_S = 120.0


def sessions(number: int, seed: int, *, together: int = 20) -> list[str]:
    """About `number` hostile sessions, `together` in a run of the program; what was wrong with any."""
    found: list[str] = []
    for first in range(0, number, together):
        with tempfile.TemporaryDirectory(prefix="oast-hostile-") as folder:
            fleet = Fleet(Path(folder), min(together, number - first), seed + first)
            found += [f"seed {seed + first}: {what}" for what in _looked_at(fleet)]
    return found


def _looked_at(fleet: Fleet) -> Iterator[str]:
    before: dict[int, str] = {port: device.running.text() for port, device in fleet.devices.items()}
    started = time.monotonic()
    code, out, err = fleet.run("push", "-m", "through", "--yes", "--format", "json")
    if time.monotonic() - started > RUN_AT_MOST_S:
        yield f"it took {time.monotonic() - started:.0f} s"
    if code not in EXITS or "Traceback" in err or "fault of Oast" in err + out:
        yield f"exit code {code}: {err[-600:]}"
        return
    reported = json.loads(out)["devices"]
    for told in reported:
        yield from _truth(fleet, told, before)
    if len(reported) != len(fleet.devices):
        yield "not every device is reported"
    logs = "".join(
        path.read_text() for path in (fleet.folder / "estate/.oast/log").rglob("*") if path.is_file()
    )
    for name, secret in PASSWORDS.items():
        if secret in out + err + logs:
            yield f"{name} is shown"
    if resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 > 500_000_000:
        yield "more than 500 MB of memory"


def _truth(fleet: Fleet, told: Mapping[str, str], before: Mapping[int, str]) -> Iterator[str]:
    port = int(told["device"].removeprefix("pier-"))
    device, (turn, good, lasting) = fleet.devices[port], fleet.turns[port]
    running = device.running.text()
    about = f"{told['device']} ({turn.__name__} after {good} lines, {'for good' if lasting else 'once'}): {told['state']}, {told['reason']}"
    is_bine = isinstance(device, Bine)
    tree = tree_of if is_bine else cowl_tree_of
    if told["state"] == "delivered" and (
        ("contact desk-1" if is_bine else "contact = desk-1") not in running or "kelp-and-foam" not in running
    ):
        yield f"{about}, but it runs\n{running}"
    if told["state"] in ("unchanged", "reverted") and tree(running) != tree(before[port]):
        yield f"{about}, but it runs\n{running}"
    if (
        told["state"] != "delivered"
        and device.waits_s() is None
        and tree(running) != tree(before[port])
        and told["state"] != "unknown"
    ):
        yield f"{about}, but it was confirmed"
