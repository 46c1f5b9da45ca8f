"""One channel of an SSH connection: a shell that speaks text, or a subsystem that carries bytes (RFC 4254,
section 6)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import AnyStr, Generic

import asyncssh

from oast.errors import ConnectionFailed

# What may wait to be read; more is not taken from the device until then (RFC 4254, section 5.2).
WAITING_AT_MOST = 1_000_000


class ReceiveBuffer(asyncssh.SSHClientSession[AnyStr]):
    """Collects what the device sends until it is read; a device that sends more than is read has to wait."""

    def __init__(self, nothing: AnyStr) -> None:
        self._nothing: AnyStr = nothing
        self._arrived: list[AnyStr] = []
        self._news = asyncio.Event()
        self._ended = False
        self._size = 0
        self._paused = False
        self._channel: asyncssh.SSHClientChannel[AnyStr] | None = None

    def connection_made(self, chan: asyncssh.SSHClientChannel[AnyStr]) -> None:
        self._channel = chan

    def data_received(self, data: AnyStr, datatype: object) -> None:
        self._arrived.append(data)
        self._size += len(data)
        if self._size > WAITING_AT_MOST and not self._paused and self._channel is not None:
            self._paused = True
            self._channel.pause_reading()
        self._news.set()

    def connection_lost(self, exc: Exception | None) -> None:
        self._ended = True
        self._news.set()

    def eof_received(self) -> bool:
        self._ended = True
        self._news.set()
        return False

    async def read(self) -> AnyStr:
        while not self._arrived and not self._ended:
            self._news.clear()
            await self._news.wait()
        arrived: AnyStr = self._nothing.join(self._arrived)
        self._arrived.clear()
        self._size = 0
        if self._paused and self._channel is not None:
            self._paused = False
            self._channel.resume_reading()
        return arrived


class ExecResult(ReceiveBuffer[str]):
    """A command that runs: what it says, on stderr as well, and the status that it ends with (RFC 4254,
    section 6.10)."""

    def __init__(self) -> None:
        super().__init__("")
        self.status: int | None = None
        self._complaints: list[str] = []
        self._complained = 0

    def data_received(self, data: str, datatype: object) -> None:
        if datatype == asyncssh.EXTENDED_DATA_STDERR and self._complained < WAITING_AT_MOST:
            self._complained += len(data)
            self._complaints.append(data)
        super().data_received(data, datatype)

    def exit_status_received(self, status: int) -> None:
        self.status = status

    def eof_received(self) -> bool:
        # The status may come behind it.
        return True

    @property
    def complaints(self) -> str:
        return "".join(self._complaints)

    def abandon(self) -> None:
        """End the command: its answer is not needed."""
        if self._channel is not None:
            self._channel.close()


class ExecConnection:
    """A connection on which each command has a channel of its own (RFC 4254, section 6.5)."""

    def __init__(
        self,
        connection: asyncssh.SSHClientConnection,
        close: Callable[[], Awaitable[None]],
        reason: Callable[[BaseException], str],
    ) -> None:
        self._connection = connection
        self._close = close
        self._reason = reason

    @property
    def addresses(self) -> tuple[str, str]:
        """The address of the device and the one it is reached from, as this connection has them."""
        return addresses_of(self._connection)

    async def run(self, command: str) -> ExecResult:
        """Start a command. Raises ConnectionFailed."""
        try:
            running = ExecResult()
            await self._connection.create_session(
                lambda: running, command=command, encoding="utf-8", errors="replace"
            )
        except (OSError, asyncssh.Error) as error:
            raise ConnectionFailed(f"the device does not run a command: {self._reason(error)}") from None
        return running

    async def close(self) -> None:
        """Ends the connection; safe to call at any time, and again."""
        await self._close()


def addresses_of(connection: asyncssh.SSHClientConnection) -> tuple[str, str]:
    """The address of the device and the one it is reached from; "" where that is not known."""
    peer, own = connection.get_extra_info("peername"), connection.get_extra_info("sockname")
    return str(peer[0]) if peer else "", str(own[0]) if own else ""


class Transport(Generic[AnyStr]):
    """A channel to one device. `read` waits for something and gives nothing when the connection is over;
    `write` never waits.

    `close` ends the connection, and `reason` says what an error of it means.
    """

    def __init__(
        self,
        connection: asyncssh.SSHClientConnection,
        channel: asyncssh.SSHClientChannel[AnyStr],
        arriving: ReceiveBuffer[AnyStr],
        close: Callable[[], Awaitable[None]],
        reason: Callable[[BaseException], str],
    ) -> None:
        self._connection = connection
        self._channel: asyncssh.SSHClientChannel[AnyStr] = channel
        self._arriving: ReceiveBuffer[AnyStr] = arriving
        self._close = close
        self._reason = reason

    async def read(self) -> AnyStr:
        return await self._arriving.read()

    def write(self, data: AnyStr) -> None:
        """Raises ConnectionFailed when the connection is over."""
        try:
            self._channel.write(data)
        except (OSError, asyncssh.Error) as error:
            raise ConnectionFailed(f"the session has ended: {self._reason(error)}") from None

    @property
    def addresses(self) -> tuple[str, str]:
        """The address of the device and the one it is reached from, as this connection has them."""
        return addresses_of(self._connection)

    def end_input(self) -> None:
        """Nothing more will be written; what the device has to say yet can still be read."""
        self._channel.write_eof()

    async def close(self) -> None:
        """Ends the connection; safe to call at any time, and again."""
        await self._close()
