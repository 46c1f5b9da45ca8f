"""A simulated cowl device: candidate, running, startup, and the commit that waits to be confirmed (after RFC 6241, section 8)."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from pathlib import Path

from oastsim.cowl.configuration import empty, facts_of, filters_of, problems
from oastsim.cowl.shell import Shell
from oastsim.device import SimulatedDevice
from oastsim.facts import Filters
from oastsim.model import Data, Tree, Wrong
from oastsim.network import Account, DevicePlan
from oastsim.passwords import fits, hashed
from oastsim.state import NetworkState

NEVER_S = 10_000_000


@dataclass
class Pending:
    """A commit that is undone at `until` (of the event loop's clock) unless it is confirmed; `before` is what ran before it."""

    before: Tree
    by: str
    until: float
    timer: asyncio.TimerHandle


class Device(SimulatedDevice):
    """One device. Its files are running, startup, and archive: what ran before a commit that waits to be confirmed."""

    def __init__(self, plan: DevicePlan, folder: Path, state: NetworkState) -> None:
        super().__init__(plan, folder, state)
        self.running = empty()
        self.candidate = empty()
        self.startup = ""
        self.pending: Pending | None = None
        self.locked_by: Shell | None = None

    def start(self, accounts: tuple[Account, ...], privilege_password: str) -> None:
        archived = self.read("archive")
        kept = archived if archived is not None else self.read("running")
        try:
            if kept is None:
                self.running.load(self.plan.startup)
                for account in accounts:
                    user = f"/users/user[name={account.name}]"
                    self.running.load(f"{user}/role = {account.role}\n{user}/password-hash = {hashed(account.password)}\n")
                self.startup = self.running.text()
            else:
                self.running.load(kept)
                self.startup = self.read("startup") or ""
            for wrong in problems(self.running, self.plan.ports):
                raise wrong
        except Wrong as wrong:
            raise ValueError(f"{self.name}: what it starts with is refused: {wrong.message} ({wrong.path})") from None
        self.candidate = self.running.copy()
        self.tell(facts_of(self.running))
        self.keep()

    def keep(self) -> None:
        before = None if self.pending is None else self.pending.before.text()
        self.write({"running": self.running.text(), "startup": self.startup, "archive": before})

    def terminal(self, user: str, height: int) -> Shell:
        return Shell(self, user, height)

    def settle(self) -> None:
        return  # What is committed is told at once.

    def filters(self) -> Filters:
        return filters_of(self.running)

    @property
    def hostname(self) -> str:
        return str((self.running.at("system") or {}).get("hostname", "cowl"))

    # --- who may come in ------------------------------------------------------------------------------------------

    def user(self, name: str) -> Data | None:
        found: Data | None = self.running.at("users", "user", (name,))
        return found

    def password_fits(self, name: str, password: str) -> bool:
        user = self.user(name)
        return user is not None and "password-hash" in user and fits(password, user["password-hash"])

    def keys_of(self, name: str) -> list[str]:
        user = self.user(name) or {}
        return [f"{key['algorithm']} {key['key-data']}" for key in user.get("authorized-key", {}).values()]

    # --- from candidate to running and back --------------------------------------------------------------------------

    def validate(self) -> None:
        """Raises Wrong for the first thing that keeps the candidate from being committed."""
        for wrong in problems(self.candidate, self.plan.ports):
            raise wrong

    def commit(self, by: str, seconds: int | None) -> None:
        """The candidate becomes what runs; with `seconds`, for so long unless it is confirmed. Raises Wrong."""
        if self.pending is not None:
            raise Wrong(f"a commit of {self.pending.by} waits to be confirmed: confirm or cancel it first")
        self.validate()
        self._need_room()
        before, self.running = self.running, self.candidate.copy()
        if seconds is not None:
            loop = asyncio.get_running_loop()
            self.pending = Pending(
                before, by, loop.time() + seconds, loop.call_later(NEVER_S if self.fault.loses_timer else seconds, self.cancel)
            )
        self.keep()
        self.tell(facts_of(self.running))

    def confirm(self) -> None:
        """What was committed stays. Raises Wrong when no commit waits."""
        if self.pending is None:
            raise Wrong("no commit waits to be confirmed")
        self.pending.timer.cancel()
        self.pending = None
        self.keep()

    def cancel(self) -> None:
        """Running is again what it was before the commit that waits. Raises Wrong when none does."""
        if self.pending is None:
            raise Wrong("no commit waits to be confirmed")
        self.pending.timer.cancel()
        self.running, self.pending = self.pending.before, None
        self.candidate = self.running.copy()
        self.keep()
        self.tell(facts_of(self.running))

    def save(self) -> None:
        """What runs is what the device starts with. Raises Wrong when there is no room for it."""
        self._need_room()
        self.startup = self.running.text()
        self.keep()

    def _need_room(self) -> None:
        if self.fault.full:
            raise Wrong("no room left on the disk")

    def load_startup(self) -> None:
        if self.pending is not None:
            self.pending.timer.cancel()
        self.pending = self.locked_by = None
        self.running = empty()
        self.running.load(self.startup)
        self.candidate = self.running.copy()
        self.keep()
        self.tell(facts_of(self.running))

    def waits_s(self) -> int | None:
        return None if self.pending is None else max(0, round(self.pending.until - asyncio.get_running_loop().time()))
