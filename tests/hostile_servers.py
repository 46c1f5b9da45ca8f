"""Many SSH servers on loopback, in processes of their own: most answer as a device does, some send without end, or nothing, or junk.

As a program: `python hostile_servers.py NUMBER HOSTILE KEY`, with the host key's file; it prints the ports as JSON, those of hostile devices
as "hostile", and serves until its standard input ends. `fleet` starts several of these, and writes an estate for them.
"""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path

import asyncssh

PASSWORD = "kelp-and-foam"
PROMPT = "quay view| "
PATIENT = "command_timeout_s = 30\nanswer_at_most_s = 90\n"
HONEST = "system\r\n  hostname pier\r\n  contact before\r\n" + "".join(
    f"interface port{n}\r\n  description gate-{n}\r\n  mtu 9000\r\n" for n in range(1, 30)
)
Answer = Callable[[], AsyncIterator[str]]


async def flooding() -> AsyncIterator[str]:
    while True:
        yield "x" * 8000 + "\r\n"


async def one_line() -> AsyncIterator[str]:
    while True:
        yield "x" * 8000


async def unknown_lines() -> AsyncIterator[str]:
    for first in range(0, 49_000, 500):
        yield "".join(f"zz-{number} of no use\r\n" for number in range(first, first + 500))
    yield PROMPT


async def known_lines() -> AsyncIterator[str]:
    for first in range(0, 24_000, 500):
        yield "".join(f"interface port{number}\r\n  description {number}\r\n" for number in range(first, first + 500))
    yield PROMPT


async def deep() -> AsyncIterator[str]:
    yield "".join(" " * number + "deeper\r\n" for number in range(900)) + PROMPT


async def silent() -> AsyncIterator[str]:
    await asyncio.sleep(3600)
    yield ""


async def trickling() -> AsyncIterator[str]:
    while True:
        await asyncio.sleep(0.3)
        yield "."


async def prompting() -> AsyncIterator[str]:
    while True:
        yield PROMPT * 500


HOSTILE: tuple[Answer, ...] = (flooding, one_line, unknown_lines, known_lines, deep, silent, trickling, prompting)


class Server(asyncssh.SSHServer):
    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return password == PASSWORD


async def serve_device(process: asyncssh.SSHServerProcess[str], hostile: Answer | None) -> None:
    """A command line: it knows how to list its configuration, and nothing else."""
    process.stdout.write(PROMPT)
    try:
        async for line in process.stdin:
            if line.strip() not in ("read running", "read startup"):
                process.stdout.write(f"\r\n{PROMPT}")
            elif hostile is None:
                process.stdout.write(HONEST + PROMPT)
            else:
                async for piece in hostile():
                    process.stdout.write(piece)
                    await process.stdout.drain()
    except (asyncssh.Error, OSError):
        pass  # The client has ended.
    process.exit(0)


async def serve(number: int, hostile: int, key: str) -> None:
    ports: dict[str, list[int]] = {"honest": [], "hostile": []}
    private = asyncssh.read_private_key(key)
    for one in range(number):
        answer = HOSTILE[one % len(HOSTILE)] if one < hostile else None

        async def device(process: asyncssh.SSHServerProcess[str], answer: Answer | None = answer) -> None:
            await serve_device(process, answer)

        acceptor = await asyncssh.listen(
            "127.0.0.1", 0, server_factory=Server, process_factory=device, server_host_keys=[private], line_editor=False, backlog=20
        )
        ports["hostile" if answer else "honest"].append(acceptor.get_port())
    sys.stdout.write(json.dumps(ports) + "\n")
    sys.stdout.flush()
    await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)


@dataclass(frozen=True)
class Fleet:
    """An estate for the servers, and the names of the honest and of the hostile devices."""

    estate: Path
    honest: frozenset[str]
    hostile: frozenset[str]


@contextmanager
def fleet(folder: Path, number: int, hostile: int, processes: int, settings: str = PATIENT) -> Iterator[Fleet]:
    """`number` devices of which so many are hostile, served by so many processes; and an estate with all of them, with these settings of
    its connections."""
    key = asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(folder / "host-key")
    with ExitStack() as stack:
        ports: dict[str, list[int]] = {"honest": [], "hostile": []}
        for one in range(processes):
            share = [total // processes + (one < total % processes) for total in (number, hostile)]
            command = [sys.executable, __file__, *map(str, share), str(folder / "host-key")]
            process = stack.enter_context(
                subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
            )
            stack.callback(process.kill)
            assert process.stdout is not None
            for kind, found in json.loads(process.stdout.readline()).items():
                ports[kind] += found
        yield _estate(folder, ports, key.export_public_key().decode().split()[:2], settings)


def _estate(folder: Path, ports: dict[str, list[int]], key: list[str], settings: str) -> Fleet:
    devices = {f"{kind}-{port}": port for kind, found in ports.items() for port in found}
    files = {
        "oast.toml": 'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login" }\n'
        f"connect_timeout_s = 60\nretries = 0\n{settings}",
        "inventory/devices.yaml": "devices:\n"
        + "".join(
            f"  {name}: {{address: 127.0.0.1, port: {port}, platform: bine}}\n" for name, port in sorted(devices.items(), key=_mixed)
        ),
        "intent.yaml": "sections:\n  - section: all\n",
        "templates/bine/all.j2": "{#\nsection: all\nowns: [system/contact]\n#}\nsystem\n  contact after\n",
        "known_hosts": "".join(f"{name} {' '.join(key)}\n" for name in devices),
    }
    estate = folder / "estate"
    for name, text in files.items():
        (estate / name).parent.mkdir(parents=True, exist_ok=True)
        (estate / name).write_text(text)
    kinds = (frozenset(name for name in devices if name.startswith(kind)) for kind in ("honest", "hostile"))
    return Fleet(estate, *kinds)


def _mixed(item: tuple[str, int]) -> int:
    """Hostile devices stand everywhere among the others."""
    return item[1] * 7919 % 10_007


if __name__ == "__main__":
    asyncio.run(serve(int(sys.argv[1]), int(sys.argv[2]), sys.argv[3]))
