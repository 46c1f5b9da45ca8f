"""Small devices for tests: SSH servers on loopback whose command lines are a few lines of code, one for each way of delivery.

They share no code with the tool. Each holds its configuration as lines, and is asked for the truth afterwards.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

import asyncssh

USER, PASSWORD = "oast", "reed-and-sedge"


@dataclass
class Fault:
    """What goes wrong: `kind` is refuse, drop, hang, lie, disarm (the timer ends and nothing else is done), meanwhile (`meanwhile` is called, and the line is done as ever), slow (while the timer runs or the candidate is open, the answer takes `seconds`) or none; it strikes at the line `at` (from 1) of all that is typed
    after the fault was set, or at lines that `match`."""

    kind: str = "none"
    at: int = 0
    match: str = ""
    meanwhile: Callable[[], object] = object
    seconds: float = 0.0

    def strikes(self, number: int, line: str) -> bool:
        return self.kind != "none" and (number == self.at or bool(self.match and self.match in line))


@dataclass
class Lab:
    """One device. `way` is timer, candidate, file, scheduled or none. `running` and `startup` are lines."""

    # Addresses that stand in no configuration, by port.
    shown_addresses: ClassVar[Mapping[str, tuple[str, ...]]] = {}

    way: str
    running: list[str]
    reachable: bool = True
    fault: Fault = field(default_factory=Fault)
    candidate: list[str] | None = None
    before: list[str] | None = None
    lines: int = 0
    typed: list[str] = field(default_factory=list)
    files: dict[str, list[str]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.startup = list(self.running)
        self.files["/etc/lab.conf"] = list(self.running)
        self.timer: asyncio.TimerHandle | None = None
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.connections: set[asyncssh.SSHServerConnection] = set()
        self.servers: list[asyncssh.SSHAcceptor] = []

    async def listen(self) -> int:
        """Another way in; its port."""
        server = await asyncssh.create_server(
            lambda: _Server(self, first=not self.servers),
            "127.0.0.1",
            0,
            server_host_keys=[self.key],
            process_factory=self.shell,
            line_editor=False,
            encoding="utf-8",
        )
        self.servers.append(server)
        return server.get_port()

    async def close(self) -> None:
        if self.timer is not None:
            self.timer.cancel()
        for server in self.servers:
            server.close()
            await server.wait_closed()

    @property
    def trusted(self) -> str:
        """The algorithm and the key, as known_hosts has them."""
        return " ".join(self.key.export_public_key().decode().split()[:2])

    # --- the command line -------------------------------------------------------------------------------------------

    async def shell(self, process: Any) -> None:
        """One session: `process` has stdin with lines, stdout, and the channel with its port."""
        editing, quoted = False, []
        put: tuple[str, str] | None = None
        process.stdout.write("lab# ")
        with contextlib.suppress(asyncssh.Error, OSError):
            async for raw in process.stdin:
                line = raw.rstrip("\r\n")
                if put is not None:
                    if line == put[1]:
                        self.files[put[0]], put, quoted = [q for q in quoted if q], None, []
                        process.stdout.write("lab# ")
                    else:
                        quoted.append(line)
                    continue
                self.lines += 1
                self.typed.append(line)
                process.stdout.write(f"{line}\r\n")
                strikes = self.fault.strikes(self.lines, line)
                if strikes and self.fault.kind == "drop":
                    process.channel.get_connection().abort()
                    return
                if strikes and self.fault.kind == "meanwhile":
                    self.fault.meanwhile()
                if strikes and self.fault.kind == "hang":
                    await asyncio.sleep(3600)
                if (
                    strikes
                    and self.fault.kind == "slow"
                    and (self.timer is not None or self.candidate is not None)
                ):
                    await asyncio.sleep(self.fault.seconds)
                started = re.fullmatch(r"store (\S+) until (\S+)", line)
                if started:
                    put = started[1], started[2]
                    continue
                if strikes and self.fault.kind == "refuse":
                    told: str | None = "% no"
                elif strikes and self.fault.kind == "lie":
                    told = ""
                elif strikes and self.fault.kind == "disarm":
                    self._disarm()
                    told = ""
                else:
                    told, editing = self._answer(line, editing)
                if told is None:
                    break
                if self.reachable_by(process):
                    process.stdout.write(
                        (told and told.replace("\n", "\r\n") + "\r\n")
                        + ("lab(edit)# " if editing else "lab# ")
                    )
                else:
                    await asyncio.sleep(3600)
        process.exit(0)

    def reachable_by(self, process: Any) -> bool:
        """Whether a session can go on."""
        known = getattr(process, "port", None)
        if known is not None:
            return self.comes_in(second=bool(known % 2))
        return self.comes_in(
            second=process.channel.get_extra_info("sockname")[1] != self.servers[0].get_port()
        )

    def comes_in(self, *, second: bool) -> bool:
        """The first way in is in-band: it ends where the port that has it is shut."""
        return self.reachable and (second or "port mgmt shut" not in self.running)

    def _answer(self, line: str, editing: bool) -> tuple[str | None, bool]:
        words = line.strip()
        if not words:
            return "", editing
        if words == "exit":
            return None, editing
        if words == "show":
            return "\n".join(self.running), editing
        if words == "show startup":
            return "\n".join(self.startup), editing
        if words == "show ports":
            return self._ports(), editing
        if words == "edit":
            if self.way == "candidate" and self.candidate is None:
                self.candidate = list(self.running)
            return "", True
        if words == "end":
            return "", False
        if words == "save":
            self.startup = list(self.running)
            return "", editing
        if (
            editing
            and words not in ("validate", "discard")
            and not words.startswith(("commit", "confirm", "cancel"))
        ):
            return self._edit(self.candidate if self.way == "candidate" else self.running, words), editing
        return self._control(words), editing

    def _ports(self) -> str:
        rows = ["port admin oper address"]
        for port in dict.fromkeys(x.split()[1] for x in self.running if x.startswith("port ")):
            addresses = [x.split()[3] for x in self.running if x.startswith(f"port {port} address ")] or [
                *self.shown_addresses.get(port, ())
            ]
            state = "down" if f"port {port} shut" in self.running else "up"
            oper = "down" if f"port {port} speed 7" in self.running else state
            rows.append(f"{port.ljust(4)} {state.ljust(5)} {oper.ljust(4)} {','.join(addresses) or '-'}")
        return "\n".join(rows)

    @staticmethod
    def _edit(lines: list[str] | None, words: str) -> str:
        if lines is None:
            return "% nothing is open"
        if words.startswith("del "):
            gone = [x for x in lines if x == words[4:] or x.startswith(words[4:] + " ")]
            if not gone:
                return f"% not there: {words[4:]}"
            for line in gone:
                lines.remove(line)
            return ""
        if not re.fullmatch(r"(name|port \S+|route \S+|user)( \S+)*", words):
            return f"% unknown: {words}"
        for single in (r"name", r"port \S+ (?=text|speed)", r"route \S+ "):
            match = re.match(single, words)
            if match:
                kept = words[: match.end()] + (
                    words[match.end() :].split()[0] if single.startswith("port") else ""
                )
                lines[:] = [x for x in lines if not x.startswith(kept)]
        if words not in lines:
            lines.append(words)
        return ""

    def _control(self, words: str) -> str:
        armed = self.timer is not None
        if words == "timer state":
            return (
                f"armed, {self.timer.when() - asyncio.get_running_loop().time():.0f} s left"
                if self.timer is not None
                else "idle"
            )
        extension = re.fullmatch("extend ([0-9]+)", words)
        if extension:
            if self.timer is None:
                return "% nothing to extend"
            self.timer.cancel()
            self.timer = asyncio.get_running_loop().call_later(int(extension[1]), self.go_back)
            return ""
        match = re.fullmatch(r"(arm|commit|apply /etc/lab.conf.new|schedule) ([0-9]+)", words)
        if match:
            if armed:
                return "% already armed"
            self.before = list(self.running)
            if words.startswith("commit"):
                self.running, self.candidate = list(self.candidate or self.running), None
            if words.startswith("apply"):
                self.running = list(self.files["/etc/lab.conf.new"])
            self.timer = asyncio.get_running_loop().call_later(int(match[2]), self.go_back)
            return ""
        if words in ("confirm", "unschedule"):
            if not armed:
                return "% nothing to confirm"
            self._disarm()
            return ""
        if words == "cancel":
            if not armed:
                return "% nothing to cancel"
            self.go_back()
            return ""
        if words in ("validate", "discard"):
            if words == "discard":
                self.candidate = None
            return ""
        if words.startswith("check "):
            bad = [x for x in self.files.get(words[6:], []) if "bad" in x]
            return f"% bad line: {bad[0]}" if bad else ""
        return f"% unknown: {words}"

    def _disarm(self) -> None:
        if self.timer is not None:
            self.timer.cancel()
        self.timer = self.before = None

    def go_back(self) -> None:
        """What the timer does."""
        if self.before is not None:
            self.running = list(self.before)
        self._disarm()


class _Server(asyncssh.SSHServer):
    def __init__(self, lab: Lab, *, first: bool) -> None:
        self._lab = lab
        self._first = first

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        if not self._lab.comes_in(second=not self._first):
            conn.abort()

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == (USER, PASSWORD)


COMMON = """format = 2
[platform]
name = "lab"
quotes = false
remove = "del {identity}"
[session]
prompts = { user = 'lab# ', edit = 'lab\\(edit\\)# ' }
privileged = ["user", "edit"]
errors = ['% (?P<message>.*)']
leave = "exit"
in_flight = 3
[edit]
running = "show"
startup = "show startup"
enter = "edit"
level = "edit"
leave = "end"
save = "save"
[readings.interfaces]
command = "show ports"
columns = { port = "name", admin = "admin-status", oper = "oper-status", address = "ipv4-address" }
[roles]
interface = "port"
enabled = "port/shut"
static_route = "route"
user = "user"
ipv4_address = "port/address"
[statements]
"name" = { kind = "leaf", takes = "word" }
"port" = { kind = "list", takes = "name", keys = 1, inline = true }
"port/text" = { kind = "leaf", takes = "word" }
"port/speed" = { kind = "leaf", takes = "number" }
"port/address" = { kind = "leaf-list", takes = "ipv4-address-and-length", unique = true }
"port/shut" = { kind = "leaf", takes = "boolean", lines = { false = "shut" } }
"route" = { kind = "list", takes = "ip-prefix", keys = 1, inline = true }
"route/via" = { kind = "leaf", takes = "ip-address" }
"user" = { kind = "list", takes = "name", keys = 1 }
"""
WAYS = {
    "timer": '[timer]\narm = "arm {seconds}"\nconfirm = "confirm"\nrevert = "cancel"\narmed = { command = "timer state", pattern = "armed.*" }\n',
    "candidate": '[candidate]\ncommit = "commit {seconds}"\nconfirm = "confirm"\ncancel = "cancel"\nvalidate = "validate"\ndiscard = "discard"\npending = { command = "timer state", pattern = "armed.*" }\n',
    "file": '[file]\npath = "/etc/lab.conf"\nput = "store {path} until {end}\\n{text}{end}"\ncheck = "check {path}"\n'
    'apply = "apply {path} {seconds}"\nconfirm = "confirm"\ncancel = "cancel"\npending = { command = "timer state", pattern = "armed.*" }\n',
    "scheduled": '[scheduled]\narm = "schedule {seconds}"\ncancel = "unschedule"\narmed = { command = "timer state", pattern = "armed.*" }\n',
    "none": "",
}
BEFORE = (
    "name pier",
    "user oast",
    "port mgmt text way-in",
    "port mgmt address 127.0.0.1/8",
    "port one text old",
    "port two text x",
)
