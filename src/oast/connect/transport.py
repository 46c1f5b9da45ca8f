"""SSH to one device: the only module that knows asyncssh and its errors (RFC 4251 to 4254)."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import asyncssh
from asyncssh.encryption import get_default_encryption_algs

from oast.connect.host_keys import HostKey
from oast.errors import AuthenticationFailed, ConnectionFailed, DeadlinePassed, HostKeyError
from oast.records import Secret

# First those that cost one call a packet: ChaCha20 (RFC 8439) is put together in Python by asyncssh, at six times the price.
FAST_CIPHERS = ("aes128-gcm@openssh.com", "aes256-gcm@openssh.com")


@cache
def _ciphers() -> list[str]:
    """What asyncssh offers by itself, the fast ones first."""
    default = [name.decode() for name in get_default_encryption_algs()]
    return [*(name for name in FAST_CIPHERS if name in default), *(name for name in default if name not in FAST_CIPHERS)]


# Wide and long, so that no device folds its lines or stops after a page that could be avoided.
TERMINAL_SIZE = (500, 200)


@dataclass(frozen=True)
class Target:
    """Where a device listens, and the host keys it is trusted with."""

    name: str
    host: str
    port: int
    host_keys: tuple[HostKey, ...]
    ssh_config: Path | None = None


@dataclass(frozen=True)
class Login:
    """How to log in: with the password, with the private key in `key_file`, or with whichever is accepted."""

    username: str
    password: Secret | None
    key_file: Path | None


class _Client(asyncssh.SSHClient):
    """Decides about the host key (RFC 4251, section 4.1)."""

    def __init__(self, trusted: Sequence[HostKey]) -> None:
        self._trusted = {key.line for key in trusted}
        self.offered: HostKey | None = None

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        self.offered = _host_key(key)
        return self.offered.line in self._trusted


def _host_key(key: asyncssh.SSHKey) -> HostKey:
    return HostKey(" ".join(key.export_public_key().decode().split()[:2]), key.get_fingerprint())


class _Shell(asyncssh.SSHClientSession[str]):
    """Collects what the device sends until somebody reads it."""

    def __init__(self) -> None:
        self._arrived: list[str] = []
        self._news = asyncio.Event()
        self._ended = False

    def data_received(self, data: str, datatype: object) -> None:
        self._arrived.append(data)
        self._news.set()

    def connection_lost(self, exc: Exception | None) -> None:
        self._ended = True
        self._news.set()

    def eof_received(self) -> bool:
        self._ended = True
        self._news.set()
        return False

    async def read(self) -> str:
        while not self._arrived and not self._ended:
            self._news.clear()
            await self._news.wait()
        text = "".join(self._arrived)
        self._arrived.clear()
        return text


class Transport:
    """A shell on one device. `read` waits for text and gives "" when the connection is over; `write` never waits."""

    def __init__(self, connection: asyncssh.SSHClientConnection, channel: asyncssh.SSHClientChannel[str], shell: _Shell) -> None:
        self._connection = connection
        self._channel = channel
        self._shell = shell

    async def read(self) -> str:
        return await self._shell.read()

    def write(self, text: str) -> None:
        """Raises ConnectionFailed when the connection is over."""
        try:
            self._channel.write(text)
        except (OSError, asyncssh.Error) as error:
            raise ConnectionFailed(f"the session is over: {_reason(error)}") from None

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
        self._connection.abort()
        await self._connection.wait_closed()


async def connect(target: Target, login: Login, timeout_s: float) -> Transport:
    """Log in and open a shell within `timeout_s` seconds.

    Raises HostKeyError, AuthenticationFailed, ConnectionFailed or DeadlinePassed; nothing stays open then, nor after cancellation.
    """
    client = _Client(target.host_keys)
    connection: asyncssh.SSHClientConnection | None = None
    try:
        async with asyncio.timeout(timeout_s):
            connection, _ = await asyncssh.create_connection(
                lambda: client,
                target.host,
                target.port,
                username=login.username,
                password=login.password.reveal() if login.password else None,
                client_keys=[str(login.key_file)] if login.key_file else None,
                known_hosts=((), (), ()),
                # The person's own file may run commands and lead elsewhere: only one that the estate names is read.
                config=[str(target.ssh_config)] if target.ssh_config else None,
                agent_path=None,
                gss_host=None,
                compression_algs=["none"],
                encryption_algs=_ciphers(),
                login_timeout=timeout_s,
            )
            shell = _Shell()
            channel, _ = await connection.create_session(
                lambda: shell, term_type="dumb", term_size=TERMINAL_SIZE, encoding="utf-8", errors="replace"
            )
    except TimeoutError:
        _give_up(connection)
        raise DeadlinePassed(f"no answer within {timeout_s:g} s while connecting to {target.host} port {target.port}") from None
    except BaseException as error:
        _give_up(connection)
        raise _translated(error, target, login, client) from None
    return Transport(connection, channel, shell)


async def offered_host_key(target: Target, timeout_s: float) -> HostKey:
    """The host key a device shows, without logging in. Raises ConnectionFailed or DeadlinePassed."""
    try:
        async with asyncio.timeout(timeout_s):
            key = await asyncssh.get_server_host_key(target.host, target.port, config=None)
    except TimeoutError:
        raise DeadlinePassed(f"no answer within {timeout_s:g} s from {target.host} port {target.port}") from None
    except (OSError, asyncssh.Error) as error:
        raise ConnectionFailed(f"cannot connect to {target.host} port {target.port}: {_reason(error)}") from None
    if key is None:
        raise ConnectionFailed(f"{target.host} port {target.port} shows no host key")
    return _host_key(key)


# What the estate says counts, whatever stands in a file of OpenSSH's client.
_OURS = ("User", "Port", "IdentityFile", "UserKnownHostsFile", "GlobalKnownHostsFile", "StrictHostKeyChecking", "Compression")


def decided_by_ssh_config(target: Target, login: Login) -> dict[str, str]:
    """What the file of OpenSSH's client that the estate names decides for a device: option (ssh_config) and value.

    Raises ConnectionFailed when it cannot be read.
    """
    if target.ssh_config is None:
        return {}
    try:
        options = asyncssh.SSHClientConnectionOptions(
            host=target.host,
            port=target.port,
            username=login.username,
            config=[str(target.ssh_config)],
            known_hosts=((), (), ()),
            client_keys=None,
            agent_path=None,
        )
    except (OSError, ValueError) as error:
        raise _wrong_config(target.ssh_config, error) from None
    found = options.config.get_options(False)
    return {
        name: " ".join(map(str, value)) if isinstance(value, list) else str(value) for name, value in found.items() if name not in _OURS
    }


def _wrong_config(path: Path, error: Exception) -> ConnectionFailed:
    # Its own words would show what stands in the file.
    line = re.search(r"line [0-9]+", str(error), re.IGNORECASE)
    reason = (error.strerror if isinstance(error, OSError) else None) or f"{line[0].lower() if line else 'a line'} is wrong"
    return ConnectionFailed(f"{path} cannot be used: {reason}", hint="look at 'ssh_config' below [connection] in oast.toml")


def _give_up(connection: asyncssh.SSHClientConnection | None) -> None:
    if connection is not None:
        connection.abort()


def _translated(error: BaseException, target: Target, login: Login, client: _Client) -> BaseException:
    """The error of asyncssh or the system as one of ours; cancellation and our own bugs pass through."""
    if isinstance(error, asyncssh.HostKeyNotVerifiable):
        offered = client.offered.fingerprint if client.offered else "an unknown key"
        if target.host_keys:
            return HostKeyError(
                f"the host key has changed: the device shows {offered}, trusted is {target.host_keys[0].fingerprint}",
                hint=f"if the device was replaced: oast devices trust --on name={target.name} --replace",
            )
        return HostKeyError(
            f"the host key is not known: the device shows {offered}",
            hint=f"compare it with the device's own, then: oast devices trust --on name={target.name}",
        )
    if isinstance(error, asyncssh.PermissionDenied):
        return AuthenticationFailed(
            f"the device does not accept the login of '{login.username}'", hint="look at the user and the password or key in oast.toml"
        )
    if isinstance(error, asyncssh.ConfigParseError) and target.ssh_config is not None:
        return _wrong_config(target.ssh_config, error)
    if isinstance(error, FileNotFoundError) and target.ssh_config is not None and error.filename == str(target.ssh_config):
        return _wrong_config(target.ssh_config, error)
    if isinstance(error, (asyncssh.KeyImportError, asyncssh.KeyEncryptionError)):
        return AuthenticationFailed(f"the private key {login.key_file} cannot be used: {error}")
    if isinstance(error, (OSError, asyncssh.Error)):
        return ConnectionFailed(f"cannot connect to {target.host} port {target.port}: {_reason(error)}")
    return error


def _reason(error: BaseException) -> str:
    if isinstance(error, ConnectionRefusedError):
        return "connection refused"
    if isinstance(error, (asyncssh.ConnectionLost, ConnectionResetError, BrokenPipeError)):
        return "the device closed the connection"
    if isinstance(error, OSError) and error.strerror:
        return error.strerror.lower() if "Multiple" not in error.strerror else "connection refused"
    return str(error) or type(error).__name__
