"""A simulated bine device: its configurations, its archive and revert timer, who is logged in, what is wrong with it."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from pathlib import Path

from oastsim.bine.configuration import Configuration, Item, Refused
from oastsim.bine.facts import Facts, facts_of
from oastsim.faults import Fault
from oastsim.network import Account, DevicePlan
from oastsim.passwords import fits, hashed
from oastsim.state import NetworkState


class Device:
    """One device. Its files are in `folder`: running, startup, and the archive while the revert timer is armed.

    `startup` is what the device loads when it restarts; `running` lasts over a stop of the simulator, as if it had slept.
    A timer that was armed when the simulator stopped has gone off by the next start.
    """

    def __init__(self, plan: DevicePlan, folder: Path, state: NetworkState) -> None:
        self.plan = plan
        self.name = plan.name
        self.state = state
        self.folder = folder
        self.fault = Fault()
        self.running = Configuration(plan.ports)
        self.startup = ""
        self.editor: object | None = None
        self.timer: asyncio.TimerHandle | None = None
        self.timer_s = 0
        self.sessions: set[Callable[[], None]] = set()
        self._archive: str | None = None
        self._facts: Facts | None = None
        self._stale = False

    def start(self, accounts: tuple[Account, ...], privilege_password: str) -> None:
        """Load what was kept, or the first configuration with `accounts`."""
        archived = self._read("archive")
        kept = archived if archived is not None else self._read("running")
        if kept is None:
            kept = self._first(accounts, privilege_password)
            self.startup = kept
        else:
            self.startup = self._read("startup") or ""
        try:
            self.running.load(kept)
        except Refused as refused:
            raise ValueError(f"{self.name}: what it ran last does not fit its hardware any more: {refused.message}") from None
        self._changed()
        self.keep()

    def _first(self, accounts: tuple[Account, ...], privilege_password: str) -> str:
        first = Configuration(self.plan.ports)
        try:
            first.load(self.plan.startup)
            first.load(f"system\n  privilege-password-hash {hashed(privilege_password)}\n")
            for account in accounts:
                first.load(f"user {account.name}\n  role {account.role}\n  password-hash {hashed(account.password)}\n")
        except Refused as refused:
            raise ValueError(f"{self.name}: the first configuration is refused: {refused.message}") from None
        return first.text()

    def _read(self, name: str) -> str | None:
        path = self.folder / name
        return path.read_text(encoding="utf-8") if path.exists() else None

    def keep(self) -> None:
        """Write the configurations to disk, each whole."""
        self.folder.mkdir(parents=True, exist_ok=True)
        for name, text in (("running", self.running.text()), ("startup", self.startup), ("archive", self._archive)):
            path = self.folder / name
            if text is None:
                path.unlink(missing_ok=True)
            else:
                temporary = path.with_suffix(".new")
                temporary.write_text(text, encoding="utf-8")
                temporary.replace(path)

    @property
    def hostname(self) -> str:
        system = self.running.root.get("system")
        return (system.value("hostname") if system else None) or "bine"

    # --- who may come in ------------------------------------------------------------------------------------------

    def user(self, name: str) -> Item | None:
        return self.running.root.get("user", name)

    def password_fits(self, name: str, password: str) -> bool:
        user = self.user(name)
        stored = user.value("password-hash") if user else None
        return stored is not None and fits(password, stored)

    def keys_of(self, name: str) -> list[str]:
        """The user's public keys, as lines of an authorized_keys file (RFC 4253, section 6.6)."""
        user = self.user(name)
        return [f"{key.values[1]} {key.values[2]}" for key in user.all("authorized-key")] if user else []

    def privilege_fits(self, password: str) -> bool:
        system = self.running.root.get("system")
        stored = system.value("privilege-password-hash") if system else None
        return stored is None or fits(password, stored)

    # --- changing the configuration -------------------------------------------------------------------------------

    def enter(self, line: str, stack: list[tuple[int, Item]]) -> None:
        """One configuration line; it takes effect at once. Raises Refused."""
        if self.fault.refuses(line):
            raise Refused("the system could not carry this out (resource 0x17)", len(line) - len(line.lstrip()))
        before = self.running.revision
        self.running.enter(line, stack)
        self._stale = self._stale or self.running.revision != before

    def settle(self) -> None:
        """Let the network know what the lines since the last time have changed: once for all that arrived together."""
        if self._stale:
            self._changed()

    def _changed(self) -> None:
        self._stale = False
        facts = facts_of(self.running)
        if facts == self._facts:
            return
        self._facts = facts
        self.state.update(self.name, facts)
        for wake in list(self.sessions):
            wake()

    @property
    def reachable(self) -> bool:
        """Whether the path that sessions come in by is there."""
        return self.state.reachable(self.name)

    def save(self) -> int:
        """Running becomes startup. Returns its size in bytes."""
        self.startup = self.running.text()
        self.keep()
        return len(self.startup.encode())

    # --- the way back ---------------------------------------------------------------------------------------------

    def arm(self, seconds: int) -> None:
        """Keep running in the archive; go back to it in `seconds` unless confirmed. Arming again only restarts the clock."""
        if self.timer is not None:
            self.timer.cancel()
        else:
            self._archive = self.running.text()
        self.timer_s = seconds
        self.timer = asyncio.get_running_loop().call_later(seconds, self.go_back)
        self.keep()

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

    def status(self) -> dict[str, object]:
        """A summary for the simulator's own status listing."""
        return {
            "system": self.plan.system,
            "hostname": self.hostname,
            "management": self.plan.management,
            "reachable": self.reachable,
            "timer": self.timer_s if self.timer is not None else None,
            "fault": type(self.fault).__name__.lower() if type(self.fault) is not Fault else None,
            "sessions": len(self.sessions),
        }

    def __repr__(self) -> str:
        return json.dumps({"device": self.name})
