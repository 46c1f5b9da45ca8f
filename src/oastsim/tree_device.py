"""Devices that keep their configuration as a data tree: running, candidate, startup, and a commit that may
wait to be confirmed."""

from __future__ import annotations

import asyncio
from abc import abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from oastsim.device import SimulatedDevice
from oastsim.facts import Facts, Filters
from oastsim.model import Data, Schema, Tree, Wrong
from oastsim.network import Account, DevicePlan
from oastsim.passwords import fits
from oastsim.state import NetworkState

NEVER_S = 10_000_000


@dataclass(frozen=True)
class System:
    """What is particular to one system's trees; `users` is the path of its list of users, `password` the leaf
    with the hash."""

    name: str
    schema: Schema
    users: tuple[str, ...]
    password: str
    facts_of: Callable[[Tree], Facts]
    filters_of: Callable[[Tree], Filters]
    problems: Callable[[Tree, frozenset[str]], Iterator[Wrong]]
    default_role: str | None = None


@dataclass
class Waiting:
    """A commit that is undone at `until` (of the event loop's clock) unless it is confirmed; `before` is what
    ran before it."""

    before: Tree
    until: float
    timer: asyncio.TimerHandle


class TreeDevice(SimulatedDevice):
    """One device. Its files are running, startup, and archive: what ran before a commit that waits to be
    confirmed."""

    system: System

    def __init__(self, plan: DevicePlan, folder: Path, state: NetworkState) -> None:
        super().__init__(plan, folder, state)
        self.running = Tree(self.system.schema)
        self.candidate = Tree(self.system.schema)
        self.startup = ""

    @property
    @abstractmethod
    def waiting(self) -> Waiting | None:
        """The commit that waits to be confirmed."""

    @abstractmethod
    def account_text(self, account: Account) -> str:
        """The statements that make a user."""

    @classmethod
    def first(cls, text: str, ports: frozenset[str]) -> tuple[str, Facts]:
        try:
            tree = cls.given(text)
            for wrong in cls.system.problems(tree, ports):
                raise wrong
        except Wrong as wrong:
            raise ValueError(f"{wrong.message} ({wrong.path})") from None
        return tree.text(), cls.system.facts_of(tree)

    @classmethod
    def given(cls, text: str) -> Tree:
        """The tree of a configuration in the form in which it is given to a box. Raises Wrong, ValueError."""
        tree = Tree(cls.system.schema)
        tree.load(text)
        return tree

    def start(self, accounts: tuple[Account, ...], privilege_password: str) -> None:
        archived = self.read("archive")
        kept = archived if archived is not None else self.read("running")
        try:
            if kept is None:
                self.running.load(self.plan.startup)
                for account in accounts:
                    self.running.load(self.account_text(account))
                self.startup = self.running.text()
            else:
                self.running.load(kept)
                self.startup = self.read("startup") or ""
            for wrong in self.system.problems(self.running, self.plan.ports):
                raise wrong
        except Wrong as wrong:
            raise ValueError(
                f"{self.name}: what it starts with is refused: {wrong.message} ({wrong.path})"
            ) from None
        self.candidate = self.running.copy()
        self.kept_and_told()

    def keep(self) -> None:
        before = None if self.waiting is None else self.waiting.before.text()
        self.write({"running": self.running.text(), "startup": self.startup, "archive": before})

    def kept_and_told(self) -> None:
        """What runs now is on the disk, and the network knows it."""
        self.keep()
        self.tell(self.system.facts_of(self.running))

    def settle(self) -> None:
        return  # committed changes are reported at once

    def filters(self) -> Filters:
        return self.system.filters_of(self.running)

    @property
    def hostname(self) -> str:
        return str((self.running.at("system") or {}).get("hostname", self.system.name))

    def user(self, name: str) -> Data | None:
        found: Data | None = self.running.at(*self.system.users, (name,))
        return found

    def password_fits(self, name: str, password: str) -> bool:
        user = self.user(name)
        return (
            user is not None and self.system.password in user and fits(password, user[self.system.password])
        )

    def keys_of(self, name: str) -> list[str]:
        user = self.user(name) or {}
        return [f"{key['algorithm']} {key['key-data']}" for key in user.get("authorized-key", {}).values()]

    def accounts(self) -> list[tuple[str, str | None]]:
        users = self.running.at(*self.system.users) or {}
        return [(str(key[0]), user.get("role", self.system.default_role)) for key, user in users.items()]

    def run_startup(self) -> None:
        """What the device starts with is what it runs."""
        self.running = Tree(self.system.schema)
        self.running.load(self.startup)
        self.candidate = self.running.copy()
        self.kept_and_told()

    def waits_s(self) -> int | None:
        return (
            None
            if self.waiting is None
            else max(0, round(self.waiting.until - asyncio.get_running_loop().time()))
        )
