"""Opens sessions for one estate: where each device is, how to log in, which key it is trusted with."""

from __future__ import annotations

import asyncio
import hashlib
import ipaddress
import time
from collections.abc import AsyncIterator, Iterable, Iterator, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from oast.connect.channel import Transport
from oast.connect.exec_session import ExecSession
from oast.connect.host_keys import HostKey, KnownHosts
from oast.connect.management_path import SessionAddresses
from oast.connect.netconf import NetconfSession
from oast.connect.session import AnswerLimits, CommandLineSession, Session
from oast.connect.transcript import Transcript
from oast.connect.transport import (
    Hop,
    JumpHostPool,
    Login,
    Target,
    connect,
    connect_commands,
    connect_subsystem,
    decided_by_ssh_config,
    offered_host_key,
)
from oast.errors import (
    AuthenticationFailed,
    ConnectionFailed,
    DeviceError,
    DeviceTimeout,
    EstateError,
    OastError,
)
from oast.estate import ConnectionSettings, Device, Estate, JumpHost, Simulated, simulated_at
from oast.platforms import Platform, transport_of
from oast.records import Place, Secret

HIDDEN_AT_ONCE = 200
LONGEST_WAIT_S = 60.0
SSH_PORT = 22
# RFC 6242, section 3.
NETCONF_PORT = 830


@dataclass(frozen=True)
class ConnectionInfo:
    """How a session with a device is opened. `by` is key, password or both; `host_keys` are the fingerprints
    of its trusted keys; `ssh_config` holds further options from a file of OpenSSH's client; `through` are the
    jump hosts."""

    host: str
    port: int
    username: str
    by: tuple[str, ...]
    host_keys: tuple[str, ...]
    alternate_address: str | None
    ssh_config: Mapping[str, str]
    through: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Access:
    """What is needed to come into a device for which `settings` hold."""

    settings: ConnectionSettings
    logins: tuple[Login, ...]
    privileges: tuple[Secret, ...]
    through: tuple[Hop, ...]
    connect_timeout_s: float
    limits: AnswerLimits

    @property
    def secrets(self) -> Iterator[Secret]:
        """Yield the passwords that may be sent: to the device, and to the jump hosts on the path."""
        yield from self.privileges
        yield from (
            login.password
            for login in (*self.logins, *(hop.login for hop in self.through))
            if login.password is not None
        )


class Connector:
    """Opens sessions with `devices`. `timeout_s` overrides the estate's connect and command timeouts, in
    seconds.

    Raises EstateError when one of them cannot be logged in to for what the estate says, or lacks.
    """

    def __init__(self, estate: Estate, devices: Iterable[Device], timeout_s: float | None = None) -> None:
        self._estate = estate
        self._connections = estate.settings.connections
        settings = self._connections.everywhere
        self._timeout_s = timeout_s
        self.login_secrets = self._connections.login_secrets
        self._simulated: Mapping[str, Simulated] | None = simulated_at(estate) if settings.simulated else None
        known = estate.secrets.known
        # A device may say what it was never told in this session. With very many secrets, looking for all
        # costs too much.
        self._hidden = tuple(known if len(known) <= HIDDEN_AT_ONCE else ())
        self.known_hosts = KnownHosts(settings.known_hosts)
        self._jumps = JumpHostPool()
        self._access: dict[ConnectionSettings, _Access] = {}
        self._kept: list[Session] = []
        self._ports: dict[str, int] = {}
        for device in devices:
            self.access(device)

    def access(self, device: Device) -> _Access:
        """Return the credentials for `device`. Raises EstateError when no username is configured."""
        settings = self._connections.of(device)
        found = self._access.get(settings)
        if found is None:
            if settings.username is None:
                hint = 'add username = "..." below [connection]'
                raise EstateError(
                    f"no user name to log in with on {device.name}", place=Place("oast.toml"), hint=hint
                )
            silence_s = self._timeout_s or settings.command_timeout_s
            at_most_s = max(settings.max_answer_s, silence_s)
            found = _Access(
                settings,
                tuple(
                    self._logins(
                        settings.username, settings.password_secret, settings.key_file, settings.agent
                    )
                ),
                tuple(_candidates(self._estate, settings.privilege_password_secret)),
                () if self._simulated is not None else self._hops(settings.via, settings.username),
                self._timeout_s or settings.connect_timeout_s,
                AnswerLimits(
                    silence_s,
                    at_most_s,
                    settings.max_answer_bytes,
                    settings.max_answer_lines,
                    settings.max_answer_elements,
                ),
            )
            self._access[settings] = found
        return found

    def _logins(
        self, username: str, password: str | None, key_file: Path | None, agent: str | None
    ) -> list[Login]:
        socket = self._agent(agent)
        passwords = _candidates(self._estate, password)
        return [Login(username, one, key_file, socket) for one in (*passwords,) or (None,)]

    def _agent(self, written: str | None) -> str | None:
        if written != "":
            return None if written is None else str(Path(written).expanduser())
        found = self._estate.environment.get("SSH_AUTH_SOCK")
        if not found:
            hint = 'start an SSH agent and add a key, or give its socket: agent = "PATH"'
            raise EstateError(
                "no SSH agent is running: SSH_AUTH_SOCK is not set", place=Place("oast.toml"), hint=hint
            )
        return found

    def _hops(self, via: str | None, username: str) -> tuple[Hop, ...]:
        hops: tuple[Hop, ...] = ()
        for jump in self._connections.through(via):
            login = self._logins(jump.username or username, jump.password_secret, jump.key_file, jump.agent)[
                0
            ]
            hops = (*hops, Hop(self._jump_target(jump, hops), login))
        return hops

    def _jump_target(self, jump: JumpHost, before: tuple[Hop, ...]) -> Target:
        keep_alive_s = self._connections.everywhere.keep_alive_s
        # One whose line is wrong is not known: the devices behind it fail, and no others.
        keys = self.known_hosts.usable(jump.name)
        return Target(jump.name, jump.address, jump.port, keys, None, before, keep_alive_s, kind="jump host")

    def target(self, device: Device, *, untrusted: bool = False) -> Target:
        """Where `device` listens. `untrusted` is for asking it for its host key, whatever is known of it.

        Raises ConnectionFailed when the simulated network does not have it, HostKeyError when its trusted
        host key cannot be read.
        """
        keys = self.known_hosts.usable(device.name) if untrusted else self.known_hosts.of(device.name)
        access = self.access(device)
        keep_alive_s = access.settings.keep_alive_s
        if self._simulated is not None:
            return self._simulated_target(device, device.address, keys)
        port = device.port or self._usual_port(device.platform)
        address = device.address
        return Target(
            device.name,
            address,
            port,
            keys,
            access.settings.ssh_config,
            access.through,
            keep_alive_s,
            address=address,
        )

    def _usual_port(self, platform: str) -> int:
        """Where devices of a platform listen, when the inventory does not say otherwise."""
        if platform not in self._ports:
            self._ports[platform] = (
                NETCONF_PORT if transport_of(self._estate.folder, platform) == "netconf" else SSH_PORT
            )
        return self._ports[platform]

    def jump_targets(self, devices: Iterable[Device]) -> list[Target]:
        """The jump hosts on the way to `devices`, each behind those that it is reached through."""
        found: dict[str, Target] = {}
        for device in devices:
            for hop in self.access(device).through:
                found.setdefault(hop.target.name, hop.target)
        return list(found.values())

    def login(self, device: Device) -> tuple[Login, float]:
        """How to log in to `device`, and how many seconds that may take."""
        access = self.access(device)
        return access.logins[0], access.connect_timeout_s

    async def offered_host_key(self, target: Target) -> HostKey:
        """The host key that is shown at `target`, without logging in there. Raises ConnectionFailed or
        DeviceTimeout."""
        timeout_s = self._timeout_s or self._connections.everywhere.connect_timeout_s
        return await offered_host_key(target, timeout_s, self._jumps)

    def _first(self, device: Device) -> Target:
        """Where a session would go: to the inventory's address, or in the simulated network to the previous
        one while it has that."""
        try:
            return self.target(device)
        except ConnectionFailed:
            previous = self.previous(device)
            if previous is None:
                raise
            return previous

    def way_to(self, device: Device) -> ConnectionInfo:
        """Return how a session with `device` would be opened. Raises DeviceError when that is unknown."""
        access, target, second = self.access(device), self._first(device), self.alternate(device)
        login = access.logins[0]
        by = [
            word
            for word, given in (("key", login.key_file), ("agent", login.agent), ("password", login.password))
            if given is not None
        ]
        keys = tuple(key.fingerprint for key in target.host_keys)
        other = None if second is None else f"{second.host} port {second.port}"
        through = tuple(hop.target.name for hop in target.through)
        return ConnectionInfo(
            target.host,
            target.port,
            login.username,
            tuple(by),
            keys,
            other,
            decided_by_ssh_config(target, login),
            through,
        )

    def alternate(self, device: Device) -> Target | None:
        """Where the inventory's alternate management address (`alternate_address`) is. Raises DeviceError."""
        alternate = device.management.alternate
        if alternate is None:
            return None
        if self._simulated is not None and alternate.port is None:
            return self._simulated_target(device, alternate.host)
        access = self.access(device)
        port = alternate.port or self._usual_port(device.platform)
        keys = self.known_hosts.of(device.name)
        # Without the jump hosts: an alternate is one that does not go where the first one does.
        return Target(
            device.name,
            alternate.host,
            port,
            keys,
            access.settings.ssh_config,
            (),
            access.settings.keep_alive_s,
            address=alternate.host,
        )

    def previous(self, device: Device) -> Target | None:
        """Where the device listens until the change of its management address is delivered. Raises
        DeviceError."""
        previous = device.management.previous
        if previous is None:
            return None
        if self._simulated is not None:
            return self._simulated_target(device, previous)
        return replace(self.target(device), host=previous, address=previous)

    def console(self, device: Device) -> Target:
        """A simulated device, at whichever of its addresses answers first. Raises ConnectionFailed."""
        simulated = (self._simulated or {}).get(device.name)
        address = (
            device.address
            if simulated is None or device.address in simulated.ports
            else next(iter(simulated.ports), device.address)
        )
        return self._simulated_target(device, address)

    def _simulated_target(
        self, device: Device, address: str, keys: tuple[HostKey, ...] | None = None
    ) -> Target:
        """Where the simulator listens for an address of a device. Raises ConnectionFailed, HostKeyError."""
        keys = self.known_hosts.of(device.name) if keys is None else keys
        host, port = self._listening(device, address)
        keep_alive_s = self.access(device).settings.keep_alive_s
        return Target(device.name, host, port, keys, keep_alive_s=keep_alive_s, address=address)

    def _listening(self, device: Device, address: str) -> tuple[str, int]:
        """Host and port on loopback. Addresses may have been configured since they were read last."""
        for is_read_again in (False, True):
            if is_read_again or self._simulated is None:
                self._simulated = simulated_at(self._estate)
            if device.name in self._simulated:
                simulated = self._simulated[device.name]
                if address in simulated.ports or not simulated.ports:
                    return simulated.host, simulated.ports.get(address, simulated.port)
                try:
                    ipaddress.ip_address(address)
                except ValueError:
                    return simulated.host, simulated.port  # there are no names in the simulated network
        if device.name not in (self._simulated or {}):
            raise ConnectionFailed(
                "the simulated network has no such device",
                hint="add it to network.yaml and restart the simulator",
            )
        raise ConnectionFailed(
            f"{address} does not answer: no management interface of the simulated device has this address"
        )

    async def open(
        self,
        device: Device,
        platform: Platform,
        transcript: Transcript | None = None,
        *,
        target: Target | None = None,
        newest_only: bool = False,
    ) -> Session:
        """A session that is ready for commands, with `target` where one is given; else at the device's
        address or, while nothing answers there, at its previous one.

        While a password is being rotated, a device that does not take the new one is offered the one before,
        unless `newest_only`. Raises DeviceError; nothing stays open then, nor after cancellation.
        """
        transcript = transcript or Transcript(time.monotonic, device.name)
        if target is None and device.management.previous is not None:
            return await self._open_at_either(device, platform, transcript, newest_only=newest_only)
        access = self.access(device)
        target = self.target(device) if target is None else target
        for secret in (*access.secrets, *self._hidden):
            transcript.masking.add(secret)
        logins = access.logins[:1] if newest_only else access.logins
        for number, login in enumerate(logins):
            before = " with the previous password" if number else ""
            behind = "".join(f" through {hop.target.name}" for hop in target.through)
            transcript.note(
                f"connecting to {target.host} port {target.port}{behind} as {login.username}{before}"
            )
            try:
                session = await self._begun(
                    platform, target, login, access, transcript, newest_only=newest_only
                )
                break
            except OastError as error:
                # A device may give the password back as its reason to hang up.
                error.message = transcript.masking.hide(error.message)
                transcript.note(error.message)
                if not isinstance(error, AuthenticationFailed) or number == len(logins) - 1:
                    raise
        try:
            await session.start()
        except BaseException:
            await session.close()
            raise
        session.reached_at = target.address
        return session

    async def bare(self, device: Device, transcript: Transcript) -> tuple[Transport[str], Secret | None]:
        """A shell on a device of which nothing is known but how to log in, and the privilege password. Raises
        DeviceError."""
        access = self.access(device)
        target = self.target(device)
        for secret in (*access.secrets, *self._hidden):
            transcript.masking.add(secret)
        login = access.logins[0]
        transcript.note(f"connecting to {target.host} port {target.port} as {login.username}")
        transport = await connect(target, login, access.connect_timeout_s, self._jumps)
        return transport, next(iter(access.privileges), None)

    async def _open_at_either(
        self, device: Device, platform: Platform, transcript: Transcript, *, newest_only: bool
    ) -> Session:
        """Open a session at the device's address or, while that does not answer, at its previous one. At both
        it must show the device's host key. Raises DeviceError."""
        try:
            return await self.open(
                device, platform, transcript, target=self.target(device), newest_only=newest_only
            )
        except ConnectionFailed as error:
            transcript.note(error.message)
            try:
                previous = self.previous(device)
                return await self.open(device, platform, transcript, target=previous, newest_only=newest_only)
            except ConnectionFailed as other:
                error.message = f"{error.message}; at its previous address: {other.message}"
                raise error from None

    async def _begun(
        self,
        platform: Platform,
        target: Target,
        login: Login,
        access: _Access,
        transcript: Transcript,
        *,
        newest_only: bool,
    ) -> CommandLineSession | NetconfSession | ExecSession:
        """A session that is logged in and was not spoken in yet."""
        if platform.netconf is not None:
            carried = await connect_subsystem(target, login, access.connect_timeout_s, self._jumps, "netconf")
            return NetconfSession(carried, platform, access.limits, transcript)
        if platform.dialect.one_shot:
            commands = await connect_commands(target, login, access.connect_timeout_s, self._jumps)
            return ExecSession(commands, platform, access.limits, transcript)
        privileges = access.privileges[:1] if newest_only else access.privileges
        transport = await connect(target, login, access.connect_timeout_s, self._jumps)
        return CommandLineSession(transport, platform, access.limits, privileges, transcript)

    async def _opened(self, device: Device, platform: Platform, transcript: Transcript) -> Session:
        """Open a session, and retry when there is no answer: so far nothing was sent that could have changed
        anything."""
        settings = self.access(device).settings
        for number in range(settings.retries):
            try:
                return await self.open(device, platform, transcript)
            except ConnectionFailed:
                wait_s = min(settings.retry_wait_s * 2**number, LONGEST_WAIT_S)
                # Devices that went away together are not asked again together.
                wait_s *= 1 + int.from_bytes(hashlib.sha256(device.name.encode()).digest()[:2]) / 0x10000
                transcript.note(f"next attempt in {wait_s:.1f} s")
                await asyncio.sleep(wait_s)
        return await self.open(device, platform, transcript)

    def route(
        self, device: Device, session: Session, interface: str | None = None, *, is_alternate: bool = False
    ) -> SessionAddresses:
        """Return the path by which Oast reaches the device over `session`, as far as it is known. `interface`
        is the one that a reading shows with the address; with `is_alternate`, the session was opened at the
        alternate management address."""
        theirs, ours = session.addresses
        management = device.management
        reached = session.reached_at or device.address
        # On loopback the simulator is in between: its addresses are not those of the network.
        simulated = self._simulated is not None
        stated, is_out_of_band = management.interface, management.is_out_of_band
        if is_alternate and management.alternate is not None:
            stated, is_out_of_band = management.alternate.interface, management.alternate.is_out_of_band
        return SessionAddresses.of(
            (reached, *(() if simulated else (theirs,))),
            () if simulated else (ours,),
            self.access(device).logins[0].username,
            interface=None if is_out_of_band else stated or interface,
            is_out_of_band=is_out_of_band,
        )

    def keep(self, session: Session) -> Session:
        """Let `session` outlive its context; the caller closes it."""
        self._kept.append(session)
        return session

    @asynccontextmanager
    async def session(
        self, device: Device, platform: Platform, log: Path, beyond_s: float = 0.0
    ) -> AsyncIterator[Session]:
        """A session for the time of the context; its transcript goes to `log` when an error ends it.

        Without an answer it is retried as the settings say. The context may take `device_timeout_s` and
        `beyond_s` seconds; then DeviceTimeout is raised in it.
        """
        transcript = Transcript(time.monotonic, device.name)
        within_s = self.access(device).settings.device_timeout_s + beyond_s
        try:
            async with _within(within_s):
                opened = await self._opened(device, platform, transcript)
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


@asynccontextmanager
async def _within(seconds: float) -> AsyncIterator[None]:
    deadline = asyncio.timeout(seconds)
    try:
        async with deadline:
            yield
    except TimeoutError:
        if not deadline.expired():
            raise
        hint = "allow more time with device_timeout_s in oast.toml"
        raise DeviceTimeout(f"not finished within {seconds:g} s in total", hint=hint) from None


def _candidates(estate: Estate, name: str | None) -> list[Secret]:
    """The secret that a setting names, and before it is on every device, the one before."""
    if name is None:
        return []
    previous = estate.secrets.previous(name)
    return [estate.secrets.get(name), *([] if previous is None else [previous])]
