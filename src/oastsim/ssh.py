"""The SSH side of a simulated device: a real server on loopback for each, with a host key of its own (RFC 4251 to 4254)."""

from __future__ import annotations

import asyncio
import re
from pathlib import Path

import asyncssh

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


async def serve(device: SimulatedDevice, port: int = 0) -> asyncssh.SSHAcceptor:
    """Listen for `device` on loopback; port 0 lets the system choose."""
    return await asyncssh.create_server(
        lambda: _Server(device),
        LOOPBACK,
        port,
        server_host_keys=[host_key(device.folder)],
        line_editor=False,
        encoding="utf-8",
        errors="surrogateescape",
        login_timeout=30,
        server_version=f"{device.plan.system}_sim",
        allow_scp=False,
        agent_forwarding=False,
        kex_algs=["curve25519-sha256"],
        compression_algs=["none"],
    )


class _Server(asyncssh.SSHServer):
    """One connection: who it is, and whether it may come in."""

    def __init__(self, device: SimulatedDevice) -> None:
        self._device = device
        self._connection: asyncssh.SSHServerConnection | None = None
        self._user = ""

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        self._connection = conn
        self._device.connections.add(conn.abort)
        if self._device.fault.on_connect() == "refused" or not self._device.reachable:
            conn.abort()

    def connection_lost(self, exc: Exception | None) -> None:
        if self._connection is not None:
            self._device.connections.discard(self._connection.abort)

    def begin_auth(self, username: str) -> bool:
        self._user = username
        if self._connection is not None:
            self._connection.set_authorized_keys(self._authorized(username))
        return True

    def _authorized(self, username: str) -> asyncssh.SSHAuthorizedKeys:
        return asyncssh.import_authorized_keys("".join(f"{line}\n" for line in self._device.keys_of(username)))

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return self._device.password_fits(username, password)

    def session_requested(
        self,
    ) -> asyncssh.SSHServerSession[str] | tuple[asyncssh.SSHServerChannel[bytes], asyncssh.SSHServerSession[bytes]]:
        service = self._device.service(self._user)
        if service is None or self._connection is None:
            return _Session(self._device, self._user)
        channel: asyncssh.SSHServerChannel[bytes] = self._connection.create_server_channel(encoding=None)
        return channel, Subsystem(self._device, service)


class _Session(asyncssh.SSHServerSession[str]):
    """One shell. While the device's management path is down, nothing comes in or goes out, as on a cut line."""

    def __init__(self, device: SimulatedDevice, user: str) -> None:
        self._device = device
        self._user = user
        self._shell: Terminal | None = None
        self._channel: asyncssh.SSHServerChannel[str] | None = None
        self._arrived: list[str] = []
        self._to_send: list[str | float] = []
        self._hanging = False
        self._busy = False

    def connection_made(self, chan: asyncssh.SSHServerChannel[str]) -> None:
        self._channel = chan

    def pty_requested(self, term_type: str, term_size: tuple[int, int, int, int], term_modes: object) -> bool:
        return True

    def shell_requested(self) -> bool:
        return True

    def session_started(self) -> None:
        if self._channel is None:
            return
        height = self._channel.get_terminal_size()[1] or 24
        self._shell = self._device.terminal(self._user, height)
        self._device.sessions.add(self._wake)
        self._to_send.append(self._device.fault.greeted(self._shell.greeting()))
        self._wake()

    def data_received(self, data: str, datatype: object) -> None:
        self._arrived.append(data)
        self._wake()

    def eof_received(self) -> bool:
        self._wake()
        return False

    def connection_lost(self, exc: Exception | None) -> None:
        self._device.sessions.discard(self._wake)
        if self._shell is not None:
            self._shell.end()

    def _wake(self) -> None:
        """Work off what has arrived and send what is ready, unless the path is down."""
        if self._busy:
            return
        self._busy = True
        try:
            while self._arrived and self._shell and not self._hanging and self._device.reachable:
                data, self._arrived = "".join(self._arrived), []
                self._take(data)
                self._device.settle()
        finally:
            self._busy = False
        self._flush()

    def _take(self, data: str) -> None:
        """Feed the shell up to and including one line, so that a fault can strike between lines."""
        if self._shell is None:
            return
        for part in _LINES.findall(data):
            if self._hanging or not self._device.reachable:
                self._arrived.append(part)
                continue
            if part.endswith(("\r", "\n")):
                number = self._shell.lines + 1
                self._to_send.extend(self._device.fault.said(number, part, self._shell.receive(part, self._line)))
            else:
                self._to_send.append(self._shell.receive(part, self._line))

    def _line(self, line: str) -> str:
        if self._shell is None:
            return ""
        effect = self._device.fault.on_line(self._shell.lines + 1, line)
        if effect == "hang":
            self._flush()
            self._hanging = True
            return ""
        if effect == "drop" and self._channel is not None:
            self._channel.write("er")
            self._channel.get_connection().abort()
            return ""
        if effect == "slow":
            self._hanging = True
            asyncio.get_running_loop().call_later(self._device.fault.seconds, self._resume)
        return self._shell.execute(line)

    def _resume(self) -> None:
        self._hanging = False
        self._wake()

    def _flush(self) -> None:
        if self._channel is None or self._hanging or not self._device.reachable:
            return
        pieces, self._to_send = self._to_send, []
        texts: list[str] = []
        for number, piece in enumerate(pieces):
            if isinstance(piece, str):
                texts.append(piece)
                continue
            self._to_send = pieces[number + 1 :]
            self._hanging = True
            asyncio.get_running_loop().call_later(piece, self._resume)
            break
        if texts and not self._channel.is_closing():
            self._channel.write("".join(texts))
        if self._hanging:
            return
        if self._shell is not None and self._shell.closed and not self._channel.is_closing():
            self._channel.exit(0)
