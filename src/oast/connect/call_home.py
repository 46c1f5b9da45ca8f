"""Call home over SSH (RFC 8071): a device that is up opens the connection, and proves by its host key which
one it is.

Nothing is sent to it over that connection, no name and no password: a session is opened by the way that the
inventory says.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable

import asyncssh

from oast.errors import StateError

PROVING_S = 20.0
# A host key and a user that do not exist: the connection ends as soon as the key is proved.
NOBODY = "nobody"

Known = Callable[[str], str | None]
Proved = Callable[[str], None]


class CallHome:
    """Listens for devices. `known` returns the owner of a host key (`ALGORITHM BASE64`), `proved` is called
    with the device that has called, `unknown` with the address of a caller that is not expected."""

    def __init__(
        self, host: str, port: int, known: Known, proved: Proved, unknown: Callable[[str], None]
    ) -> None:
        self._host, self._port = host, port
        self._known, self._proved, self._unknown = known, proved, unknown
        self._acceptor: asyncssh.SSHAcceptor | None = None

    async def start(self) -> int:
        """Listen; the port. Raises StateError when that is taken."""
        try:
            self._acceptor = await asyncssh.listen_reverse(
                self._host,
                self._port,
                client_factory=lambda: _Caller(self._known, self._proved, self._unknown),
                username=NOBODY,
                # None is known beforehand: each is looked up when it is shown.
                known_hosts=([], [], []),
                client_keys=None,
                agent_path=None,
                preferred_auth="publickey,password,keyboard-interactive",
                login_timeout=PROVING_S,
                connect_timeout=PROVING_S,
                config=[],
            )
        except OSError as error:
            raise StateError(
                f"cannot listen at {self._host}:{self._port} for call-home connections: "
                f"{error.strerror or error}"
            ) from None
        return self._acceptor.get_port()

    async def close(self) -> None:
        """Listen no more. Safe to call again."""
        if self._acceptor is not None:
            self._acceptor.close()
            await self._acceptor.wait_closed()
            self._acceptor = None


class _Caller(asyncssh.SSHClient):
    """One connection. When it is asked who it is, the key exchange is over, and the host key is proved (RFC
    4253, section 8)."""

    def __init__(self, known: Known, proved: Proved, unknown: Callable[[str], None]) -> None:
        self._known, self._proved, self._unknown = known, proved, unknown
        self._who: str | None = None

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        self._who = self._known(" ".join(key.export_public_key().decode().split()[:2]))
        if self._who is None:
            self._unknown(addr)
        return self._who is not None

    def _is_proved(self) -> None:
        if self._who is not None:
            self._proved(self._who)
            self._who = None

    # Whichever of them comes first: all come after the key exchange, and none is given anything.

    def public_key_auth_requested(self) -> None:
        self._is_proved()

    def password_auth_requested(self) -> None:
        self._is_proved()

    def kbdint_auth_requested(self) -> None:
        self._is_proved()

    def auth_completed(self) -> None:
        self._is_proved()


async def handshake_done(events: asyncio.Queue[str], quiet_s: float) -> list[str]:
    """The next of `events`, and those that come within a moment of each other: a pallet of boxes is plugged
    in at once."""
    found = [await events.get()]
    while True:
        try:
            async with asyncio.timeout(quiet_s):
                found.append(await events.get())
        except TimeoutError:
            return list(dict.fromkeys(found))
