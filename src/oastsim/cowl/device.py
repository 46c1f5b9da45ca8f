"""A simulated cowl device: candidate, running, startup, and the commit that waits to be confirmed (after RFC
6241, section 8)."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from pathlib import Path

from oastsim.cowl.configuration import facts_of, filters_of, problems
from oastsim.cowl.schema import SCHEMA
from oastsim.cowl.shell import Shell
from oastsim.model import Tree, Wrong
from oastsim.network import Account, DevicePlan
from oastsim.passwords import hashed
from oastsim.state import NetworkState
from oastsim.tree_device import NEVER_S, System, TreeDevice, Waiting


@dataclass
class Pending(Waiting):
    """`by` is who has committed, `name` what they call it."""

    by: str
    name: str | None = None

    @property
    def told(self) -> str:
        return f"{self.by} as {self.name}" if self.name else self.by


class Device(TreeDevice):
    """One device."""

    system = System(
        "cowl", SCHEMA, ("users", "user"), "password-hash", facts_of, filters_of, problems, "viewer"
    )

    def __init__(self, plan: DevicePlan, folder: Path, state: NetworkState) -> None:
        super().__init__(plan, folder, state)
        self.pending: Pending | None = None
        self.locked_by: Shell | None = None

    @property
    def waiting(self) -> Waiting | None:
        return self.pending

    def account_text(self, account: Account) -> str:
        user = f"/users/user[name={account.name}]"
        return f"{user}/role = {account.role}\n{user}/password-hash = {hashed(account.password)}\n"

    def terminal(self, user: str, height: int) -> Shell:
        return Shell(self, user, height)

    # --- from candidate to running and back
    # --------------------------------------------------------------------------

    def validate(self) -> None:
        """Raises Wrong for the first thing that keeps the candidate from being committed."""
        for wrong in problems(self.candidate, self.plan.ports):
            raise wrong

    def commit(self, by: str, seconds: int | None, name: str | None = None) -> None:
        """The candidate becomes what runs; with `seconds`, for so long unless it is confirmed.
        Raises Wrong."""
        if self.pending is not None:
            raise Wrong(f"a commit of {self.pending.told} waits to be confirmed: confirm or cancel it first")
        self.validate()
        self._need_room()
        before, self.running = self.running, self.candidate.copy()
        if seconds is not None:
            self.pending = self._pending(before, seconds, by, name)
        self.kept_and_told()

    def extend(self, seconds: int, name: str | None = None) -> None:
        """The commit waits for `seconds` from now. Raises Wrong when no commit waits, or not the one called
        `name`."""
        pending = self._need(name)
        pending.timer.cancel()
        self.pending = self._pending(pending.before, seconds, pending.by, pending.name)
        self.keep()

    def _pending(self, before: Tree, seconds: int, by: str, name: str | None) -> Pending:
        loop = asyncio.get_running_loop()
        timer = loop.call_later(NEVER_S if self.fault.loses_timer else seconds, self.cancel)
        return Pending(before, loop.time() + seconds, timer, by, name)

    def confirm(self, name: str | None = None) -> None:
        """What was committed stays. Raises Wrong when no commit waits, or not the one called `name`."""
        self._need(name).timer.cancel()
        self.pending = None
        self.keep()

    def _need(self, name: str | None) -> Pending:
        if self.pending is None:
            raise Wrong("no commit waits to be confirmed")
        if name is not None and name != self.pending.name:
            raise Wrong(f"another commit waits: that of {self.pending.told}")
        return self.pending

    def cancel(self, name: str | None = None) -> None:
        """Running is again what it was before the commit that waits. Raises Wrong when none does, or not the
        one called `name`."""
        pending = self._need(name)
        pending.timer.cancel()
        self.running, self.pending = pending.before, None
        self.candidate = self.running.copy()
        self.kept_and_told()

    def save(self) -> None:
        """Copy running to startup. Raises Wrong when the disk is full."""
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
        self.run_startup()
