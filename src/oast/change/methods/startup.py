"""Into startup: what the device starts with is written, and what it runs stays as it is."""

from __future__ import annotations

from lxml import etree

from oast.change import PREVIOUS_STARTUP, Phase
from oast.change.methods.base import ChangeRequest, CliDeliveryMethod
from oast.config import Node, XmlSyntax, apply_edits, read_tree, whole_config
from oast.connect import Session
from oast.connect.netconf import NetconfSession, Refused, operations as op
from oast.errors import DeviceError, DeviceRefused, ProtocolError
from oast.records import Value


class StartupMethod:
    """Common proof of both methods: startup is what was intended; any later change of it is foreign."""

    rollback_method = PREVIOUS_STARTUP
    is_session_bound = False
    work: ChangeRequest

    def _meant(self) -> Node:
        comparison = self.work.comparison
        return apply_edits(comparison.edits, comparison.running)

    async def _now(self, session: Session) -> Node:
        return await read_tree(self.work.syntax, await session.read_startup())

    async def _need_meant(self, session: Session) -> None:
        if await self._now(session) != self._meant():
            raise ProtocolError(
                "the device accepted the new startup configuration, but lists a different one"
            )

    async def _is_ours(self, session: Session) -> bool:
        """Return whether startup must be restored. A startup configuration that is neither the old nor the
        new one was saved by another session."""
        return await self._now(session) == self._meant()

    async def check_nothing_pending(self) -> None:
        return

    async def validate(self) -> None:
        return

    async def confirm(self) -> None:
        return

    shows_pending = False

    async def extend(self, timer_s: float) -> float | None:
        return None

    async def is_waiting(self) -> bool | None:
        return False

    async def undo(self) -> None:
        """Nothing but the write itself changes a startup configuration, and it was tried."""

    async def clean_up(self) -> None:
        return

    async def release(self, session_id: str) -> None:
        return


class CliStartupMethod(StartupMethod, CliDeliveryMethod):
    """By a command that takes a whole text."""

    async def stage(self) -> None:
        await self.session.leave_editing()
        await self.session.gain_privilege()
        await self.work.reached(Phase.STAGED)

    async def apply(self, timer_s: float) -> None:
        text = self.target_config()
        await self.work.reached(Phase.APPLYING)
        await self._write(text)
        await self._need_meant(self.session)

    async def _write(self, text: list[Value]) -> None:
        await self.put(self.dialect.write_startup or "", text)
        self.work.sent(len(self.work.comparison.commands))

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING and await self._is_ours(self.session):
            await self.session.leave_editing()
            await self.session.gain_privilege()
            await self._write([self.work.comparison.running_text])

    async def save(self) -> None:
        await self._need_meant(self.session)


class NetconfStartupMethod(StartupMethod):
    """Copy a whole configuration to startup (RFC 6241, sections 7.3 and 8.7). Parts that the platform does
    not read are copied unchanged."""

    def __init__(self, session: NetconfSession, work: ChangeRequest) -> None:
        self.session = session
        self.work = work

    async def stage(self) -> None:
        try:
            await self.session.rpc(op.lock("startup"))
        except Refused as refused:
            if refused.tag not in ("lock-denied", "in-use"):
                raise
            raise DeviceError(
                f"another session has locked the startup datastore; nothing was sent ({refused.answer})"
            ) from None
        self.session.held.add("startup")
        await self.work.reached(Phase.STAGED)

    async def apply(self, timer_s: float) -> None:
        await self._copy(self._meant())
        await self._need_meant(self.session)

    async def _copy(self, tree: Node) -> None:
        syntax = self.work.syntax
        if not isinstance(syntax, XmlSyntax):
            raise AssertionError("a NETCONF platform's text is XML")
        besides = await self.session.besides("startup")
        whole = whole_config(tree, syntax, besides)
        await self.work.reached(Phase.APPLYING)
        shown = op.copy_inline("startup", whole.shown)
        await self.session.rpc(
            op.copy_inline("startup"), config=whole.sent, secrets=whole.secrets, shown=shown
        )
        self.work.sent(len(self.work.comparison.commands))
        if _spelt(await self.session.besides("startup")) != _spelt(besides):
            raise ProtocolError(
                "the device accepted the new startup configuration, but also changed other statements in it"
            )

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING and await self._is_ours(self.session):
            await self._copy(self.work.comparison.running)
        await self._unlock()

    async def save(self) -> None:
        await self._need_meant(self.session)
        await self._unlock()

    async def _unlock(self) -> None:
        if "startup" in self.session.held:
            self.session.held.discard("startup")
            try:
                await self.session.rpc(op.unlock("startup"))
            except DeviceRefused:
                pass  # A lock ends with its session at the latest.


def _spelt(elements: list[etree._Element]) -> set[bytes]:
    return {etree.tostring(element, method="c14n2", strip_text=True) for element in elements}
