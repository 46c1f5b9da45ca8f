"""Opens sessions for one estate: where each device is, how to log in, which key it is trusted with."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path

from oast.connect.host_keys import KnownHosts
from oast.connect.route import Route
from oast.connect.session import AnswerLimits, CommandLineSession, Session
from oast.connect.transcript import Transcript
from oast.connect.transport import Login, Target, connect, decided_by_ssh_config
from oast.errors import AuthenticationFailed, ConnectionFailed, DeviceError, EstateError, OastError
from oast.estate.estate import Estate, simulated_at
from oast.estate.inventory import Device
from oast.platforms.definition import Platform
from oast.records import Place, Secret

HIDDEN_AT_ONCE = 200


@dataclass(frozen=True)
class Way:
    """How a session with a device is opened. `by` is key, password or both; `host_keys` are fingerprints of those it is
    trusted with; `ssh_config` is what a file of OpenSSH's client decides besides, by its option."""

    host: str
    port: int
    username: str
    by: tuple[str, ...]
    host_keys: tuple[str, ...]
    second_way: str | None
    ssh_config: Mapping[str, str]


class Connector:
    """`timeout_s` overrides the estate's connect and command timeouts, in seconds."""

    def __init__(self, estate: Estate, timeout_s: float | None = None) -> None:
        settings = estate.settings.connection
        if settings.username is None:
            raise EstateError("there is no user to log in as", place=Place("oast.toml"), hint='add username = "..." below [connection]')
        passwords = _candidates(estate, settings.password_secret)
        self._logins = [Login(settings.username, password, settings.key_file) for password in (*passwords,) or (None,)]
        self._privileges = _candidates(estate, settings.privilege_password_secret)
        self.login_secrets = settings.login_secrets
        self._connect_timeout_s = timeout_s or settings.connect_timeout_s
        silence_s = timeout_s or settings.command_timeout_s
        at_most_s = max(settings.answer_at_most_s, silence_s)
        self._limits = AnswerLimits(silence_s, at_most_s, settings.answer_at_most_bytes, settings.answer_at_most_lines)
        self._ssh_config = settings.ssh_config
        self._simulated: Mapping[str, tuple[str, int]] | None = simulated_at(estate) if settings.simulated else None
        known = estate.secrets.known
        # A device may say what it was never told in this session. With very many secrets, looking for all costs too much.
        self._hidden = [*passwords, *self._privileges, *(known if len(known) <= HIDDEN_AT_ONCE else ())]
        self.known_hosts = KnownHosts(settings.known_hosts)
        self._kept: list[Session] = []

    @property
    def connect_timeout_s(self) -> float:
        return self._connect_timeout_s

    def target(self, device: Device) -> Target:
        """Where `device` listens. Raises ConnectionFailed when the simulated network does not have it."""
        keys = self.known_hosts.of(device.name)
        if self._simulated is None:
            return Target(device.name, device.address, device.port, keys, self._ssh_config)
        if device.name not in self._simulated:
            raise ConnectionFailed("the simulated network has no such device", hint="add it to network.yaml and restart the simulator")
        return Target(device.name, *self._simulated[device.name], keys)

    @property
    def user(self) -> str:
        """Who logs in."""
        return self._logins[0].username

    def way_to(self, device: Device) -> Way:
        """How a session with `device` would be opened. Raises DeviceError when that cannot be told."""
        target, second = self.target(device), self.second_way(device)
        login = self._logins[0]
        by = [word for word, given in (("key", login.key_file), ("password", login.password)) if given is not None]
        keys = tuple(key.fingerprint for key in target.host_keys)
        other = None if second is None else f"{second.host} port {second.port}"
        return Way(target.host, target.port, login.username, tuple(by), keys, other, decided_by_ssh_config(target, login))

    def second_way(self, device: Device) -> Target | None:
        """The second way in that the inventory names: `second_way: ADDRESS`, or `ADDRESS:PORT`. Raises DeviceError."""
        written = device.attributes.get("second_way")
        if written is None:
            return None
        host, port = str(written), "22"
        if host.startswith("["):
            host, _, port = host[1:].partition("]")
            port = port.removeprefix(":") or "22"
        elif host.count(":") == 1:
            host, _, port = host.partition(":")
        if not host or not port.isdecimal() or not 0 < int(port) < 65536:
            raise ConnectionFailed(f"its second way in, '{written}', is no address", hint="write ADDRESS or ADDRESS:PORT")
        return Target(device.name, host, int(port), self.known_hosts.of(device.name), self._ssh_config)

    async def open(
        self,
        device: Device,
        platform: Platform,
        transcript: Transcript | None = None,
        *,
        target: Target | None = None,
        newest_only: bool = False,
    ) -> Session:
        """A session that is ready for commands, by way of `target` where one is given.

        While a password is being rotated, a device that does not take the new one is offered the one before, unless
        `newest_only`. Raises DeviceError; nothing stays open then, nor after cancellation.
        """
        transcript = transcript or Transcript(time.monotonic)
        target = self.target(device) if target is None else target
        for secret in self._hidden:
            transcript.masking.add(secret)
        logins = self._logins[:1] if newest_only else self._logins
        for number, login in enumerate(logins):
            before = " with the password before" if number else ""
            transcript.note(f"connecting to {target.host} port {target.port} as {login.username}{before}")
            try:
                transport = await connect(target, login, self._connect_timeout_s)
                break
            except OastError as error:
                # A device may give the password back as its reason to hang up.
                error.message = transcript.masking.hide(error.message)
                transcript.note(error.message)
                if not isinstance(error, AuthenticationFailed) or number == len(logins) - 1:
                    raise
        privileges = self._privileges[:1] if newest_only else self._privileges
        session = CommandLineSession(transport, platform, self._limits, privileges, transcript)
        try:
            await session.start()
        except BaseException:
            await session.close()
            raise
        return session

    def route(self, device: Device, session: Session) -> Route:
        """How Oast comes in over `session`, as far as can be told."""
        theirs, ours = session.addresses
        second = device.attributes.get("second_way")
        # On loopback the simulator stands between: what it is told of addresses says nothing of the network.
        own = () if self._simulated is not None else (ours,)
        return Route.of((device.address, theirs, *((str(second).rpartition(":")[0] or str(second),) if second else ())), own, self.user)

    def keep(self, session: Session) -> Session:
        """Let `session` outlive the context it was opened in; whoever has it closes it."""
        self._kept.append(session)
        return session

    @asynccontextmanager
    async def session(self, device: Device, platform: Platform, log: Path) -> AsyncIterator[Session]:
        """A session for the time of the context; its transcript goes to `log` when an error ends it."""
        transcript = Transcript(time.monotonic)
        try:
            opened = await self.open(device, platform, transcript)
            try:
                yield opened
            finally:
                if opened in self._kept:
                    self._kept.remove(opened)
                else:
                    await opened.close()
        except DeviceError as error:
            error.message = transcript.masking.hide(error.message)
            transcript.write(log)
            raise
        except Exception as error:
            transcript.fault(error)
            transcript.write(log)
            raise


def _candidates(estate: Estate, name: str | None) -> list[Secret]:
    """The secret that a setting names, and before it is on every device, the one before."""
    if name is None:
        return []
    previous = estate.secrets.previous(name)
    return [estate.secrets.get(name), *([] if previous is None else [previous])]
