"""What may stand between Oast and a device, in a thread of its own: a jump host, a line that fails, an agent that holds keys."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Coroutine
from pathlib import Path
from typing import Any, Self, TypeVar

import asyncssh

T = TypeVar("T")


class Background:
    """An event loop in a thread; what was started in it ends with the context."""

    def __enter__(self) -> Self:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        self.do(self.start())
        return self

    def __exit__(self, *error: object) -> None:
        self.do(self.stop())
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()
        self._loop.close()

    def do(self, work: Coroutine[Any, Any, T]) -> T:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(30)

    async def start(self) -> None:
        raise NotImplementedError

    async def stop(self) -> None:
        for task in asyncio.all_tasks() - {asyncio.current_task()}:
            task.cancel()


class JumpHost(Background):
    """An SSH server that does nothing but lead on. `logins` counts who came in, `led_to` is where they went."""

    def __init__(self, user: str = "quay", password: str = "over-the-gangway") -> None:
        self.user, self.password = user, password
        self.logins = 0
        self.led_to: list[int] = []
        self.refuses = False

    async def start(self) -> None:
        gate = self

        class Server(asyncssh.SSHServer):
            def password_auth_supported(self) -> bool:
                return True

            def validate_password(self, username: str, password: str) -> bool:
                gate.logins += 1
                return (username, password) == (gate.user, gate.password)

            def connection_requested(
                self, dest_host: str, dest_port: int, orig_host: str, orig_port: int
            ) -> bool:
                gate.led_to.append(dest_port)
                if gate.refuses:
                    raise asyncssh.ChannelOpenError(
                        asyncssh.OPEN_ADMINISTRATIVELY_PROHIBITED, "not over this gangway"
                    )
                return True

        key = asyncssh.generate_private_key("ssh-ed25519")
        self._server = await asyncssh.listen("127.0.0.1", 0, server_factory=Server, server_host_keys=[key])
        self.port = self._server.get_port()

    async def stop(self) -> None:
        self._server.close()
        await self._server.wait_closed()
        await super().stop()


class Line(Background):
    """A line to `port` on loopback that drops the first `drops` calls, and carries `most` bytes from there before it falls silent."""

    def __init__(self, port: int, *, drops: int = 0, most: int | None = None) -> None:
        self._there, self._drops, self._most = port, drops, most
        self.calls = 0

    async def start(self) -> None:
        self._server = await asyncio.start_server(self._called, "127.0.0.1", 0)
        self.port = self._server.sockets[0].getsockname()[1]

    async def _called(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.calls += 1
        if self.calls <= self._drops:
            writer.close()
            return
        from_there, to_there = await asyncio.open_connection("127.0.0.1", self._there)
        try:
            await asyncio.gather(
                self._carry(reader, to_there, None), self._carry(from_there, writer, self._most)
            )
        finally:
            to_there.close()
            writer.close()

    @staticmethod
    async def _carry(source: asyncio.StreamReader, target: asyncio.StreamWriter, most: int | None) -> None:
        carried = 0
        while data := await source.read(65536):
            carried += len(data)
            if most is None or carried <= most:
                target.write(data)
        target.close()

    async def stop(self) -> None:
        self._server.close()
        await super().stop()


class Agent(Background):
    """An agent that holds `keys` (draft-ietf-sshm-ssh-agent, sections 5.2 to 5.6), at the socket `path`."""

    def __init__(self, path: Path, keys: list[asyncssh.SSHKey]) -> None:
        self._path, self._keys = path, {key.public_data: key for key in keys}

    async def start(self) -> None:
        self._server = await asyncio.start_unix_server(self._asked, str(self._path))

    async def _asked(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                request = await reader.readexactly(int.from_bytes(await reader.readexactly(4)))
                answer = self._answer(request)
                writer.write(len(answer).to_bytes(4) + answer)
        except asyncio.IncompleteReadError:
            writer.close()

    def _answer(self, request: bytes) -> bytes:
        if request[0] == 11:
            listed = b"".join(_text(data) + _text(b"") for data in self._keys)
            return bytes([12]) + len(self._keys).to_bytes(4) + listed
        if request[0] == 13:
            data, rest = _taken(request[1:])
            signed, _ = _taken(rest)
            key = self._keys[data]
            return bytes([14]) + _text(key.sign(signed, key.sig_algorithms[0]))
        return bytes([5])

    async def stop(self) -> None:
        self._server.close()
        await super().stop()


def _text(data: bytes) -> bytes:
    return len(data).to_bytes(4) + data


def _taken(data: bytes) -> tuple[bytes, bytes]:
    end = 4 + int.from_bytes(data[:4])
    return data[4:end], data[end:]
