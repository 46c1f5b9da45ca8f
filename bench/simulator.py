"""How long the simulated network takes to be configured from nothing, against servers that only answer with a
prompt.

python bench/simulator.py NUMBER     serve NUMBER such bare servers, and say their ports in a line
"""

from __future__ import annotations

import asyncio
import json
import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import asyncssh

from oast.cli.simulator import Simulator

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from routers import ENVIRONMENT, lay_out

AT_ONCE = 50
IN_FLIGHT = 20
PROMPT = re.compile(r"[\w.-]+ (?:view|full|edit)\| ")


async def configure(addresses: dict[str, tuple[str, int]], texts: dict[str, str]) -> None:
    """Log in to every router, enter its lines, save."""
    places = asyncio.Semaphore(AT_ONCE)

    async def one(name: str) -> None:
        async with places:
            host, port = addresses[name]
            password = ENVIRONMENT["OAST_SECRET_LOGIN"]
            connection = await asyncssh.connect(
                host,
                port,
                username="oast",
                password=password,
                known_hosts=None,
                config=(),
                agent_path=None,
                client_keys=None,
            )
            async with (
                connection,
                connection.create_process(term_type="dumb", term_size=(500, 200)) as process,
            ):
                await process.stdout.readuntil(PROMPT)
                for command in (
                    "session page-length 0",
                    f"raise\n{ENVIRONMENT['OAST_SECRET_PRIVILEGE']}",
                    "edit",
                ):
                    process.stdin.write(command + "\n")
                    await process.stdout.readuntil(PROMPT)
                lines = texts[name].splitlines()
                for start in range(0, len(lines), IN_FLIGHT):
                    block = lines[start : start + IN_FLIGHT]
                    process.stdin.write("\n".join(block) + "\n")
                    for _ in block:
                        await process.stdout.readuntil(PROMPT)
                for command in ("close", "save startup"):
                    process.stdin.write(command + "\n")
                    await process.stdout.readuntil(PROMPT)

    await asyncio.gather(*(one(name) for name in texts))


class Bare(asyncssh.SSHServer):
    """Takes every password, echoes, and answers every line with a prompt."""

    def password_auth_supported(self) -> bool:
        return True

    def begin_auth(self, username: str) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return True

    def session_requested(self) -> asyncssh.SSHServerSession[str]:
        return BareSession()


class BareSession(asyncssh.SSHServerSession[str]):
    def connection_made(self, chan: asyncssh.SSHServerChannel[str]) -> None:
        self._channel = chan

    def pty_requested(self, term_type: str, term_size: tuple[int, int, int, int], term_modes: object) -> bool:
        return True

    def shell_requested(self) -> bool:
        return True

    def session_started(self) -> None:
        self._channel.write("bare view| ")

    def data_received(self, data: str, datatype: object) -> None:
        self._channel.write(data.replace("raise\n", "").replace("\n", "\r\nbare view| "))


async def _serve(number: int) -> None:
    key = asyncssh.generate_private_key("ssh-ed25519")
    servers = [
        await asyncssh.create_server(
            Bare, "127.0.0.1", 0, server_host_keys=[key], line_editor=False, encoding="utf-8"
        )
        for _ in range(number)
    ]
    print(json.dumps([server.get_port() for server in servers]), flush=True)
    await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)


def configuring(number: int, memory: str | None) -> tuple[float, float, int]:
    """Seconds for `number` simulated routers, seconds for as many bare servers, and lines of configuration
    for each."""
    with tempfile.TemporaryDirectory(dir=memory) as name:
        estate = lay_out(Path(name), number // 10, number - number // 10)
        environment = {**os.environ, **ENVIRONMENT}
        program = [
            str(Path(sys.executable).with_name("oast")),
            "render",
            "--estate",
            str(estate),
            "--out",
            f"{name}/text",
        ]
        subprocess.run(
            program, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment
        )
        texts = {path.stem: path.read_text() for path in Path(name, "text").rglob("*") if path.is_file()}
        ours = floor = float("inf")
        for _ in range(2):
            with subprocess.Popen(
                [sys.executable, __file__, str(number)], stdin=subprocess.PIPE, stdout=subprocess.PIPE
            ) as bare:
                ports = json.loads(bare.stdout.readline()) if bare.stdout else []
                started = time.perf_counter()
                asyncio.run(
                    configure({n: ("127.0.0.1", port) for n, port in zip(texts, ports, strict=True)}, texts)
                )
                floor = min(floor, time.perf_counter() - started)
            simulator = Simulator(estate / "network.yaml", Path(name) / "sim", environment)
            simulator.start()
            try:
                listening = json.loads((Path(name) / "sim" / "listening.json").read_text())["devices"]
                started = time.perf_counter()
                asyncio.run(configure({n: (d["host"], d["port"]) for n, d in listening.items()}, texts))
                ours = min(ours, time.perf_counter() - started)
            finally:
                simulator.stop()
    return ours, floor, max(len(text.splitlines()) for text in texts.values())


if __name__ == "__main__":
    asyncio.run(_serve(int(sys.argv[1])))
