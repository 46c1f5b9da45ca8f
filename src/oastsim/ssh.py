"""The SSH side of a simulated device: a real server on loopback for each, with a host key of its own (RFC
4251 to 4254)."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import asyncssh

from oastsim.carried import Carried
from oastsim.device import SimulatedDevice
from oastsim.subsystem import Subsystem
from oastsim.terminal import Terminal

# A terminal ends lines with these alone; what else a text may hold stays in its line.
_LINES = re.compile(r"[^\r\n]*(?:\r\n|\r|\n)|[^\r\n]+")
LOOPBACK = "127.0.0.1"
_Carried = tuple[asyncssh.SSHServerChannel[bytes], asyncssh.SSHServerSession[bytes]]


def host_key(folder: Path) -> asyncssh.SSHKey:
    """The device's host key, made at its first start."""
    path = folder / "host_key"
    if path.exists():
        return asyncssh.read_private_key(path)
    folder.mkdir(parents=True, exist_ok=True)
    key = asyncssh.generate_private_key("ssh-ed25519")
    path.touch(mode=0o600)
    key.write_private_key(path)
    return key


async def serve(device: SimulatedDevice, address: str, port: int = 0) -> asyncssh.SSHAcceptor:
    """Listen on loopback for sessions to an address of `device`; port 0 lets the system choose. Raises
    OSError."""
    return await asyncssh.create_server(lambda: _Server(device, address), LOOPBACK, port, **_options(device))


async def call_home(device: SimulatedDevice, host: str, port: int) -> None:
    """Open a connection to the manager of the device, and be the server on it (RFC 8071); returns when it has
    ended. Raises OSError or asyncssh.Error when there was no answer, or the manager does not expect the
    device."""
    server = _Server(device, None)
    try:
        async with await asyncssh.connect_reverse(
            host, port, server_factory=lambda: server, **_options(device)
        ) as connection:
            await connection.wait_closed()
    except (OSError, asyncssh.Error):
        # The client has seen the host key, which is the purpose of the call.
        if not server.user:
            raise


def _options(device: SimulatedDevice) -> dict[str, Any]:
    return {
        "server_host_keys": [host_key(device.folder)],
        "line_editor": False,
        "encoding": "utf-8",
        "errors": "surrogateescape",
        "login_timeout": 30,
        "server_version": f"{device.plan.system}_sim",
        "allow_scp": False,
        "agent_forwarding": False,
        "kex_algs": ["curve25519-sha256"],
        "compression_algs": ["none"],
    }


class _Server(asyncssh.SSHServer):
    """One connection: who it is, and whether it may come in."""

    def __init__(self, device: SimulatedDevice, address: str | None) -> None:
        self._device = device
        self._address = address
        self._connection: asyncssh.SSHServerConnection | None = None
        self.user = ""

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        self._connection = conn
        self._device.connections.add(conn.abort)
        if self._device.fault.on_connect() == "refused" or not self._device.reachable_at(self._address):
            conn.abort()

    def connection_lost(self, exc: Exception | None) -> None:
        if self._connection is not None:
            self._device.connections.discard(self._connection.abort)

    def begin_auth(self, username: str) -> bool:
        self.user = username
        if self._connection is not None:
            self._connection.set_authorized_keys(self._authorized(username))
        return True

    def _authorized(self, username: str) -> asyncssh.SSHAuthorizedKeys:
        return asyncssh.import_authorized_keys(
            "".join(f"{line}\n" for line in self._device.keys_of(username))
        )

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return self._device.password_fits(username, password)

    def session_requested(
        self,
    ) -> (
        asyncssh.SSHServerSession[str]
        | tuple[asyncssh.SSHServerChannel[bytes], asyncssh.SSHServerSession[bytes]]
    ):
        service = self._device.service(self.user)
        if service is None or self._connection is None:
            return _Session(self._device, self.user, self._address)
        channel: asyncssh.SSHServerChannel[bytes] = self._connection.create_server_channel(encoding=None)
        return channel, Subsystem(self._device, service, self._address)


class _Session(Carried[str]):
    """One shell."""

    def __init__(self, device: SimulatedDevice, user: str, address: str | None) -> None:
        super().__init__(device, address)
        self._user = user
        self._shell: Terminal | None = None

    def pty_requested(self, term_type: str, term_size: tuple[int, int, int, int], term_modes: object) -> bool:
        return True

    def shell_requested(self) -> bool:
        return True

    def session_started(self) -> None:
        if self.channel is None:
            return
        height = self.channel.get_terminal_size()[1] or 24
        self._shell = self.device.terminal(self._user, height)
        self.begin(self.device.fault.greeted(self._shell.greeting()))

    @property
    def over(self) -> bool:
        return self._shell is not None and self._shell.closed

    def end(self) -> None:
        if self._shell is not None:
            self._shell.end()

    def work(self) -> bool:
        if not self.arrived or self._shell is None:
            return False
        data, self.arrived = "".join(self.arrived), []
        self._take(self._shell, data)
        self.device.settle()
        return True

    def _take(self, shell: Terminal, data: str) -> None:
        """Feed the shell up to and including one line, so that a fault can strike between lines."""
        for part in _LINES.findall(data):
            if self.hanging or not self.device.reachable_at(self.address):
                self.arrived.append(part)
                continue
            if part.endswith(("\r", "\n")):
                number = shell.lines + 1
                self.to_send.extend(self.device.fault.said(number, part, shell.receive(part, self._line)))
            else:
                self.to_send.append(shell.receive(part, self._line))

    def _line(self, line: str) -> str:
        if self._shell is None:
            return ""
        effect = self.device.fault.on_line(self._shell.lines + 1, line)
        if effect == "hang":
            self.flush()
            self.hanging = True
            return ""
        if effect == "half-open":
            self.half_open()
            return ""
        if effect == "drop" and self.channel is not None:
            self.channel.write("er")
            self.channel.get_connection().abort()
            return ""
        if effect == "slow":
            self.pause(self.device.fault.seconds)
        return self._shell.execute(line)
