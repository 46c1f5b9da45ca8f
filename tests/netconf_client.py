"""A colleague's NETCONF client: asks what a test tells it to, in base:1.0, and knows nothing of Oast."""

from __future__ import annotations

import asyncio
import threading
from types import TracebackType
from typing import Any

import asyncssh

BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
END = b"]]>]]>"


class Client:
    """One session, open for the time of the context."""

    def __init__(self, host: str, port: int, username: str, password: str) -> None:
        self._where = host, port, username, password
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)

    def _do(self, work: Any) -> Any:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(30)

    def __enter__(self) -> Client:
        self._thread.start()
        self.hello = self._do(self._open())
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._do(self._ended())
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
        self._loop.close()

    async def _open(self) -> str:
        host, port, username, password = self._where
        self._connection = await asyncssh.connect(
            host, port, username=username, password=password, known_hosts=None, config=None
        )
        self._writer, self._reader, _ = await self._connection.open_session(
            subsystem="netconf", encoding=None
        )
        capabilities = (
            "<capabilities><capability>urn:ietf:params:netconf:base:1.0</capability></capabilities>"
        )
        self._writer.write(f'<hello xmlns="{BASE}">{capabilities}</hello>'.encode() + END)
        return str((await self._reader.readuntil(END)).decode())

    async def _ended(self) -> None:
        self._connection.abort()
        await self._connection.wait_closed()

    async def _asked(self, operation: str) -> str:
        self._writer.write(f'<rpc message-id="1" xmlns="{BASE}">{operation}</rpc>'.encode() + END)
        return str((await self._reader.readuntil(END)).decode())

    def ask(self, operation: str) -> str:
        """The reply to an operation."""
        return str(self._do(self._asked(operation)))

    def raw(self, data: bytes) -> bytes:
        """What comes back for bytes that are sent as they are; nothing when the session has ended."""

        async def sent() -> bytes:
            self._writer.write(data)
            return bytes(await asyncio.wait_for(self._reader.read(), 10))

        return bytes(self._do(sent()))
