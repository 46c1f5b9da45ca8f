"""A simulated roundel: candidate, running, startup, and the commit that waits to be confirmed (RFC 6241,
section 8)."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from pathlib import Path

from lxml import etree

from oastsim.model import Tree
from oastsim.network import Account, DevicePlan
from oastsim.passwords import hashed
from oastsim.roundel.configuration import empty, facts_of, filters_of, problems
from oastsim.roundel.elements import RpcError, edit, error_of, parsed
from oastsim.roundel.schema import SCHEMA
from oastsim.roundel.service import Service
from oastsim.state import NetworkState
from oastsim.terminal import Terminal
from oastsim.tree_device import NEVER_S, System, TreeDevice, Waiting


@dataclass
class Pending(Waiting):
    """It is confirmed by a session that knows `persist` or, without one, by the session `owner` before it
    ends."""

    owner: Service | None
    persist: str | None


class Device(TreeDevice):
    """One device."""

    system = System(
        "roundel", SCHEMA, ("system", "authentication", "user"), "password", facts_of, filters_of, problems
    )

    def __init__(self, plan: DevicePlan, folder: Path, state: NetworkState) -> None:
        super().__init__(plan, folder, state)
        self.pending: Pending | None = None
        self.locks: dict[str, Service] = {}
        # The sessions that are open.
        self.services: list[Service] = []
        self._numbered = 0

    @classmethod
    def given(cls, text: str) -> Tree:
        """Elements, one after the other, as they stand in a config element (RFC 6241, section 7.2)."""
        tree = empty()
        try:
            edit(tree, parsed(f"<config>{text}</config>".encode()), "merge")
        except etree.XMLSyntaxError as error:
            raise ValueError(f"it is no XML: {error.msg}") from None
        except RpcError as error:
            raise ValueError(f"{error.message} {error.path}".strip()) from None
        return tree

    @property
    def waiting(self) -> Waiting | None:
        return self.pending

    def account_text(self, account: Account) -> str:
        return f"/system/authentication/user[name={account.name}]/password = {hashed(account.password)}\n"

    def terminal(self, user: str, height: int) -> Terminal:
        raise ValueError("a roundel has no command line")

    def service(self, user: str) -> Service:
        self._numbered += 1
        service = Service(self, user, self._numbered)
        self.services.append(service)
        return service

    # --- datastores
    # -----------------------------------------------------------------------------------------------

    def datastore(self, name: str) -> Tree:
        """Running, candidate or startup. Raises RpcError for another."""
        if name == "startup" and "startup" not in self.plan.without:
            tree = empty()
            tree.load(self.startup)
            return tree
        if name == "running":
            return self.running
        if name == "candidate" and "candidate" not in self.plan.without:
            return self.candidate
        raise RpcError("invalid-value", f"there is no datastore {name}", kind="protocol")

    def check(self, tree: Tree) -> None:
        """Raises RpcError for the first thing that keeps `tree` from being run."""
        for wrong in problems(tree, self.plan.ports):
            raise error_of(wrong)

    def run(self, tree: Tree) -> None:
        """What runs from now on. Raises RpcError."""
        self.check(tree)
        self.need_room()
        self.running = tree
        if "candidate" in self.plan.without:
            self.candidate = tree.copy()
        self.kept_and_told()

    def need_room(self) -> None:
        if self.fault.full:
            raise RpcError("resource-denied", "no room left on the disk")

    def save(self) -> None:
        """What runs is what the device starts with."""
        self.need_room()
        self.startup = self.running.text()
        self.keep()

    def receive_startup(self, tree: Tree) -> None:
        """What the device starts with from now on. Raises RpcError."""
        self.check(tree)
        self.need_room()
        self.startup = tree.text()
        self.keep()

    # --- commits
    # --------------------------------------------------------------------------------------------------

    def commit(self, by: Service, seconds: float | None, persist: str | None, persist_id: str | None) -> None:
        """RFC 6241, sections 8.3.4.1 and 8.4. Raises RpcError."""
        pending = self.pending
        if persist_id is not None and (pending is None or pending.persist != persist_id):
            raise RpcError(
                "invalid-value", "no commit of that persist-id waits", info=("bad-element", "persist-id")
            )
        if (
            pending is not None
            and persist_id is None
            and (pending.persist is not None or pending.owner is not by)
        ):
            raise RpcError("in-use", "a commit of another session waits to be confirmed", kind="protocol")
        before = self.running if pending is None else pending.before
        after = self.candidate.copy()
        self.check(after)
        self.need_room()
        self._stop()
        if seconds is not None:
            loop = asyncio.get_running_loop()
            until = loop.time() + seconds
            timer = loop.call_later(NEVER_S if self.fault.loses_timer else seconds, self._gone_off)
            self.pending = Pending(before, until, timer, by, persist)
        self.running = after
        self.kept_and_told()

    def _stop(self) -> None:
        if self.pending is not None:
            self.pending.timer.cancel()
        self.pending = None

    def _gone_off(self) -> None:
        loop = asyncio.get_running_loop()
        # There are devices that do not come to it while they are asked one thing after the other.
        left = self.last_asked + self.fault.busy_s - loop.time()
        if self.pending is not None and left > 0:
            self.pending.timer = loop.call_later(left, self._gone_off)
            return
        self.back()

    def back(self) -> None:
        """Running is again what it was before the commit that waits, if one does."""
        if self.pending is None:
            return
        before = self.pending.before
        self._stop()
        self.running = before
        self.kept_and_told()

    def cancel(self, by: Service, persist_id: str | None) -> None:
        """RFC 6241, section 8.4.4.1. Raises RpcError."""
        pending = self.pending
        if (
            pending is None
            or pending.persist != persist_id
            or (persist_id is None and pending.owner is not by)
        ):
            raise RpcError("invalid-value", "no such commit waits", info=("bad-element", "persist-id"))
        self.back()

    def ended(self, service: Service) -> None:
        """A session is over: what it has locked, and a commit that it alone could have confirmed,
        go with it."""
        if self.pending is not None and self.pending.owner is service and self.pending.persist is None:
            self.back()
        if self.locks.get("candidate") is service:
            self.candidate = self.running.copy()
        self.locks = {name: holder for name, holder in self.locks.items() if holder is not service}
        self.services = [one for one in self.services if one is not service]

    def load_startup(self) -> None:
        self._stop()
        self.locks = {}
        self.run_startup()
