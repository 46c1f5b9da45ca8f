"""Many devices of all three systems at once: reading them, waiting for slow ones, and what it takes of
memory."""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import asyncssh
from simulator import Bare, BareSession

from oast.estate.estate import Estate, load_estate

SECRETS = {"OAST_SECRET_LOGIN_PASSWORD": "bench-login", "OAST_SECRET_PRIVILEGE_PASSWORD": "bench-privilege"}
PREPARED = {
    "bine": ("session page-length 0", "read running", "| "),
    "cowl": ("page off", "list running", " ~ "),
}
# What is told to a device of NETCONF: hellos of either version, a request for what runs, and the end (RFC
# 6241, RFC 6242).
BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
END = "]]>]]>"
HELLO = (
    "<hello"
    ' xmlns="{}"><capabilities>'
    "<capability>urn:ietf:params:netconf:base:1.{}</capability></capabilities></hello>"
)
GET = f'<rpc message-id="1" xmlns="{BASE}"><get-config><source><running/></source></get-config></rpc>'
CLOSE = f'<rpc message-id="2" xmlns="{BASE}"><close-session/></rpc>'
SYSTEMS = ("bine", "cowl", "roundel")
# What reading a device takes: one command to prepare, one that lists, the empty line behind it; one request.
ROUNDS = {"bine": 3, "cowl": 3, "roundel": 1}
PORTS = 50
KEY = "bench-key"


def mixed_network(folder: Path, number: int, ports: int = PORTS) -> Estate:
    """An estate with `number` simulated devices, a third of each system, each with `ports` interfaces of two
    lines or more."""
    names = ", ".join(f"port{n}" for n in range(1, ports + 1))
    bine = "".join(f"interface port{n}\n  description gate-{n}\n  mtu 9000\n" for n in range(1, ports + 1))
    here = "/interfaces/interface[name=port{}]"
    cowl = "".join(
        f"{here.format(n)}/description = gate-{n}\n{here.format(n)}/mtu = 9000\n" for n in range(1, ports + 1)
    )
    port = "/interfaces/interface[name=port{}]"
    roundel = "".join(
        f"{port.format(n)}/type = roundel-if-type:ethernet\n{port.format(n)}/description ="
        f" gate-{n}\n{port.format(n)}/ipv4/mtu = 9000\n"
        for n in range(1, ports + 1)
    )
    private = asyncssh.generate_private_key("ssh-ed25519")
    private.write_private_key(folder / KEY)
    (folder / KEY).chmod(0o600)
    algorithm, data = private.export_public_key().decode().split()[:2]
    bine = f"user oast\n  authorized-key bench {algorithm} {data}\n{bine}"
    user = "/users/user[name=oast]/authorized-key[name=bench]"
    cowl = f"{user}/algorithm = {algorithm}\n{user}/key-data = {data}\n{cowl}"
    (folder / "bine.txt").write_text(
        "system\n  hostname ${name}\ninterface manage0\n  ipv4\n    address ${management}/16\n" + bine
    )
    manage = "/interfaces/interface[name=manage0]/ipv4/address[ip=${management}]/prefix-length = 16\n"
    (folder / "cowl.txt").write_text("/system/hostname = ${name}\n" + manage + cowl)
    user = "/system/authentication/user[name=oast]/authorized-key[name=bench]"
    manage = "/interfaces/interface[name=manage0]/type = roundel-if-type:ethernet\n" + manage
    roundel = (
        f"/system/hostname = ${{name}}\n{manage}{user}/algorithm = {algorithm}\n{user}/key-data ="
        f" {data}\n{roundel}"
    )
    (folder / "roundel.txt").write_text(roundel)
    devices = {f"edge-{n}": (SYSTEMS[n % 3], f"192.0.{n // 250}.{n % 250 + 1}") for n in range(number)}
    (folder / "network.yaml").write_text(
        "format: 1\naccounts: [{name: oast, role: administrator, password:"
        f" login-password}}]\nprivilege-password: privilege-password\ndefaults: {{ports: [manage0, {names}],"
        f" attached: [{names}]}}\ndevices:\n"
        + "".join(
            f"  {n}: {{system: {s}, startup: {s}.txt, management: {a}}}\n" for n, (s, a) in devices.items()
        )
    )
    (folder / "oast.toml").write_text(
        'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login-password" }\nsimulated ='
        " true\nconnect_timeout_s = 120\ncommand_timeout_s = 120\n"
    )
    (folder / "inventory").mkdir()
    (folder / "inventory" / "devices.yaml").write_text(
        "devices:\n" + "".join(f"  {n}: {{address: {a}, platform: {s}}}\n" for n, (s, a) in devices.items())
    )
    return load_estate(folder, SECRETS)


async def bare_reading(estate: Estate, addresses: list[tuple[str, int]], parallel: int) -> None:
    """Connect, run the same commands in a shell, or the same request in a NETCONF session, disconnect."""
    places = asyncio.Semaphore(parallel)

    async def one(system: str, host: str, port: int) -> str:
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
            if system == "roundel":
                return await requested(connection)
            prepare, running, prompt = PREPARED[system]
            async with (
                connection,
                connection.create_process(term_type="dumb", term_size=(500, 200)) as process,
            ):
                await process.stdout.readuntil(prompt)
                process.stdin.write(f"{prepare}\n")
                await process.stdout.readuntil(prompt)
                process.stdin.write(f"{running}\n\n")
                text: str = await process.stdout.readuntil(prompt)
                return text + await process.stdout.readuntil(prompt)

    systems = [str(device.attributes["platform"]) for device in estate.devices.values()]
    await asyncio.gather(*(one(system, *address) for system, address in zip(systems, addresses, strict=True)))


async def requested(connection: asyncssh.SSHClientConnection) -> str:
    """Exchange hellos, and ask a device of NETCONF for what runs; in chunks (RFC 6242, section 4.2)."""
    async with connection, connection.create_process(subsystem="netconf", encoding="utf-8") as process:
        await process.stdout.readuntil(END)
        process.stdin.write(HELLO.format(BASE, 1) + END + f"\n#{len(GET)}\n{GET}\n##\n")
        text: str = await process.stdout.readuntil("\n##\n")
        return text


def by_openssh(estate: Estate, addresses: list[tuple[str, int]], folder: Path) -> Callable[[], object]:
    """The same reads with OpenSSH's client, twenty at a time by xargs; it logs in with a key."""
    key = folder / KEY
    systems = [str(device.attributes["platform"]) for device in estate.devices.values()]
    lines = []
    for system, (host, port) in zip(systems, addresses, strict=True):
        options = (
            f"-i {key} -o BatchMode=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o"
            f" LogLevel=ERROR -p {port}"
        )
        if system == "roundel":
            typed = "".join(f"{message}{END}" for message in (HELLO.format(BASE, 0), GET, CLOSE))
            lines.append(f"printf '{typed}' | ssh {options} -s oast@{host} netconf > /dev/null")
        else:
            typed = "\\n".join((*PREPARED[system][:2], "leave", ""))
            lines.append(f"printf '{typed}' | ssh -tt {options} oast@{host} > /dev/null")
    (folder / "lines").write_text("".join(f"{line}\n" for line in lines))
    command = f"tr '\\n' '\\0' < {folder / 'lines'} | xargs -0 -P 20 -I LINE sh -c LINE"
    return lambda: subprocess.run(command, shell=True, check=True)


_COMPARED = """
import asyncio, resource, sys
import oast
async def main():
    async with await oast.open(sys.argv[1], {secrets!r}).compare() as plan:
        assert len(plan.comparisons) == {number}, (len(plan.comparisons), plan.failed[:1])
asyncio.run(main())
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
"""


def peak_of_comparing(folder: Path, number: int, lines: int) -> int:
    """The most memory, in bytes, that comparing `number` devices of `lines` lines takes, in a process of its
    own.

    The devices are servers that answer with a text: simulated ones would take minutes to begin with so much.
    """
    with serving(number, lines) as ports:
        files = {
            ".oast/sim/listening.json": json.dumps(
                {"devices": {f"edge-{n}": {"host": "127.0.0.1", "port": p} for n, p in enumerate(ports)}}
            ),
            "oast.toml": (
                'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login-password"'
                " }\nsimulated = true\n"
            ),
            "inventory/devices.yaml": (
                "devices:\n"
                + "".join(
                    f"  edge-{n}: {{address: 192.0.{n // 250}.{n % 250 + 1}, platform: bine}}\n"
                    for n in range(number)
                )
            ),
            "intent.yaml": "sections:\n  - section: name\n",
            "templates/bine/name.j2": (
                "{#\nsection: name\nowns: [system/contact]\n#}\nsystem\n  contact desk\n"
            ),
        }
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text)
        trust = [
            str(Path(sys.executable).with_name("oast")),
            "devices",
            "trust",
            "--yes",
            "--estate",
            str(folder),
        ]
        subprocess.run(trust, check=True, stdout=subprocess.DEVNULL, env={**os.environ, **SECRETS})
        script = _COMPARED.format(secrets=SECRETS, number=number)
        done = subprocess.run(
            [sys.executable, "-c", script, str(folder)], capture_output=True, text=True, check=True
        )
        return int(done.stdout) * 1024


class _Listing(BareSession):
    """Answers `read running` and `read startup` with a long configuration in which every third line is the
    device's own."""

    def __init__(self, number: int, lines: int) -> None:
        self._number, self._lines = number, lines

    def data_received(self, data: str, datatype: object) -> None:
        for line in data.splitlines():
            self._channel.write(f"{line}\r\n")
            if line in ("read running", "read startup"):
                made = []
                for port in range(self._lines // 3):
                    own = f"  description edge-{self._number}-{port}"
                    made.append(f"interface port{port}\r\n{own}\r\n  mtu 9000\r\n")
                self._channel.write("".join(made))
            self._channel.write("bare view| ")


@contextmanager
def serving(number: int, lines: int) -> Iterator[list[int]]:
    """Such servers, in a process of their own; their ports."""
    process = subprocess.Popen(
        [sys.executable, __file__, str(number), str(lines)], stdout=subprocess.PIPE, text=True
    )
    try:
        yield json.loads(process.stdout.readline() if process.stdout is not None else "")
    finally:
        process.terminate()
        process.wait()
        if process.stdout is not None:
            process.stdout.close()


async def _serve(number: int, lines: int) -> None:
    key = asyncssh.generate_private_key("ssh-ed25519")
    ports = []
    for one in range(number):
        server = type("Server", (Bare,), {"session_requested": lambda self, one=one: _Listing(one, lines)})
        acceptor = await asyncssh.listen(
            "127.0.0.1", 0, server_factory=server, server_host_keys=[key], encoding="utf-8", line_editor=False
        )
        ports.append(acceptor.get_port())
    print(json.dumps(ports), flush=True)
    await asyncio.Event().wait()


def slow_down(estate: Estate, control: Callable[[dict[str, object]], object], seconds: float) -> None:
    """From now on every command of every device takes `seconds`."""
    for name in estate.devices:
        control({"do": "fault", "device": name, "kind": "slow" if seconds else "none", "seconds": seconds})


if __name__ == "__main__":
    asyncio.run(_serve(int(sys.argv[1]), int(sys.argv[2])))
