"""One channel of an SSH connection: a shell that speaks text, or a subsystem that carries bytes (RFC 4254, section 6)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import AnyStr, Generic

import asyncssh

from oast.errors import ConnectionFailed


class Arriving(asyncssh.SSHClientSession[AnyStr]):
    """Collects what the device sends until somebody reads it."""

    def __init__(self, nothing: AnyStr) -> None:
        self._nothing: AnyStr = nothing
        self._arrived: list[AnyStr] = []
        self._news = asyncio.Event()
        self._ended = False

    def data_received(self, data: AnyStr, datatype: object) -> None:
        self._arrived.append(data)
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
        return arrived


class Transport(Generic[AnyStr]):
    """A channel to one device. `read` waits for something and gives nothing when the connection is over; `write` never waits.

    `close` ends the connection, and `reason` says what an error of it means.
    """

    def __init__(
        self,
        connection: asyncssh.SSHClientConnection,
        channel: asyncssh.SSHClientChannel[AnyStr],
        arriving: Arriving[AnyStr],
        close: Callable[[], Awaitable[None]],
        reason: Callable[[BaseException], str],
    ) -> None:
        self._connection = connection
        self._channel: asyncssh.SSHClientChannel[AnyStr] = channel
        self._arriving: Arriving[AnyStr] = arriving
        self._close = close
        self._reason = reason

    async def read(self) -> AnyStr:
        return await self._arriving.read()

    def write(self, data: AnyStr) -> None:
        """Raises ConnectionFailed when the connection is over."""
        try:
            self._channel.write(data)
        except (OSError, asyncssh.Error) as error:
            raise ConnectionFailed(f"the session is over: {self._reason(error)}") from None

    @property
    def addresses(self) -> tuple[str, str]:
        """The address of the device and the one it is reached from, as this connection has them."""
        peer, own = self._connection.get_extra_info("peername"), self._connection.get_extra_info("sockname")
        return str(peer[0]) if peer else "", str(own[0]) if own else ""

    def end_input(self) -> None:
        """Nothing more will be written; what the device has to say yet can still be read."""
        self._channel.write_eof()

    async def close(self) -> None:
        """Ends the connection; safe to call at any time, and again."""
        await self._close()
