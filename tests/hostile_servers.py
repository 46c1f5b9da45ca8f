"""Many SSH servers on loopback, in processes of their own: most answer as a device does, some send without end, or nothing, or junk.

As a program: `python hostile_servers.py NUMBER HOSTILE KEY KIND FIRST`, with the host key's file; it prints the ports as JSON, those of hostile devices
as "hostile", and serves until its standard input ends. `fleet` starts several of these, and writes an estate for them.
"""

from __future__ import annotations

import asyncio
import json
import re
import subprocess
import sys
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import asyncssh

PASSWORD = "kelp-and-foam"
PROMPT = "quay view| "
PLATFORMS = {"cli": "bine", "netconf": "roundel"}
TEMPLATES = {"cli": "system\n  contact after\n", "netconf": "/system/contact = after\n"}
PATIENT = "command_timeout_s = 30\nmax_answer_s = 90\n"
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
        yield "".join(
            f"interface port{number}\r\n  description {number}\r\n" for number in range(first, first + 500)
        )
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


HOSTILE: tuple[Answer, ...] = (
    flooding,
    one_line,
    unknown_lines,
    known_lines,
    deep,
    silent,
    trickling,
    prompting,
)


# --- NETCONF (RFC 6241) with the end-of-message framing (RFC 6242, section 4.3): of each, what stands in place of the reply to a request

BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
END = b"]]>]]>"
HELLO = (
    f'<hello xmlns="{BASE}"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability>'
    "<capability>urn:ietf:params:netconf:capability:candidate:1.0</capability>"
    "<capability>urn:ietf:params:netconf:capability:confirmed-commit:1.1</capability>"
    "<capability>urn:ietf:params:netconf:capability:validate:1.1</capability></capabilities><session-id>7</session-id></hello>"
).encode()
SYSTEM = '<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>pier</hostname><contact>before</contact></system>'
Reply = Callable[[str], AsyncIterator[bytes]]


def reply(number: str, data: str) -> bytes:
    return f'<rpc-reply xmlns="{BASE}" message-id="{number}"><data>{data}</data></rpc-reply>'.encode() + END


def replying(*pieces: Callable[[str], bytes]) -> Reply:
    async def answer(number: str) -> AsyncIterator[bytes]:
        for piece in pieces:
            yield piece(number)

    return answer


def endlessly(piece: Callable[[str], bytes], pause_s: float = 0.0) -> Reply:
    async def answer(number: str) -> AsyncIterator[bytes]:
        while True:
            await asyncio.sleep(pause_s)
            yield piece(number)

    return answer


HOSTILE_NETCONF: tuple[Reply, ...] = (
    replying(lambda n: reply(n, "<a/>" * 400_000)),
    replying(lambda n: reply(n, "<a>" * 3000 + "</a>" * 3000)),
    replying(lambda n: reply(n, "<a " + "".join(f" x{k}='1'" for k in range(600_000)) + "/>")),
    replying(lambda n: reply(n, f"<a>{'x' * 20_000_000}</a>")),
    replying(lambda n: reply(n, "".join(f'<a xmlns:p{k}="u{k}"/>' for k in range(60_000)))),
    replying(lambda n: reply(n, SYSTEM.replace("before", "&lt;" * 400_000))),
    replying(lambda n: b'<!DOCTYPE a [<!ENTITY b "c">]>' + reply(n, "&b;")),
    replying(lambda n: reply(n + "9", SYSTEM)),
    replying(lambda n: reply(n, SYSTEM).replace(b"message-id", b"messageid")),
    replying(lambda n: b"\xff\xfe\x00" * 1000 + END),
    replying(lambda n: b"<rpc-reply" + END),
    replying(lambda n: b"</a>" + END),
    replying(lambda n: END * 2000),
    replying(lambda n: reply(n, "")[: len(END) * 3]),
    replying(lambda n: reply(n, "<zz xmlns='urn:ietf:params:xml:ns:yang:ietf-system'/>" * 49_000)),
    replying(lambda n: f'<rpc-reply xmlns="{BASE}" message-id="{n}"><ok/></rpc-reply>'.encode() + END),
    replying(lambda n: f'<hello xmlns="{BASE}"/>'.encode() + END),
    endlessly(lambda n: b"<notification xmlns='urn:ietf:params:xml:ns:netconf:notification:1.0'/>" + END),
    endlessly(lambda n: b"<rpc-reply>" * 1000),
    endlessly(lambda n: b" ", 0.3),
    replying(),
)


def netconf_requests(buffer: bytearray) -> Iterator[str]:
    """The message-id of each request that is whole; the hello has none."""
    while (at := buffer.find(END)) >= 0:
        message = bytes(buffer[:at])
        del buffer[: at + len(END)]
        match = re.search(rb'message-id="([^"]*)"', message)
        if match is not None:
            yield match[1].decode()


async def serve_netconf(process: asyncssh.SSHServerProcess[bytes], hostile: Reply | None) -> None:
    """A server that answers every request with the same configuration."""
    process.stdout.write(HELLO + END)
    buffer = bytearray()
    try:
        while data := await process.stdin.read(65_536):
            buffer += data
            for number in netconf_requests(buffer):
                async for piece in (hostile or replying(lambda n: reply(n, SYSTEM)))(number):
                    process.stdout.write(piece)
                    await process.stdout.drain()
    except (asyncssh.Error, OSError):
        pass  # The client has ended.
    process.exit(0)


# --- servers


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


async def serve(number: int, hostile: int, key: str, kind: str, first: int) -> None:
    ports: dict[str, list[int]] = {"honest": [], "hostile": []}
    private = asyncssh.read_private_key(key)
    ways: tuple[Any, ...] = HOSTILE if kind == "cli" else HOSTILE_NETCONF
    serving: Any = serve_device if kind == "cli" else serve_netconf
    for one in range(number):
        answer = ways[(first + one) % len(ways)] if one < hostile else None

        async def device(process: Any, answer: Any = answer) -> None:
            await serving(process, answer)

        acceptor = await asyncssh.listen(
            "127.0.0.1", 0, server_factory=Server, process_factory=device, server_host_keys=[private], line_editor=False, backlog=20,
            encoding="utf-8" if kind == "cli" else None,
        )  # fmt: skip
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
def fleet(
    folder: Path,
    number: int,
    hostile: int,
    processes: int,
    settings: str = PATIENT,
    kind: str = "cli",
    first: int = 0,
) -> Iterator[Fleet]:
    """`number` devices of which so many are hostile, served by so many processes; and an estate with all of them, with these settings of
    its connections. The `kind` is cli or netconf; hostile devices take turns in how they are, from the one with the number `first`."""
    key = asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(folder / "host-key")
    with ExitStack() as stack:
        ports: dict[str, list[int]] = {"honest": [], "hostile": []}
        for one in range(processes):
            share = [total // processes + (one < total % processes) for total in (number, hostile)]
            command = [sys.executable, __file__, *map(str, share), str(folder / "host-key"), kind, str(first)]
            first += share[1]
            process = stack.enter_context(
                subprocess.Popen(
                    command,
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.DEVNULL,
                    text=True,
                )
            )
            stack.callback(process.kill)
            assert process.stdout is not None
            for nature, found in json.loads(process.stdout.readline()).items():
                ports[nature] += found
        yield _estate(folder, ports, key.export_public_key().decode().split()[:2], settings, kind)


def _estate(folder: Path, ports: dict[str, list[int]], key: list[str], settings: str, kind: str) -> Fleet:
    devices = {f"{one}-{port}": port for one, found in ports.items() for port in found}
    files = {
        "oast.toml": 'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login" }\n'
        f"connect_timeout_s = 60\nretries = 0\n{settings}",
        "inventory/devices.yaml": "devices:\n"
        + "".join(
            f"  {name}: {{address: 127.0.0.1, port: {port}, platform: {PLATFORMS[kind]}}}\n"
            for name, port in sorted(devices.items(), key=_mixed)
        ),
        "intent.yaml": "sections:\n  - section: all\n",
        f"templates/{PLATFORMS[kind]}/all.j2": f"{{#\nsection: all\nowns: [system/contact]\n#}}\n{TEMPLATES[kind]}",
        "known_hosts": "".join(f"{name} {' '.join(key)}\n" for name in devices),
    }
    estate = folder / "estate"
    for name, text in files.items():
        (estate / name).parent.mkdir(parents=True, exist_ok=True)
        (estate / name).write_text(text)
    kinds = (frozenset(name for name in devices if name.startswith(one)) for one in ("honest", "hostile"))
    return Fleet(estate, *kinds)


def _mixed(item: tuple[str, int]) -> int:
    """Hostile devices stand everywhere among the others."""
    return item[1] * 7919 % 10_007


if __name__ == "__main__":
    asyncio.run(serve(int(sys.argv[1]), int(sys.argv[2]), sys.argv[3], sys.argv[4], int(sys.argv[5])))
