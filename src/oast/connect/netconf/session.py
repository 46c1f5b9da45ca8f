"""A session with a device that speaks NETCONF (RFC 6241)."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping, Sequence
from typing import TypeVar

from lxml import etree

from oast.answer_parsing import INLINE_LINES, parse_answer, parse_if_long
from oast.connect import ANSWERS, MOST_LINES, AnswerLimits, Capability, Transcript, Transport, hold_answer
from oast.connect.netconf import operations as op
from oast.connect.netconf.capabilities import BASE_10, BASE_11, ServerCapabilities
from oast.connect.netconf.framing import Decoder, FramingError, TooManyElements, encoded
from oast.connect.netconf.messages import (
    NotNetconf,
    RpcError,
    base,
    capabilities_in,
    errors_in,
    hello,
    parsed,
    rpc,
)
from oast.errors import ConnectionFailed, DeviceRefused, DeviceTimeout, ProtocolError
from oast.platforms import Netconf, Platform, steps
from oast.records import Secret
from oast.safe_xml import Element

R = TypeVar("R")
CLOSING_S = 1.0
# A device that sends more between a request and its reply keeps this process from everything else.
OTHER_MESSAGES_AT_MOST = 5_000


class NetconfSession:
    """One open session. `limits` bound each answer. Requests are sent one behind the other."""

    def __init__(
        self, transport: Transport[bytes], platform: Platform, limits: AnswerLimits, transcript: Transcript
    ) -> None:
        self.platform = platform
        self.transcript = transcript
        self.netconf = platform.netconf or Netconf()
        self.offered = ServerCapabilities(())
        self.session_id = ""
        # What this session has locked, and whether it has committed: both end with it, and foreign ones are
        # never undone.
        self.held: set[str] = set()
        self.committed = False
        self._transport = transport
        self._limits = limits
        self._decoder = Decoder(limits.at_most_bytes, limits.at_most_elements)
        self._waiting: list[bytes] = []
        self._number = 0
        self._in_step = False
        self.reached_at = ""

    async def start(self) -> None:
        """Exchange hellos (RFC 6241, section 8.1). Raises ProtocolError for a server that Oast cannot speak
        with."""
        self._transport.write(encoded(hello((BASE_10, BASE_11)), chunked=False))
        try:
            capabilities, self.session_id = capabilities_in(await self._message("its hello"))
        except NotNetconf as wrong:
            raise ProtocolError(f"the device started with {wrong}") from None
        self.offered = ServerCapabilities(capabilities)
        self.transcript.note(f"session {self.session_id}: {len(capabilities)} capabilities")
        for capability in capabilities:
            self.transcript.received(capability)
        if not self.offered.is_netconf:
            hint = "Oast supports base:1.0 (RFC 4741) and base:1.1 (RFC 6241)"
            raise ProtocolError("the device offers no NETCONF version that Oast supports", hint=hint)
        lacking = self.offered.lacks(self.netconf.needs)
        if lacking:
            message = (
                f"the device does not offer {lacking[0]}, which its platform '{self.platform.name}' needs"
            )
            raise ProtocolError(message, hint="check the device's platform in the inventory")
        # Both have to know the newer framing, or the older is kept (RFC 6242, section 4.1).
        self._decoder.chunked = self.offered.base_11
        self._in_step = True

    # --- the contract
    # ---------------------------------------------------------------------------------------------

    @property
    def capabilities(self) -> frozenset[Capability]:
        """What its hello offers."""
        offered = self.offered
        there = {
            Capability.CANDIDATE: offered.candidate,
            Capability.REVERT_TIMER: offered.candidate and offered.confirmed_commit,
            Capability.LOCK: True,
            Capability.VALIDATE: offered.validate,
            Capability.STARTUP: offered.startup,
            Capability.WRITE_STARTUP: offered.startup,
            Capability.WRITABLE_RUNNING: offered.writable_running,
            Capability.ROLLBACK_ON_ERROR: offered.rollback_on_error,
            Capability.PERSIST: offered.persist,
        }
        return frozenset(capability for capability, offers in there.items() if offers)

    @property
    def level(self) -> str:
        return ""

    @property
    def addresses(self) -> tuple[str, str]:
        return self._transport.addresses

    async def listing(self, command: str, *, written_down: bool = True) -> str:
        elements = []
        for levels in steps(command, self.platform.modules):
            outer: Element = None
            for namespace, name in levels:
                tag = f"{{{namespace}}}{name}"
                if outer is None:
                    outer = etree.Element(tag, nsmap={None: namespace})
                    elements.append(outer)
                else:
                    outer = etree.SubElement(outer, tag, nsmap={None: namespace})
        return await _if_long(await self.rpc(op.get(op.subtree(elements)), written_down=written_down), _text)

    async def probe(self, command: str, inputs: Mapping[str, str]) -> str:
        """An operation of a module (RFC 7950, section 7.14); the answer is what its elements hold, each on a
        line."""
        [[(namespace, name)]] = steps(command, self.platform.modules)
        operation: Element = etree.Element(f"{{{namespace}}}{name}", nsmap={None: namespace})
        for key, value in inputs.items():
            etree.SubElement(operation, f"{{{namespace}}}{key}", nsmap={None: namespace}).text = value
        reply = await self.rpc(operation)
        return "".join(
            f"{text}\n"
            for element in reply.iter()
            if len(element) == 0 and (text := (element.text or "").strip())
        )

    async def read(self, datastore: str) -> str:
        """What of a datastore the platform reads, as XML. Raises DeviceRefused."""
        tops = [
            rule
            for name, rule in self.platform.grammar.root.children.items()
            if name in self.netconf.read and rule.module is not None
        ]
        elements = [
            etree.Element(rule.tag, nsmap={None: rule.module.namespace})
            for rule in tops
            if rule.module is not None
        ]
        return await _if_long(
            await self.rpc(op.get_config(datastore, op.subtree(elements)), written_down=False), _text
        )

    async def besides(self, datastore: str) -> list[Element]:
        """What of a datastore the platform does not read, as it is. Raises DeviceRefused, ProtocolError."""
        reply = await self.rpc(op.get_config(datastore), written_down=False)
        data = reply.find(base("data"))
        if data is None:
            raise ProtocolError("the device sent no data in its reply")
        tops = {
            rule.tag
            for name, rule in self.platform.grammar.root.children.items()
            if name in self.netconf.read
        }
        return [element for element in data if isinstance(element.tag, str) and element.tag not in tops]

    async def read_running(self) -> str:
        return await self.read("running")

    async def read_startup(self) -> str:
        return await self.read("startup")

    async def gain_privilege(self) -> None:
        """What a user may do is decided by the server (RFC 8341)."""

    async def leave_editing(self) -> None:
        """NETCONF has no mode to leave."""

    async def close(self) -> None:
        if self._in_step:
            try:
                async with asyncio.timeout(CLOSING_S):
                    await self.rpc(op.close_session())
            except (ConnectionFailed, DeviceRefused, ProtocolError, TimeoutError):
                pass  # It ends all the same.
        ANSWERS.release(self)
        self.transcript.note("session closed")
        try:
            await asyncio.shield(self._transport.close())
        except OSError:
            pass

    # --- requests and replies
    # -----------------------------------------------------------------------------------------

    async def rpc(
        self,
        operation: Element,
        *,
        config: str | None = None,
        secrets: Sequence[tuple[Secret, str]] = (),
        shown: Element | None = None,
        written_down: bool = True,
    ) -> Element:
        """The reply to a request (RFC 6241, section 4). Raises DeviceRefused with the first error of it, and
        its path.

        `secrets` stand in it, each with how it is spelt there; `shown` is the request without them, for the
        log. `config` is the text of its empty config, where it is a whole one.
        """
        name = etree.QName(operation).localname
        for secret, spelt in secrets:
            self.transcript.masking.add(secret)
            self.transcript.masking.add(secret.become(spelt))
        self._number += 1
        number = self._number
        for line in _lines(operation if shown is None else shown):
            self.transcript.sent(line)
        in_step, self._in_step = self._in_step, False
        if not in_step:
            raise ConnectionFailed("the session is out of sync with the device")
        self._transport.write(encoded(rpc(number, operation, config), chunked=self.offered.base_11))
        reply = await self._reply(number, name)
        self._in_step = True
        for line in (
            (await _if_long(reply, _lines))[:MOST_LINES]
            if written_down
            else ("(a reply that is not logged)",)
        ):
            self.transcript.received(line)
        self._need_no_error(reply, name)
        return reply

    async def _reply(self, number: int, name: str) -> Element:
        """The reply with the number; notifications in between are passed over, and do not make it any later.
        Raises DeviceError."""
        try:
            async with asyncio.timeout(self._limits.at_most_s):
                return await self._next_reply(number, name)
        except TimeoutError:
            message = f"no reply to {name} within {self._limits.at_most_s:g} s, only other messages"
            raise DeviceTimeout(message, hint="allow more time with max_answer_s in oast.toml") from None

    async def _next_reply(self, number: int, name: str) -> Element:
        for _ in range(OTHER_MESSAGES_AT_MOST):
            try:
                message = await self._message(f"the reply to {name}")
            except NotNetconf as wrong:
                raise ProtocolError(f"instead of a reply to {name} the device sent {wrong}") from None
            if message.tag == base("rpc-reply"):
                answered = message.get("message-id")
                if answered == str(number) or (answered is None and self.netconf.replies_without_id):
                    return message
                if answered is None:
                    hint = (
                        "if this server always omits it, set replies_without_id = true in [netconf] of"
                        " its platform"
                    )
                    raise ProtocolError(
                        f"the device sent a reply to {name} without a message-id (RFC 6241, section 4.2)",
                        hint=hint,
                    )
                raise ProtocolError(f"the device answered request {answered} instead of {number}")
            if etree.QName(message).localname != "notification":
                raise ProtocolError(
                    f"the device sent '{etree.QName(message).localname}' instead of a reply to {name}"
                )
        raise ProtocolError(f"the device sent {OTHER_MESSAGES_AT_MOST} notifications and no reply to {name}")

    def _need_no_error(self, reply: Element, name: str) -> None:
        found = errors_in(reply)
        hide = self.transcript.masking.hide
        for error in found:
            if error.severity == "warning":
                self.transcript.note(f"a warning: {error}")
        wrong = [error for error in found if error.severity != "warning"]
        if wrong:
            raise Refused(wrong, name, hide)

    async def _message(self, awaited: str) -> Element:
        """The next message. Raises ConnectionFailed, DeviceTimeout, ProtocolError, NotNetconf."""
        try:
            async with asyncio.timeout(self._limits.at_most_s):
                while not self._waiting:
                    await self._arrive(awaited)
        except TimeoutError:
            message = f"no complete answer within {self._limits.at_most_s:g} s (waiting for {awaited})"
            raise DeviceTimeout(message, hint="allow more time with max_answer_s in oast.toml") from None
        arrived = self._waiting.pop(0)
        ANSWERS.release(self)
        return await parse_if_long((arrived,), parsed, arrived)

    async def _arrive(self, awaited: str) -> None:
        try:
            async with asyncio.timeout(self._limits.silence_s):
                arrived = await self._transport.read()
        except TimeoutError:
            last = self.transcript.masking.hide(self._decoder.waiting[-120:].decode("utf-8", "replace"))
            self.transcript.note(f"nothing for {self._limits.silence_s:g} s; last: {last!r}")
            passed = DeviceTimeout(f"no answer within {self._limits.silence_s:g} s (waiting for {awaited})")
            passed.last = last
            raise passed from None
        if not arrived:
            self.transcript.note("the connection ended")
            raise ConnectionFailed(f"the device closed the session while Oast waited for {awaited}")
        try:
            for message in self._decoder.feed(arrived):
                self._waiting.append(message)
                if not self.session_id:
                    break  # What comes behind a hello has the framing that it decides.
        except FramingError as wrong:
            what = "elements" if isinstance(wrong, TooManyElements) else "bytes"
            raise ProtocolError(
                f"the device sent {wrong}", hint=f"allow more with max_answer_{what} in oast.toml"
            ) from None
        hold_answer(self, self._decoder.held + sum(map(len, self._waiting)), self.transcript)


class Refused(DeviceRefused):
    """An operation that was answered with errors (RFC 6241, section 4.3)."""

    def __init__(self, errors: Sequence[RpcError], operation: str, hide: Callable[[str], str]) -> None:
        more = f" (and {len(errors) - 1} more)" if len(errors) > 1 else ""
        answer = hide(f"{errors[0]}{more}")
        super().__init__(f"the device rejected {operation}: {answer}", statement=operation, answer=answer)
        self.errors = tuple(errors)

    @property
    def tag(self) -> str:
        """The first error's tag."""
        return self.errors[0].tag


async def _if_long(reply: Element, work: Callable[[Element], R]) -> R:
    """Do `work` with a reply, beside the event loop where it has many elements."""
    number = sum(1 for _ in reply.iter())
    return work(reply) if number <= INLINE_LINES else await parse_answer(number, work, reply)


def _lines(element: Element) -> list[str]:
    """An element to look at, a line for each of those in it."""
    copy = etree.fromstring(etree.tostring(element))
    etree.indent(copy)
    text: str = etree.tostring(copy, encoding="unicode")
    return text.split("\n")


def _text(reply: Element) -> str:
    """Return the contents of the reply's data, each element on a line of its own."""
    data = reply.find(base("data"))
    if data is None:
        raise ProtocolError("the device sent no data in its reply")
    parts = []
    for element in data:
        etree.indent(element)
        element.tail = None
        parts.append(etree.tostring(element, encoding="unicode"))
    return "".join(f"{part}\n" for part in parts)
