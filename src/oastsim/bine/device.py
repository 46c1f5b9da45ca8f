"""A simulated bine device: its configurations, its archive and revert timer."""

from __future__ import annotations

import asyncio
from pathlib import Path

from oastsim.bine.configuration import Configuration, Item, Refused
from oastsim.bine.facts import facts_of, filters_of
from oastsim.bine.shell import Shell
from oastsim.device import SimulatedDevice
from oastsim.facts import Facts, Filters
from oastsim.network import Account, DevicePlan
from oastsim.passwords import fits, hashed
from oastsim.state import NetworkState

NEVER_S = 10_000_000


class Device(SimulatedDevice):
    """One device. Its files are running, startup, and the archive while the revert timer is armed. `startup`
    is what it loads when it restarts."""

    def __init__(self, plan: DevicePlan, folder: Path, state: NetworkState) -> None:
        super().__init__(plan, folder, state)
        self.running = Configuration(plan.ports)
        self.startup = ""
        self.editor: object | None = None
        self.timer: asyncio.TimerHandle | None = None
        self.timer_s = 0
        # Who armed the timer, and what they call it; and when it goes off, by the event loop's clock.
        self.timer_by: tuple[str, str | None] = ("", None)
        self.timer_until = 0.0
        self._archive: str | None = None
        self._stale = self._filtered = False

    @classmethod
    def first(cls, text: str, ports: frozenset[str]) -> tuple[str, Facts]:
        made = Configuration(ports)
        try:
            made.load(text)
        except Refused as refused:
            raise ValueError(refused.message) from None
        return text, facts_of(made)

    def start(self, accounts: tuple[Account, ...], privilege_password: str) -> None:
        """Load what was kept, or the first configuration with `accounts`."""
        archived = self.read("archive")
        kept = archived if archived is not None else self.read("running")
        if kept is None:
            kept = self._first(accounts, privilege_password)
            self.startup = kept
        else:
            self.startup = self.read("startup") or ""
        try:
            self.running.load(kept)
        except Refused as refused:
            raise ValueError(
                f"{self.name}: what it ran last does not fit its hardware any more: {refused.message}"
            ) from None
        self._changed()
        self.keep()

    def _first(self, accounts: tuple[Account, ...], privilege_password: str) -> str:
        first = Configuration(self.plan.ports)
        try:
            first.load(self.plan.startup)
            first.load(f"system\n  privilege-password-hash {hashed(privilege_password)}\n")
            for account in accounts:
                first.load(
                    f"user {account.name}\n  role {account.role}\n  password-hash"
                    f" {hashed(account.password)}\n"
                )
        except Refused as refused:
            raise ValueError(f"{self.name}: the first configuration is refused: {refused.message}") from None
        return first.text()

    def keep(self) -> None:
        self.write({"running": self.running.text(), "startup": self.startup, "archive": self._archive})

    def terminal(self, user: str, height: int) -> Shell:
        return Shell(self, user, height)

    def filters(self) -> Filters:
        return filters_of(self.running)

    def waits_s(self) -> int | None:
        return (
            None
            if self.timer is None
            else max(0, round(self.timer_until - asyncio.get_running_loop().time()))
        )

    @property
    def hostname(self) -> str:
        system = self.running.root.get("system")
        return (system.value("hostname") if system else None) or "bine"

    # --- who may come in
    # ------------------------------------------------------------------------------------------

    def user(self, name: str) -> Item | None:
        return self.running.root.get("user", name)

    def accounts(self) -> list[tuple[str, str | None]]:
        return [(user.values[0], user.value("role") or "viewer") for user in self.running.root.all("user")]

    def password_fits(self, name: str, password: str) -> bool:
        user = self.user(name)
        stored = user.value("password-hash") if user else None
        return stored is not None and fits(password, stored)

    def keys_of(self, name: str) -> list[str]:
        user = self.user(name)
        return [f"{key.values[1]} {key.values[2]}" for key in user.all("authorized-key")] if user else []

    def privilege_fits(self, password: str) -> bool:
        system = self.running.root.get("system")
        stored = system.value("privilege-password-hash") if system else None
        return stored is None or fits(password, stored)

    # --- changing the configuration
    # -------------------------------------------------------------------------------

    def enter(self, line: str, stack: list[tuple[int, Item]]) -> None:
        """One configuration line; it takes effect at once. Raises Refused."""
        if self.fault.refuses(line):
            raise Refused(
                "the system could not carry this out (resource 0x17)", len(line) - len(line.lstrip())
            )
        if self.fault.ignores(line):
            return
        before, filters = self.running.revision, self.running.filters_revision
        self.running.enter(line, stack)
        self._stale = self._stale or self.running.revision != before
        self._filtered = self._filtered or self.running.filters_revision != filters

    def settle(self) -> None:
        """Let the network know what the lines since the last time have changed: once for all that arrived
        together."""
        if self._stale:
            self._changed()
        elif self._filtered:
            self._filtered = False
            self.state.filtered(self.name)

    def _changed(self) -> None:
        self._stale = self._filtered = False
        self.tell(facts_of(self.running))

    def save(self) -> int:
        """Copy running to startup. Returns its size in bytes. Raises Refused when the disk is full."""
        self._need_room()
        self.startup = self.running.text()
        self.keep()
        return len(self.startup.encode())

    def receive_startup(self, lines: list[str]) -> int:
        """A whole text becomes startup, and nothing of it runs. Returns its size in bytes. Raises Refused;
        then startup is what it was."""
        self._need_room()
        for line in lines:
            if self.fault.refuses(line):
                raise Refused("the system could not carry this out (resource 0x17)", 0)
        received = Configuration(self.plan.ports)
        received.load("".join(f"{line}\n" for line in lines if not self.fault.ignores(line)))
        self.startup = received.text()
        self.keep()
        return len(self.startup.encode())

    def _need_room(self) -> None:
        if self.fault.full:
            raise Refused("no room left on the disk", 0)

    def load_startup(self) -> None:
        if self.timer is not None:
            self.timer.cancel()
        self.timer = self._archive = self.editor = None
        self.running = Configuration(self.plan.ports)
        self.running.load(self.startup)
        self._changed()
        self.keep()

    # --- rollback
    # -------------------------------------------------------------------------------------------------

    def arm(self, seconds: int, by: str, name: str | None = None) -> None:
        """Store running in the archive; restore it in `seconds` unless confirmed. Arming again only restarts
        the timer.

        Raises Refused when the disk is full, and when another session has armed it under another name.
        """
        self._need_room()
        if self.timer is not None:
            if name != self.timer_by[1]:
                raise Refused(f"it is armed already: {self.timer_told}", 0)
            self.timer.cancel()
        else:
            self._archive = self.running.text()
        self.timer_by = (by, name)
        self._start_timer(seconds)

    def extend(self, seconds: int, name: str | None = None) -> None:
        """Let the armed timer run for `seconds` from now. Raises Refused when none is armed, or not the one
        of this name."""
        self.need_name(name)
        if self.timer is None:
            raise Refused("the revert timer is not armed", 0)
        self.timer.cancel()
        self._start_timer(seconds)

    def _start_timer(self, seconds: int) -> None:
        loop = asyncio.get_running_loop()
        self.timer_s = seconds
        self.timer_until = loop.time() + seconds
        self.timer = loop.call_later(NEVER_S if self.fault.loses_timer else seconds, self.go_back)
        self.keep()

    @property
    def timer_told(self) -> str:
        """Describe the running timer: its owner, its name, and the seconds left."""
        by, name = self.timer_by
        return f"{f'as {name} ' if name else ''}by {by}, {self.waits_s()} s left"

    def need_name(self, name: str | None) -> None:
        """Require the timer's name, so that a session cannot touch another one. Raises Refused."""
        if name is not None and self.timer is not None and name != self.timer_by[1]:
            raise Refused(f"another is armed: {self.timer_told}", 0)

    def confirm(self) -> bool:
        """Keep what is running. False when the timer is not armed."""
        if self.timer is None:
            return False
        self.timer.cancel()
        self.timer = None
        self._archive = None
        self.keep()
        return True

    def go_back(self) -> bool:
        """Return to the archived configuration at once. False when the timer is not armed."""
        if self.timer is None or self._archive is None:
            return False
        self.timer.cancel()
        self.timer = None
        self.running = Configuration(self.plan.ports)
        self.running.load(self._archive)
        self._archive = None
        self._changed()
        self.keep()
        return True
