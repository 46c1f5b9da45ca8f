"""NETCONF: a candidate with a commit that must be confirmed, or, where a server has none, running itself (RFC
6241, section 8).

No `ok` is believed: the candidate is read before it is committed, and running after everything that changes
it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress

from oast.change import CONFIRMED_COMMIT, INVERSE_EDITS, Phase
from oast.change.methods.base import ChangeRequest
from oast.change.plan import edits_between, inverse_edits
from oast.config import Command, Edit, Node, XmlSyntax, apply_edits, config_parts, difference, read_tree
from oast.connect import Capability
from oast.connect.netconf import NetconfSession, Refused, operations as op
from oast.errors import ConnectionFailed, DeviceError, DeviceRefused, ProtocolError, RollbackLeftover

# A confirmed commit is confirmed this many times before the confirmation is reported as not provable.
CONFIRMATIONS = 3
# Another session holds a lock, perhaps the lost one; that proves nothing about the commit (RFC 6241, appendix
# A).
HELD = ("lock-denied", "in-use")
NOT_WAITING = "invalid-value"


class NetconfMethod:
    """What both ways have in common: locks, edits, saving, reading again."""

    def __init__(self, session: NetconfSession, work: ChangeRequest) -> None:
        self.session = session
        self.work = work

    async def _lock(self, *datastores: str) -> None:
        """RFC 6241, section 7.5. Raises DeviceError that says whose the lock is."""
        for datastore in datastores:
            try:
                await self.session.rpc(op.lock(datastore))
            except Refused as refused:
                if refused.tag not in HELD:
                    raise
                holder = next((error.info for error in refused.errors if error.info), "")
                owner_text = f" ({holder})" if holder else ""
                message = (
                    f"another session has locked the {datastore} datastore{owner_text}; nothing was sent"
                    f" ({refused.answer})"
                )
                raise DeviceError(
                    message, hint="wait until that session ends its edit or confirms its commit"
                ) from None
            self.session.held.add(datastore)

    async def _unlock(self, *datastores: str) -> None:
        """Those of `datastores` that this session holds, or all of them."""
        for datastore in sorted(
            self.session.held.intersection(datastores) if datastores else self.session.held
        ):
            self.session.held.discard(datastore)
            try:
                await self.session.rpc(op.unlock(datastore))
            except DeviceRefused:
                pass  # A lock ends with its session at the latest.

    async def _read(self, datastore: str) -> Node:
        return await read_tree(self.work.syntax, await self.session.read(datastore))

    async def _edit(self, target: str, edits: Sequence[Edit]) -> None:
        syntax = self.work.syntax
        if not isinstance(syntax, XmlSyntax):
            raise AssertionError("a NETCONF platform's text is XML")
        rollback = Capability.ROLLBACK_ON_ERROR in self.session.capabilities
        for part in config_parts(edits, syntax):
            shown = op.edit_config(target, part.shown, rollback_on_error=rollback)
            with self._at_its_place():
                await self.session.rpc(
                    op.edit_config(target, part.sent, rollback_on_error=rollback),
                    secrets=part.secrets,
                    shown=shown,
                )
        self.work.sent(len(self.work.comparison.commands))

    @contextmanager
    def _at_its_place(self) -> Iterator[None]:
        """An error inside names the statement of the change that it is about, where the device says so."""
        try:
            yield
        except Refused as refused:
            refused.number = command_for_error(refused.errors[0].path, self.work.comparison.commands)
            raise

    def _need_only_ours(self, after: Node, what: str) -> None:
        """Nothing but what was meant may be different `after` it was edited. Raises ProtocolError."""
        comparison = self.work.comparison
        left = edits_between(comparison.intent, after, comparison.manner)
        if left:
            number = "1 of them is" if len(left) == 1 else f"{len(left)} of them are"
            raise ProtocolError(
                f"the device accepted the edits, but {number} missing in {what} (at {_places(left)})"
            )
        # What only leads to what is owned comes and goes with it: containers, and entries that nothing else
        # stands in.
        outside = comparison.intent.scope.outside()
        more = difference(
            outside.within(apply_edits(comparison.edits, comparison.running)), outside.within(after)
        )
        if more:
            message = (
                "with these edits the device would also change statements that no section owns (at "
                f"{_places(more)}); nothing was sent"
            )
            raise ProtocolError(
                message, hint="let one section own both statements, if they exclude each other"
            )

    async def release(self, session_id: str) -> None:
        """RFC 6241, section 7.9. A server may refuse it, and then notices by itself that the
        session is gone."""
        with suppress(DeviceRefused):
            await self.session.rpc(op.kill_session(session_id))

    async def save(self) -> None:
        """RFC 6241, section 8.7: without a startup of its own, what runs is kept."""
        if Capability.STARTUP in self.session.capabilities:
            await self.session.rpc(op.copy_config("running", "startup"))
            if await self._read("startup") != await self._read("running"):
                raise ProtocolError(
                    "the device accepted the command to save, but its startup configuration differs from"
                    " running"
                )
        await self._unlock()


class NetconfCandidateMethod(NetconfMethod):
    """For servers with :candidate and :confirmed-commit (RFC 6241, sections 8.3 and 8.4)."""

    rollback_method = CONFIRMED_COMMIT

    @property
    def is_session_bound(self) -> bool:
        """A commit without persist ends with its session (RFC 6241, section 8.4.1)."""
        return not self._persist

    @property
    def _persist(self) -> str | None:
        return self.work.token if Capability.PERSIST in self.session.capabilities else None

    async def check_nothing_pending(self) -> None:
        """Whose change is under way is found out by locking."""

    async def stage(self) -> None:
        # A lock on running is refused while a foreign commit waits for its confirmation (RFC 6241, section
        # 7.5).
        await self._lock("running", "candidate")
        if difference(self.work.comparison.running, await self._read("candidate")):
            message = (
                "the candidate has uncommitted changes of another session; nothing was sent to the device"
            )
            raise DeviceError(message, hint="commit or discard them on the device")
        await self.work.reached(Phase.STAGED)
        await self._edit("candidate", self.work.comparison.edits)
        self._need_only_ours(await self._read("candidate"), "its candidate")

    async def validate(self) -> None:
        if self.session.netconf.validate and Capability.VALIDATE in self.session.capabilities:
            with self._at_its_place():
                await self.session.rpc(op.validate("candidate"))

    async def apply(self, timer_s: float) -> None:
        await self.work.reached(Phase.APPLYING)
        self.session.committed = True
        with self._at_its_place():
            await self.session.rpc(op.commit(timer_s, self._persist))

    async def confirm(self) -> None:
        persist = self._persist
        if persist is None and not self.session.committed:
            message = (
                "the session that holds the confirmed commit is gone; whether the change stays is known"
                " when its timeout expires"
            )
            raise ConnectionFailed(message)
        try:
            await self.session.rpc(op.confirm(persist))
        except Refused as refused:
            if refused.tag not in HELD:
                raise
            raise ConnectionFailed(f"the commit cannot be confirmed yet: {refused.answer}") from None
        if persist is not None:
            await self._prove_confirmed(persist)
        self._need_intended(await self._read("running"))

    async def _prove_confirmed(self, persist: str) -> None:
        """A persist-id for which no commit waits is an invalid value (RFC 6241, section 8.4.5.1); the
        candidate then equals running. Any other error proves nothing about the commit."""
        for _ in range(CONFIRMATIONS):
            try:
                await self.session.rpc(op.confirm(persist))
            except Refused as refused:
                if refused.tag == NOT_WAITING:
                    return
                if refused.tag not in HELD:
                    raise ConnectionFailed(
                        f"the device does not say whether its commit is still pending: {refused.answer}"
                    ) from None
        raise ProtocolError(
            "the device accepted the confirmation, but its commit is still pending: it may roll back"
        )

    def _need_intended(self, running: Node) -> None:
        comparison = self.work.comparison
        left = edits_between(comparison.intent, running, comparison.manner)
        if left:
            raise ProtocolError(
                f"the device accepted the confirmation, but the change is not active (at {_places(left)})"
            )

    # No operation of the base protocol shows a pending commit.
    shows_pending = False

    async def extend(self, timer_s: float) -> float | None:
        """A follow-up confirmed commit restarts the timer (RFC 6241, section 8.4.1). Only a persistent one is
        extended: in :confirmed-commit:1.0 a second commit may be the confirmation."""
        persist = self._persist
        if persist is None:
            return None
        await self.session.rpc(op.commit(timer_s, persist, persist))
        return timer_s

    async def is_waiting(self) -> bool | None:
        """While a commit of another session waits, running cannot be locked (RFC 6241, section 7.5)."""
        if "running" in self.session.held or self.session.committed:
            return None  # A commit of this session keeps only others from locking.
        try:
            await self.session.rpc(op.lock("running"))
        except Refused as refused:
            return True if refused.tag in HELD else None
        self.session.held.add("running")
        await self._unlock()
        return False

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING:
            # A server may ignore the cancel while running is locked, and end the timer all the same.
            await self._unlock("running")
            await self._cancel_commit()
        if "candidate" in self.session.held:
            # No other session can have written into it: what is in it is ours.
            await self._discard()
        elif phase >= Phase.STAGED:
            await self.clean_up()
        await self._unlock()

    async def _discard(self) -> None:
        """Raises RollbackLeftover when the candidate keeps edits that the server said it discarded."""
        await self.session.rpc(op.discard_changes())
        running, candidate = await self._read("running"), await self._read("candidate")
        left = difference(candidate, running)
        if left:
            await self._edit("candidate", left)
            left = difference(await self._read("candidate"), running)
        if left:
            message = (
                f"the candidate still differs from running (at {_places(left)}), although the device"
                " accepted discard-changes"
            )
            raise RollbackLeftover(message, hint="discard the candidate on the device")

    async def _cancel_commit(self) -> None:
        """RFC 6241, section 8.4.4.1. Whether the server did it shows in running."""
        persist = self._persist
        if persist is not None:
            try:
                await self.session.rpc(op.cancel_commit(persist))
            except Refused:
                pass  # It may have rolled back already.
        elif self.session.committed:
            await self.session.close()
            raise ConnectionFailed(
                "the commit is rolled back when its session ends, and that session has ended"
            )

    async def undo(self) -> None:
        await self._lock("running")
        await self.clean_up()
        await self._lock("candidate")
        back = inverse_edits(self.work.comparison, await self._read("running"))
        if back:
            try:
                await self._edit("candidate", back)
                await self.session.rpc(op.commit())
            except DeviceRefused:
                await self.session.rpc(op.discard_changes())
                raise
        await self._unlock()

    async def clean_up(self) -> None:
        """When a session ends with its lock, the candidate is reset to running (RFC 6241, section 8.3.5.2),
        perhaps to the change that is rolled back later. Then it could not be locked again. A candidate that
        equals the change is ours, and is discarded."""
        comparison = self.work.comparison
        candidate = await self._read("candidate")
        if candidate == await self._read("running") or difference(
            apply_edits(comparison.edits, comparison.running), candidate
        ):
            return
        try:
            await self._discard()
        except Refused as refused:
            if refused.tag not in HELD:
                raise


class NetconfRunningMethod(NetconfMethod):
    """For servers that are edited as they run: all of an edit or nothing of it (RFC 6241, sections 8.2 and
    8.5)."""

    rollback_method = INVERSE_EDITS
    is_session_bound = False

    async def clean_up(self) -> None:
        return

    async def check_nothing_pending(self) -> None:
        offered = self.session.capabilities
        if Capability.WRITABLE_RUNNING in offered and Capability.ROLLBACK_ON_ERROR in offered:
            return
        lacks = "candidate" if Capability.CANDIDATE not in offered else "confirmed-commit"
        running = "writable-running" if Capability.WRITABLE_RUNNING not in offered else "rollback-on-error"
        message = (
            f"its hello offers neither {lacks} nor {running}, so it cannot be changed safely; nothing was"
            " sent to it"
        )
        raise DeviceError(message, hint="enable one of these capabilities on the device")

    async def stage(self) -> None:
        await self._lock("running")

    async def validate(self) -> None:
        return

    async def apply(self, timer_s: float) -> None:
        await self.work.reached(Phase.APPLYING)
        await self._edit("running", self.work.comparison.edits)

    async def confirm(self) -> None:
        return

    shows_pending = False

    async def extend(self, timer_s: float) -> float | None:
        return None

    async def is_waiting(self) -> bool | None:
        return False

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING:
            await self.undo()
        await self._unlock()

    async def undo(self) -> None:
        back = inverse_edits(self.work.comparison, await self._read("running"))
        if back:
            await self._edit("running", back)


def _places(edits: Sequence[Edit]) -> str:
    return ", ".join(sorted({edit.rule.path for edit in edits})[:3])


def netconf_method(
    session: NetconfSession, work: ChangeRequest
) -> NetconfCandidateMethod | NetconfRunningMethod:
    """The way that the server's hello allows; where it allows none, `check_nothing_pending` says so."""
    return (
        NetconfCandidateMethod(session, work)
        if Capability.REVERT_TIMER in session.capabilities
        else NetconfRunningMethod(session, work)
    )


_STEP = re.compile(r"/(?:[\w.-]+:)?(?P<name>[\w.-]+)(?P<keys>(?:\[[^\]]*\])*)")
_KEY = re.compile(r"\[\s*(?:[\w.-]+:)?[\w.-]+\s*=\s*(?:'(?P<single>[^']*)'|\"(?P<double>[^\"]*)\")\s*\]")


def command_for_error(path: str, commands: Sequence[Command]) -> int | None:
    """The number of the command that is nearest to an instance identifier; None when none is below or above
    it."""
    expected = list(_levels(path))
    best: int | None = None
    longest = 0
    for number, command in enumerate(commands):
        alike = 0
        for level, identity in zip(expected, command.path, strict=False):
            if level != _bare(identity):
                break
            alike += 1
        # A path that only shares the first levels with a command is not about that command.
        if alike > longest and alike in (len(expected), len(command.path)):
            best, longest = number, alike
    return best


def _levels(path: str) -> Sequence[str]:
    found = []
    for step in _STEP.finditer(path):
        keys = [
            next(value for value in (key["single"], key["double"]) if value is not None)
            for key in _KEY.finditer(step["keys"])
        ]
        found.append(" ".join([step["name"], *keys]))
    return found


def _bare(identity: str) -> str:
    """An identity without quotes and without modules before names."""
    name, space, keys = identity.replace('"', "").partition(" ")
    return f"{name.rpartition(':')[2]}{space}{keys}"
