"""The odd systems as real SSH servers on loopback, with faults: a router that lists braces (dotterel), and a host whose daemon has one
file (petrel). They share no code with the tool, and are asked for the truth afterwards."""

from __future__ import annotations

import asyncio
import contextlib
import random
import re
import shlex
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import asyncssh

from odd_devices import Dotterel, Refuses

USER, PASSWORD = "oast", "reed-and-sedge"
WORDS = {
    "name": 1,
    "link": 1,
    "open": 0,
    "closed": 0,
    "text": 1,
    "size": 1,
    "address": 1,
    "ospf": 0,
    "network": 3,
    "quiet": 1,
    "peer": 1,
    "as": 1,
}


@dataclass
class Trouble:
    """What goes wrong, and from which command on (from 1): refuse, untrue, drop, hang, slow, garble, cut or none."""

    kind: str = "none"
    at: int = 1
    lasting: bool = False
    seed: int = 0
    commands: int = 0

    def __post_init__(self) -> None:
        self.chance = random.Random(self.seed)

    def strikes(self) -> bool:
        self.commands += 1
        return self.kind != "none" and (
            self.commands >= self.at if self.lasting else self.commands == self.at
        )


@dataclass
class Petrel:
    """What the daemon runs and its file; `before` is what it goes back to."""

    file: str
    running: str = ""
    before: str | None = None
    files: dict[str, str] = field(default_factory=dict)
    timer: asyncio.TimerHandle | None = None
    until: float = 0.0

    def __post_init__(self) -> None:
        self.running = self.file
        self.files["/etc/petrel.conf"] = self.file

    def do(self, command: str) -> tuple[str, str, int]:
        """What a command says, what it complains of, and its status."""
        put = re.fullmatch(r"cat > (\S+) <<'(\w+)'\n(.*?)\2", command, re.DOTALL)
        try:
            if put is not None:
                self.put(put[1], put[3])
                return "", "", 0
            words = shlex.split(command)
            told = self.answer(words)
            return (self._do(words) if told is None else told), "", 0
        except Refuses as refused:
            return "", f"petrel: {refused}\n", 1

    def put(self, path: str, text: str) -> None:
        self.files[path] = text

    def answer(self, words: Sequence[str]) -> str | None:
        """What one that does not do what it says says instead; None where it does as ever."""
        return None

    def _do(self, words: list[str]) -> str:
        loop = asyncio.get_running_loop()
        if words[:1] == ["cat"] and words[1] in self.files:
            return self.files[words[1]]
        if words == ["petrel", "show"]:
            return self.running
        if words[:2] == ["petrel", "check"]:
            check(self.files[words[2]])
            return ""
        if words[:2] == ["petrel", "load"]:
            check(self.files[words[2]])
            if self.before is not None:
                raise Refuses("something else is being tried out")
            self.before, self.running = self.running, self.files[words[2]]
            self.until = loop.time() + int(words[3])
            self.timer = loop.call_later(int(words[3]), self.back)
            return ""
        if words == ["petrel", "keep"]:
            if self.before is None:
                raise Refuses("nothing is being tried out")
            self._stop()
            return ""
        if words == ["petrel", "back"]:
            self.back()
            return ""
        if words == ["petrel", "state"]:
            return f"goes back in {self.until - loop.time():.0f} s\n" if self.before is not None else "calm\n"
        if words == ["petrel", "links"]:
            return "".join(self._links())
        if words == ["petrel", "neighbours"]:
            return "seen from   who            how far\n---------   ------------   -------\nquay/1      192.0.2.1      friends\n"
        raise Refuses(f"what is '{' '.join(words)}'?")

    def _links(self) -> Iterator[str]:
        for name, inner in re.findall(r"link (\S+) \{([^}]*)\}", self.running):
            yield f"link {name} is {'still' if 'closed' in inner else 'running'}\n"
            yield from (f"    at {address}\n" for address in re.findall(r"address (\S+);", inner))

    def back(self) -> None:
        if self.before is not None:
            self.running = self.before
            self._stop()

    def _stop(self) -> None:
        self.before = None
        if self.timer is not None:
            self.timer.cancel()

    @property
    def truth(self) -> tuple[str, str]:
        """What runs, and what it would start with."""
        return self.running, self.files["/etc/petrel.conf"]


def check(text: str) -> None:
    """Raises Refuses for what the daemon does not understand."""
    depth = 0
    # What stands in a rule is code, of which it looks at nothing but the braces.
    text = re.sub(r"rule \S+ (\{(?:[^{}]|\{[^{}]*\})*\})", "", re.sub(r"#[^\n]*", "", text))
    for words, end in re.findall(r"([^{};]*)([{};])", re.sub(r'"[^"]*"', "quoted", text)):
        split = words.split()
        if end == "}":
            depth -= 1
            if split or depth < 0:
                raise Refuses(f"a brace too many behind '{words.strip()}'")
            continue
        if not split or split[0] not in WORDS or len(split) - 1 != WORDS[split[0]]:
            raise Refuses(f"what is '{words.strip()}'?")
        depth += end == "{"
    if depth:
        raise Refuses("a brace is missing")


class Server:
    """One of them, listening; runs in a thread of its own, so that the program can run as it always does."""

    def __init__(self, device: Petrel | Dotterel, loop: asyncio.AbstractEventLoop) -> None:
        self.device = device
        self.trouble = Trouble()
        self._loop = loop
        self._server: asyncssh.SSHAcceptor | None = None
        self.port = asyncio.run_coroutine_threadsafe(self._listen(), loop).result(20)

    async def _listen(self) -> int:
        key = asyncssh.generate_private_key("ssh-ed25519")
        self._server = server = await asyncssh.create_server(
            _Login,
            "127.0.0.1",
            0,
            server_host_keys=[key],
            process_factory=self._process,
            line_editor=False,
            encoding="utf-8",
            errors="surrogateescape",
        )
        return server.get_port()

    def close(self) -> None:
        if self._server is not None:
            self._loop.call_soon_threadsafe(self._server.close)

    def ask(self, what: Callable[[], Any]) -> Any:
        """Something of the device, in its own thread."""

        async def asked() -> Any:
            return what()

        return asyncio.run_coroutine_threadsafe(asked(), self._loop).result(20)

    async def _process(self, process: Any) -> None:
        with contextlib.suppress(asyncssh.Error, OSError, asyncio.CancelledError):
            if isinstance(self.device, Petrel):
                if process.command is None:
                    process.stderr.write("there is nobody to talk to here\n")
                    process.exit(2)
                    return
                await self._commanded(process, self.device)
            else:
                await self._talked(process, self.device)

    async def _commanded(self, process: Any, device: Petrel) -> None:
        strikes = self.trouble.strikes()
        kind = self.trouble.kind if strikes else "none"
        if not await self._suffers(process, kind):
            return
        out, err, status = (
            ("", "petrel: not today\n", 1)
            if kind == "refuse"
            else ("", "", 0)
            if kind == "untrue"
            else device.do(process.command)
        )
        if kind == "cut":
            process.stdout.write(out[: len(out) // 2])
            process.channel.close()
            return
        process.stdout.write(self._garbled(out) if kind == "garble" else out)
        process.stderr.write(err)
        process.exit(status)

    async def _talked(self, process: Any, device: Dotterel) -> None:
        process.stdout.write(device.greeting().replace("\n", "\r\n"))
        async for raw in process.stdin:
            line = raw.rstrip("\r\n").strip()
            kind = self.trouble.kind if line and self.trouble.strikes() else "none"
            if not await self._suffers(process, kind):
                return
            if kind == "refuse":
                said = f"cannot: not today{device.prompt()}"
            elif kind == "untrue":
                said = device.prompt()
            else:
                said = device.respond(line)
            if kind == "cut":
                process.stdout.write(f"{line}\r\n{said[: len(said) // 2]}".replace("\n", "\r\n"))
                process.channel.get_connection().abort()
                return
            process.stdout.write(
                f"{line}\n{self._garbled(said) if kind == 'garble' else said}".replace("\n", "\r\n")
            )

    async def _suffers(self, process: Any, kind: str) -> bool:
        """Whether the command is done at all."""
        if kind == "drop":
            process.channel.get_connection().abort()
            return False
        if kind == "hang":
            await asyncio.sleep(3600)
        if kind == "slow":
            await asyncio.sleep(0.4)
        return True

    def _garbled(self, text: str) -> str:
        return "".join(
            self.trouble.chance.choice("\x00\x1b{};x") if self.trouble.chance.random() < 0.1 else sign
            for sign in text
        )


class _Login(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == (USER, PASSWORD)


@contextlib.contextmanager
def running() -> Iterator[asyncio.AbstractEventLoop]:
    """An event loop for servers, in a thread of its own."""
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()

    async def end() -> None:
        others = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
        for task in others:
            task.cancel()
        await asyncio.gather(*others, return_exceptions=True)

    try:
        yield loop
    finally:
        asyncio.run_coroutine_threadsafe(end(), loop).result(20)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(20)
        loop.close()
