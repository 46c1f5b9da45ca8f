"""SSH to one device: the only module that knows asyncssh and its errors (RFC 4251 to 4254)."""

from __future__ import annotations

import asyncio
import re
import traceback
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import TypeVar

import asyncssh
from asyncssh.encryption import get_default_encryption_algs

from oast.connect.channel import ExecConnection, ReceiveBuffer, Transport
from oast.connect.host_keys import HostKey
from oast.errors import AuthenticationFailed, ConnectionFailed, DeviceTimeout, HostKeyError, OastError
from oast.records import Secret

# First those that cost one call a packet: ChaCha20 (RFC 8439) is put together in Python by asyncssh, at six
# times the price.
FAST_CIPHERS = ("aes128-gcm@openssh.com", "aes256-gcm@openssh.com")


@cache
def _ciphers() -> list[str]:
    """What asyncssh offers by itself, the fast ones first."""
    default = [name.decode() for name in get_default_encryption_algs()]
    return [
        *(name for name in FAST_CIPHERS if name in default),
        *(name for name in default if name not in FAST_CIPHERS),
    ]


Opened = TypeVar("Opened")
# Wide and long, so that no device folds its lines or stops after a page that could be avoided.
TERMINAL_SIZE = (500, 200)


@dataclass(frozen=True)
class Login:
    """How to log in: with the password, the private key in `key_file`, one that the agent at the socket
    `agent` holds, or with whichever is accepted."""

    username: str
    password: Secret | None
    key_file: Path | None
    agent: str | None = None


@dataclass(frozen=True)
class Hop:
    """A jump host on the way: where it listens, and how Oast logs in there."""

    target: Target
    login: Login


@dataclass(frozen=True)
class Target:
    """Where a device listens, and the host keys it is trusted with. `through` are the jump hosts on the way,
    the first one first; `keep_alive_s` is how often the other end is asked whether it is there, 0 for never.
    """

    name: str
    host: str
    port: int
    host_keys: tuple[HostKey, ...]
    ssh_config: Path | None = None
    through: tuple[Hop, ...] = ()
    keep_alive_s: float = 0.0
    kind: str = "device"
    address: str = ""
    """The device's address in the inventory; "" where it has none of its own."""

    @property
    def called(self) -> str:
        """As errors call it."""
        return "the device" if self.kind == "device" else f"the {self.kind} {self.name}"


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


@dataclass
class _Shared:
    """A connection to a jump host, and how many others go through it."""

    turn: asyncio.Lock
    secured: _Secured | None = None
    users: int = 0
    failed: tuple[float, OastError] | None = None


class JumpHostPool:
    """The connections to jump hosts: one each, shared by all sessions that go through it, closed when the
    last of them ends."""

    def __init__(self) -> None:
        self._shared: dict[tuple[Hop, ...], _Shared] = {}

    async def to(self, through: tuple[Hop, ...], timeout_s: float) -> _Secured:
        """Return the connection to the last of `through`; `leave` says when it is no longer needed. Raises
        what `connect` raises."""
        shared = self._shared.setdefault(through, _Shared(asyncio.Lock()))
        came = asyncio.get_running_loop().time()
        async with shared.turn:
            if shared.secured is None or shared.secured.connection.is_closed():
                if shared.secured is not None:
                    # The other end has closed it; what it went through is not needed for it any more.
                    await shared.secured.close()
                    shared.secured = None
                # Who waited while another failed is not made to wait for the same again.
                if shared.failed is not None and shared.failed[0] >= came:
                    raise type(shared.failed[1])(shared.failed[1].message, hint=shared.failed[1].hint)
                try:
                    async with asyncio.timeout(timeout_s):
                        shared.secured = await _secured(
                            through[-1].target, through[-1].login, timeout_s, self
                        )
                except (TimeoutError, OastError) as error:
                    target = through[-1].target
                    told = error if isinstance(error, OastError) else _too_late(target, timeout_s)
                    shared.failed = asyncio.get_running_loop().time(), told
                    raise told from None
                shared.users = 0
            shared.users += 1
            return shared.secured

    async def leave(self, through: tuple[Hop, ...], secured: _Secured) -> None:
        """One less needs the connection."""
        shared = self._shared.get(through)
        if shared is None or shared.secured is not secured:
            return
        shared.users -= 1
        if shared.users <= 0:
            shared.secured = None
            await secured.close()


@dataclass(eq=False)
class _Secured:
    """A connection that is logged in, and what it goes through."""

    connection: asyncssh.SSHClientConnection
    through: tuple[Hop, ...]
    before: _Secured | None
    jumps: JumpHostPool

    async def close(self) -> None:
        """Safe to call again: what it goes through is left once, as others may go through it, too."""
        before, self.before = self.before, None
        self.connection.abort()
        await self.connection.wait_closed()
        if before is not None:
            await self.jumps.leave(self.through, before)


async def _secured(target: Target, login: Login, timeout_s: float, jumps: JumpHostPool) -> _Secured:
    """Log in, through the jump hosts if there are any. Raises what `connect` raises, and TimeoutError."""
    client = _Client(target.host_keys)
    before = await jumps.to(target.through, timeout_s) if target.through else None
    agent: asyncssh.SSHAgentClient | None = None
    try:
        keys: list[object] = [str(login.key_file)] if login.key_file else []
        if login.agent is not None:
            agent = await asyncssh.connect_agent(login.agent)
            keys += await agent.get_keys()
        connection, _ = await asyncssh.create_connection(
            lambda: client,
            target.host,
            target.port,
            tunnel=before.connection if before is not None else (),
            username=login.username,
            password=login.password.reveal() if login.password else None,
            client_keys=keys or None,
            known_hosts=((), (), ()),
            # The person's own file may run commands and lead elsewhere: only one that the estate names is
            # read.
            config=[str(target.ssh_config)] if target.ssh_config else None,
            agent_path=None,
            gss_host=None,
            compression_algs=["none"],
            encryption_algs=_ciphers(),
            login_timeout=timeout_s,
            keepalive_interval=target.keep_alive_s,
        )
    except BaseException as error:
        if before is not None:
            await asyncio.shield(jumps.leave(target.through, before))
        if agent is None and login.agent is not None and isinstance(error, (OSError, asyncssh.Error)):
            hint = "start one and add a key, or remove 'agent' from oast.toml"
            raise AuthenticationFailed(f"cannot use the SSH agent: {_reason(error)}", hint=hint) from None
        raise _translated(error, target, login, client) from None
    finally:
        if agent is not None:
            agent.close()
    return _Secured(connection, target.through, before, jumps)


def _too_late(target: Target, timeout_s: float) -> DeviceTimeout:
    jump = "" if target.kind == "device" else f" {target.called},"
    return DeviceTimeout(
        f"no answer within {timeout_s:g} s while connecting to{jump} {target.host} port {target.port}"
    )


async def connect(
    target: Target, login: Login, timeout_s: float, jumps: JumpHostPool | None = None
) -> Transport[str]:
    """Log in and open a shell within `timeout_s` seconds; `jumps` are the connections to jump hosts that are
    shared.

    Raises HostKeyError, AuthenticationFailed, ConnectionFailed or DeviceTimeout; nothing stays open then,
    nor after cancellation.
    """

    async def shell(secured: _Secured) -> Transport[str]:
        arriving = ReceiveBuffer("")
        try:
            channel, _ = await secured.connection.create_session(
                lambda: arriving,
                term_type="dumb",
                term_size=TERMINAL_SIZE,
                encoding="utf-8",
                errors="replace",
            )
        except asyncssh.ChannelOpenError:
            hint = 'if the device uses NETCONF, set transport = "netconf" in its platform'
            raise ConnectionFailed("the device has no command line", hint=hint) from None
        return Transport(secured.connection, channel, arriving, secured.close, _reason)

    return await _opened(target, login, timeout_s, jumps, shell)


async def connect_commands(
    target: Target, login: Login, timeout_s: float, jumps: JumpHostPool | None
) -> ExecConnection:
    """The same without a shell: what is asked is run by itself, one command after the other (RFC 4254,
    section 6.5)."""

    async def commands(secured: _Secured) -> ExecConnection:
        return ExecConnection(secured.connection, secured.close, _reason)

    return await _opened(target, login, timeout_s, jumps, commands)


async def connect_subsystem(
    target: Target, login: Login, timeout_s: float, jumps: JumpHostPool | None, name: str
) -> Transport[bytes]:
    """The same with a subsystem (RFC 4254, section 6.5) in place of a shell."""

    async def subsystem(secured: _Secured) -> Transport[bytes]:
        arriving = ReceiveBuffer(b"")
        try:
            channel, _ = await secured.connection.create_session(
                lambda: arriving, subsystem=name, encoding=None
            )
        except asyncssh.ChannelOpenError:
            hint = "enable it on the device, and check the port (NETCONF uses 830)"
            raise ConnectionFailed(
                f"the device does not offer the SSH subsystem '{name}'", hint=hint
            ) from None
        return Transport(secured.connection, channel, arriving, secured.close, _reason)

    return await _opened(target, login, timeout_s, jumps, subsystem)


async def _opened(
    target: Target,
    login: Login,
    timeout_s: float,
    jumps: JumpHostPool | None,
    opening: Callable[[_Secured], Awaitable[Opened]],
) -> Opened:
    secured: _Secured | None = None
    try:
        async with asyncio.timeout(timeout_s):
            secured = await _secured(target, login, timeout_s, jumps or JumpHostPool())
            return await opening(secured)
    except TimeoutError:
        await _give_up(secured)
        raise _too_late(target, timeout_s) from None
    except BaseException as error:
        await _give_up(secured)
        raise _translated(error, target, login, _Client(())) from None


async def offered_host_key(target: Target, timeout_s: float, jumps: JumpHostPool | None = None) -> HostKey:
    """The host key a device shows, without logging in there. Raises ConnectionFailed or DeviceTimeout."""
    jumps = jumps or JumpHostPool()
    before: _Secured | None = None
    try:
        async with asyncio.timeout(timeout_s):
            before = await jumps.to(target.through, timeout_s) if target.through else None
            tunnel = before.connection if before is not None else ()
            key = await asyncssh.get_server_host_key(target.host, target.port, tunnel=tunnel, config=None)
    except TimeoutError:
        raise DeviceTimeout(
            f"no answer within {timeout_s:g} s from {target.host} port {target.port}"
        ) from None
    except (OSError, asyncssh.Error) as error:
        raise ConnectionFailed(
            f"cannot connect to {_where(target)}: {_reason(error, is_jumped=bool(target.through))}"
        ) from None
    except Exception as error:
        if not _is_malformed(error):
            raise
        raise _malformed(target, error) from None
    finally:
        if before is not None:
            await asyncio.shield(jumps.leave(target.through, before))
    if key is None:
        raise ConnectionFailed(f"{target.host} port {target.port} shows no host key")
    return _host_key(key)


def _where(target: Target) -> str:
    jump = "" if target.kind == "device" else f"{target.called}, "
    behind = f" through {target.through[-1].target.name}" if target.through else ""
    return f"{jump}{target.host} port {target.port}{behind}"


# What the estate says counts, whatever stands in a file of OpenSSH's client.
_OURS = (
    "User",
    "Port",
    "IdentityFile",
    "UserKnownHostsFile",
    "GlobalKnownHostsFile",
    "StrictHostKeyChecking",
    "Compression",
)


def decided_by_ssh_config(target: Target, login: Login) -> dict[str, str]:
    """What the file of OpenSSH's client that the estate names decides for a device: option (ssh_config) and
    value.

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
        name: " ".join(map(str, value)) if isinstance(value, list) else str(value)
        for name, value in found.items()
        if name not in _OURS
    }


def _wrong_config(path: Path, error: Exception) -> ConnectionFailed:
    # The error's own words would show the contents of the file.
    line = re.search(r"line [0-9]+", str(error), re.IGNORECASE)
    reason = (
        error.strerror if isinstance(error, OSError) else None
    ) or f"{line[0].lower() if line else 'a line'} is invalid"
    return ConnectionFailed(
        f"cannot use {path}: {reason}", hint="check 'ssh_config' in [connection] of oast.toml"
    )


async def _give_up(secured: _Secured | None) -> None:
    if secured is not None:
        await asyncio.shield(secured.close())


def _translated(error: BaseException, target: Target, login: Login, client: _Client) -> BaseException:
    """The error of asyncssh or the system as one of ours; cancellation and our own bugs pass through."""
    if isinstance(error, asyncssh.HostKeyNotVerifiable):
        offered = client.offered.fingerprint if client.offered else "an unknown key"
        if target.host_keys:
            return HostKeyError(
                f"the host key has changed: {target.called} shows {offered}, trusted is"
                f" {target.host_keys[0].fingerprint}",
                hint=f"if the device was replaced: oast devices trust{_on(target)} --replace",
            )
        return HostKeyError(
            f"unknown host key: {target.called} shows {offered}",
            hint=f"compare it with the key on the device, then: oast devices trust{_on(target)}",
        )
    if isinstance(error, asyncssh.PermissionDenied):
        return AuthenticationFailed(
            f"authentication failed: {target.called} rejects the login of '{login.username}'",
            hint="check the user name and the password or key in oast.toml",
        )
    if isinstance(error, asyncssh.ConfigParseError) and target.ssh_config is not None:
        return _wrong_config(target.ssh_config, error)
    if (
        isinstance(error, FileNotFoundError)
        and target.ssh_config is not None
        and error.filename == str(target.ssh_config)
    ):
        return _wrong_config(target.ssh_config, error)
    if isinstance(error, (asyncssh.KeyImportError, asyncssh.KeyEncryptionError)):
        return AuthenticationFailed(f"cannot use the private key {login.key_file}: {error}")
    if isinstance(error, (OSError, asyncssh.Error)):
        return ConnectionFailed(
            f"cannot connect to {_where(target)}: {_reason(error, is_jumped=bool(target.through))}"
        )
    if _is_malformed(error):
        return _malformed(target, error)
    return error


def _is_malformed(error: BaseException) -> bool:
    """Return whether asyncssh raised an error while it read what the other end had sent, such as an invalid
    packet."""
    if isinstance(error, OastError) or not isinstance(error, Exception):
        return False
    frames = traceback.walk_tb(error.__traceback__)
    return any(str(frame.f_globals.get("__name__", "")).startswith("asyncssh.") for frame, _ in frames)


def _malformed(target: Target, error: BaseException) -> ConnectionFailed:
    message = (
        f"cannot connect to {_where(target)}: the server does not speak SSH (RFC 4253; "
        f"{type(error).__name__})"
    )
    return ConnectionFailed(message, hint="check the address and the port")


def _on(target: Target) -> str:
    return f" --on name={target.name}" if target.kind == "device" else ""


def _reason(error: BaseException, *, is_jumped: bool = False) -> str:
    if isinstance(error, ConnectionRefusedError):
        return "connection refused"
    if isinstance(error, (asyncssh.ConnectionLost, ConnectionResetError, BrokenPipeError)):
        return "the device closed the connection"
    if isinstance(error, asyncssh.ChannelOpenError):
        if not is_jumped:
            return (
                f"the device refused to open a channel: {error.reason}"
                if error.reason
                else "the device refused to open a channel"
            )
        return (
            f"the jump host says: {error.reason}"
            if error.reason
            else ("the jump host cannot reach the device")
        )
    if isinstance(error, OSError) and error.strerror:
        return error.strerror.lower() if "Multiple" not in error.strerror else "connection refused"
    return str(error) or type(error).__name__
