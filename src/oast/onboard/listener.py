"""The port of the bootstrap server: the number of connections, in all and for each address, and the time each
may take.

A connection is counted before anything else: until its TLS handshake begins it costs nothing but a
descriptor.
"""

from __future__ import annotations

import asyncio
import ssl
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

BACKLOG = 1024


@dataclass(frozen=True, slots=True)
class ConnectionLimits:
    """How many connections there may be, in all and from one address; how long a TLS handshake and a whole
    connection may take, in seconds."""

    connections: int = 256
    per_address: int = 64
    handshake_s: float = 5.0
    connection_s: float = 30.0


class Listener:
    """Accepts TLS connections, and gives each to a protocol that `made` creates. `refused` is called with the
    address of a refused or ended connection, and the reason."""

    def __init__(
        self,
        made: Callable[[], asyncio.Protocol],
        context: ssl.SSLContext,
        limits: ConnectionLimits,
        refused: Callable[[str, str], None],
    ) -> None:
        self.made = made
        self.context = context
        self.limits = limits
        self.refused = refused
        self._open: set[_Connection] = set()
        self._by_address: Counter[str] = Counter()
        self._server: asyncio.Server | None = None

    async def start(self, host: str, port: int) -> int:
        """Listen; the port. Raises OSError."""
        loop = asyncio.get_running_loop()
        self._server = await loop.create_server(lambda: _Connection(self), host, port, backlog=BACKLOG)
        return int(self._server.sockets[0].getsockname()[1])

    async def close(self) -> None:
        """Listen no more, and end what is connected. Safe to call again."""
        if self._server is not None:
            self._server.close()
            self._server = None
        for connection in list(self._open):
            connection.end()

    @property
    def number(self) -> int:
        """How many are connected."""
        return len(self._open)

    def admit(self, connection: _Connection, address: str) -> str | None:
        """Count a connection; why it is not let in, if it is not."""
        if len(self._open) >= self.limits.connections:
            return f"too many connections ({self.limits.connections})"
        if self._by_address[address] >= self.limits.per_address:
            return f"too many connections from this address ({self.limits.per_address})"
        self._open.add(connection)
        self._by_address[address] += 1
        return None

    def leave(self, connection: _Connection, address: str) -> None:
        """A connection is over."""
        if connection in self._open:
            self._open.discard(connection)
            self._by_address[address] -= 1
            if not self._by_address[address]:
                del self._by_address[address]


class _Connection(asyncio.Protocol):
    """One connection: counted, then secured, then handed to the protocol that answers."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener
        self._address = ""
        self._transport: asyncio.Transport | None = None
        self._inner: asyncio.Protocol | None = None
        self._before: list[bytes] = []
        self._ended = False
        self._task: asyncio.Task[None] | None = None
        self._deadline: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        if not isinstance(transport, asyncio.Transport):
            raise TypeError("a server's connections are streams")
        transport.pause_reading()
        peer = transport.get_extra_info("peername")
        self._transport, self._address = transport, str(peer[0]) if peer else ""
        why = self._listener.admit(self, self._address)
        if why is not None:
            self._listener.refused(self._address, f"connection refused: {why}")
            transport.abort()
            return
        loop = asyncio.get_running_loop()
        self._deadline = loop.call_later(self._listener.limits.connection_s, self._expire)
        self._task = loop.create_task(self._secure(transport))

    async def _secure(self, transport: asyncio.Transport) -> None:
        loop = asyncio.get_running_loop()
        limits = self._listener.limits
        try:
            secured = await loop.start_tls(
                transport,
                self,
                self._listener.context,
                server_side=True,
                ssl_handshake_timeout=limits.handshake_s,
            )
        except (OSError, ssl.SSLError) as error:
            # Among them a handshake that takes too long, and a certificate of no manufacturer.
            reason = getattr(error, "reason", None) or str(error) or type(error).__name__
            self._listener.refused(self._address, f"TLS handshake failed: {reason}")
            self.end()
            return
        if secured is None or self._ended:
            self.end()
            return
        self._transport = secured
        self._inner = inner = self._listener.made()
        inner.connection_made(secured)
        for data in self._before:
            inner.data_received(data)
        self._before.clear()

    def _expire(self) -> None:
        self._listener.refused(
            self._address, f"the connection was closed after {self._listener.limits.connection_s:g} s"
        )
        self.end()

    def end(self) -> None:
        """End it at once."""
        if self._task is not None and self._inner is None:
            self._task.cancel()
        if self._transport is not None:
            self._transport.abort()
        self._leave()

    def _leave(self) -> None:
        self._ended = True
        if self._deadline is not None:
            self._deadline.cancel()
        self._listener.leave(self, self._address)

    # --- what arrives goes on to the protocol that answers

    def data_received(self, data: bytes) -> None:
        if self._inner is None:
            self._before.append(data)
        else:
            self._inner.data_received(data)

    def eof_received(self) -> bool | None:
        return self._inner.eof_received() if self._inner is not None else None

    def pause_writing(self) -> None:
        if self._inner is not None:
            self._inner.pause_writing()

    def resume_writing(self) -> None:
        if self._inner is not None:
            self._inner.resume_writing()

    def connection_lost(self, exc: Exception | None) -> None:
        self._leave()
        if self._inner is not None:
            self._inner.connection_lost(exc)
