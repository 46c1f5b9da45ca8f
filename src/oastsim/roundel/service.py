"""One NETCONF session of a roundel: what is asked, and what is answered (RFC 6241). Knows nothing of SSH."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from lxml import etree

from oastsim import probes
from oastsim.model import Wrong
from oastsim.roundel import state
from oastsim.roundel.configuration import empty
from oastsim.roundel.elements import BASE, Element, RpcError, edit, error_of, filtered, parsed, printed
from oastsim.roundel.framing import Broken, Framing
from oastsim.roundel.modules import hello_modules, text_of
from oastsim.roundel.schema import NAMESPACES

if TYPE_CHECKING:
    from oastsim.roundel.device import Device

MONITORING = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"
CAPABILITIES: Mapping[str, str] = {
    "base:1.0": "urn:ietf:params:netconf:base:1.0",
    "base:1.1": "urn:ietf:params:netconf:base:1.1",
    "candidate": "urn:ietf:params:netconf:capability:candidate:1.0",
    "confirmed-commit": "urn:ietf:params:netconf:capability:confirmed-commit:1.1",
    "validate": "urn:ietf:params:netconf:capability:validate:1.1",
    "rollback-on-error": "urn:ietf:params:netconf:capability:rollback-on-error:1.0",
    "startup": "urn:ietf:params:netconf:capability:startup:1.0",
    "writable-running": "urn:ietf:params:netconf:capability:writable-running:1.0",
}
# Where there is a candidate, running is changed by commits alone.
WITH_CANDIDATE = ("writable-running",)
LONGEST_TIMER_S = 100_000


def base(name: str) -> str:
    return f"{{{BASE}}}{name}"


class Service:
    """A session of `user` on `device`, known by its `number`."""

    def __init__(self, device: Device, user: str, number: int) -> None:
        self.device = device
        self.user = user
        self.number = number
        self.closed = False
        self.requests = 0
        self._framing = Framing()
        self._greeted = False

    @property
    def _offered(self) -> list[str]:
        without = self.device.plan.without
        hidden = without if "candidate" in without else {*without, *WITH_CANDIDATE}
        return [name for name in CAPABILITIES if name not in hidden]

    def greeting(self) -> bytes:
        hello = etree.Element(base("hello"), nsmap={None: BASE})
        inner = etree.SubElement(hello, base("capabilities"))
        for capability in (*(CAPABILITIES[name] for name in self._offered), MONITORING, *hello_modules()):
            etree.SubElement(inner, base("capability")).text = capability
        etree.SubElement(hello, base("session-id")).text = str(self.number)
        return self._framing.framed(etree.tostring(hello, xml_declaration=True, encoding="UTF-8"))

    def feed(self, data: bytes) -> list[bytes]:
        """Return the complete requests. An invalid message ends the session without an answer."""
        found: list[bytes] = []
        try:
            while messages := self._framing.feed(data):
                data = b""
                if not self._greeted:
                    self._greet(messages[0])
                    continue
                found += messages
        except (Broken, etree.XMLSyntaxError):
            self.end()
            return []
        return found

    def _greet(self, message: bytes) -> None:
        hello = parsed(message)
        theirs = {(element.text or "").strip() for element in hello.iter(base("capability"))}
        if hello.tag != base("hello") or not theirs & {CAPABILITIES["base:1.0"], CAPABILITIES["base:1.1"]}:
            raise Broken
        self._framing.chunked = CAPABILITIES["base:1.1"] in theirs and "base:1.1" in self._offered
        self._greeted = True

    def answer(self, message: bytes) -> bytes:
        """The reply to a request, as it is before it is framed; nothing when the session ends."""
        self.requests += 1
        try:
            rpc = parsed(message)
        except etree.XMLSyntaxError:
            self.end()
            return b""
        reply = etree.Element(base("rpc-reply"), dict(rpc.attrib), nsmap={None: BASE})
        try:
            for element in self._answers(rpc):
                reply.append(element)
        except Wrong as wrong:
            reply.append(_error(error_of(wrong)))
        except RpcError as wrong:
            reply.append(_error(wrong))
        text: bytes = etree.tostring(reply, xml_declaration=True, encoding="UTF-8")
        # Line breaks are allowed inside of tags, and devices print them.
        return re.sub(rb"<(interface|rpc-reply)( |>)", rb"<\1\n\2", text)

    def framed(self, reply: bytes) -> bytes:
        return self._framing.framed(reply)

    def end(self) -> None:
        if not self.closed:
            self.closed = True
            self.device.ended(self)

    # --- operations
    # -------------------------------------------------------------------------------------------------

    def _answers(self, rpc: Element) -> list[Element]:
        if rpc.tag != base("rpc") or "message-id" not in rpc.attrib:
            raise RpcError(
                "missing-attribute",
                "a request has a message-id",
                kind="rpc",
                info=("bad-attribute", "message-id"),
            )
        operations = [child for child in rpc if isinstance(child.tag, str)]
        if len(operations) != 1:
            raise RpcError("operation-failed", "a request has one operation", kind="rpc")
        operation = operations[0]
        text = etree.tostring(operation).decode()
        if self.device.fault.refuses(text):
            raise RpcError("operation-failed", "the system could not do this (cause 41)")
        if self.device.fault.ignores(text):
            return [etree.Element(base("ok"))]
        run = OPERATIONS.get(operation.tag)
        if run is None:
            name = etree.QName(operation).localname
            raise RpcError(
                "operation-not-supported", f"{name} is not known", kind="protocol", info=("bad-element", name)
            )
        found = run(self, operation)
        return [etree.Element(base("ok"))] if found is None else found

    def get(self, operation: Element) -> list[Element]:
        tops = _tops(operation)
        return [_data(state.with_state(self.device, printed(self.device.running, tops), tops), operation)]

    def get_config(self, operation: Element) -> list[Element]:
        return [
            _data(
                printed(self.device.datastore(_datastore(operation, "source")), _tops(operation)), operation
            )
        ]

    def edit_config(self, operation: Element) -> None:
        target = _datastore(operation, "target")
        self._need_free(target)
        if target == "startup" or (target == "running" and "writable-running" not in self._offered):
            raise RpcError(
                "operation-not-supported",
                f"{target} cannot be edited",
                kind="protocol",
                info=("bad-element", target),
            )
        config = operation.find(base("config"))
        if config is None:
            raise RpcError(
                "missing-element", "there is no config", kind="protocol", info=("bad-element", "config")
            )
        # All of it or nothing: an edit is made on a copy.
        tree = self.device.datastore(target).copy()
        edit(tree, config, _text(operation, "default-operation") or "merge")
        if target == "running":
            self.device.run(tree)
        else:
            self.device.candidate = tree

    def copy_config(self, operation: Element) -> None:
        source, target = _datastore(operation, "source"), _datastore(operation, "target")
        self._need_free(target)
        if (source, target) == ("config", "startup") and "startup" in self._offered:
            config = operation.find(f"{base('source')}/{base('config')}")
            tree = empty()
            edit(tree, config, "merge")
            self.device.receive_startup(tree)
            return
        if (source, target) != ("running", "startup") or "startup" not in self._offered:
            raise RpcError(
                "operation-not-supported", f"{source} cannot be copied to {target}", kind="protocol"
            )
        self.device.save()

    def lock(self, operation: Element) -> None:
        """RFC 6241, section 7.5."""
        target = _datastore(operation, "target")
        self.device.datastore(target)
        holder = self.device.locks.get(target)
        if holder is not None:
            raise RpcError(
                "lock-denied",
                f"{holder.user} has the lock",
                kind="protocol",
                info=("session-id", str(holder.number)),
            )
        if target == "candidate" and self.device.candidate != self.device.running:
            raise RpcError(
                "lock-denied",
                "the candidate holds changes that are not committed",
                kind="protocol",
                info=("session-id", "0"),
            )
        pending = self.device.pending
        if target == "running" and pending is not None and pending.owner is not self:
            number = pending.owner.number if pending.owner is not None and not pending.owner.closed else 0
            raise RpcError(
                "lock-denied",
                "a commit waits to be confirmed",
                kind="protocol",
                info=("session-id", str(number)),
            )
        self.device.locks[target] = self

    def unlock(self, operation: Element) -> None:
        target = _datastore(operation, "target")
        if self.device.locks.get(target) is not self:
            raise RpcError("operation-failed", "this session has no such lock", kind="protocol")
        del self.device.locks[target]
        if target == "candidate":
            self.device.candidate = self.device.running.copy()

    def _need_free(self, target: str) -> None:
        holder = self.device.locks.get(target)
        if holder not in (None, self):
            number = str(holder.number) if holder is not None else "0"
            raise RpcError(
                "in-use", f"another session has locked {target}", kind="protocol", info=("session-id", number)
            )

    def commit(self, operation: Element) -> None:
        if "candidate" not in self._offered:
            raise RpcError("operation-not-supported", "there is no candidate", kind="protocol")
        self._need_free("running")
        self._need_free("candidate")
        confirmed = operation.find(base("confirmed")) is not None
        persist, persist_id = _text(operation, "persist"), _text(operation, "persist-id")
        if (confirmed or persist or persist_id) and "confirmed-commit" not in self._offered:
            raise RpcError(
                "unknown-element",
                "confirmed is not known",
                kind="protocol",
                info=("bad-element", "confirmed"),
            )
        seconds = _seconds(_text(operation, "confirm-timeout") or "600") if confirmed else None
        self.device.commit(self, seconds, persist if confirmed else None, persist_id)

    def cancel_commit(self, operation: Element) -> None:
        self.device.cancel(self, _text(operation, "persist-id"))

    def discard_changes(self, operation: Element) -> None:
        self._need_free("candidate")
        self.device.candidate = self.device.running.copy()

    def validate(self, operation: Element) -> None:
        self.device.check(self.device.datastore(_datastore(operation, "source")))

    def close_session(self, operation: Element) -> None:
        self.end()

    def kill_session(self, operation: Element) -> None:
        """RFC 6241, section 7.9."""
        number = _text(operation, "session-id")
        other = next((one for one in self.device.services if str(one.number) == number), None)
        if other is None or other is self:
            raise RpcError(
                "invalid-value",
                f"there is no other session {number}",
                kind="protocol",
                info=("bad-element", "session-id"),
            )
        other.end()

    def get_schema(self, operation: Element) -> list[Element]:
        name = operation.findtext(f"{{{MONITORING}}}identifier") or ""
        text = text_of(name, operation.findtext(f"{{{MONITORING}}}version"))
        if text is None:
            raise RpcError("invalid-value", f"there is no schema {name}")
        element = etree.Element(f"{{{MONITORING}}}data", nsmap={None: MONITORING})
        element.text = text
        return [element]

    def ping(self, operation: Element) -> list[Element]:
        return self._probed(operation, probes.ping_lines)

    def trace(self, operation: Element) -> list[Element]:
        return self._probed(operation, probes.trace_lines)

    def _probed(self, operation: Element, probe: Callable[[Any, str, str], Any]) -> list[Element]:
        namespace = NAMESPACES["roundel-tools"]
        words = operation.findtext(f"{{{namespace}}}destination") or ""
        source = operation.findtext(f"{{{namespace}}}source")
        try:
            lines = list(
                probe(self.device.state, self.device.name, f"{words} from {source}" if source else words)
            )
        except ValueError as wrong:
            raise RpcError("invalid-value", str(wrong)) from None
        made = []
        for line in lines:
            element = etree.Element(f"{{{namespace}}}line", nsmap={None: namespace})
            element.text = line
            made.append(element)
        return made


def _datastore(operation: Element, role: str) -> str:
    found = operation.find(base(role))
    if found is None or len(found) != 1:
        raise RpcError("missing-element", f"there is no {role}", kind="protocol", info=("bad-element", role))
    return str(etree.QName(found[0]).localname)


def _text(operation: Element, name: str) -> str | None:
    found = operation.findtext(base(name))
    return found.strip() if found is not None else None


def _seconds(text: str) -> float:
    if not re.fullmatch("[1-9][0-9]{0,5}", text) or int(text) > LONGEST_TIMER_S:
        raise RpcError(
            "invalid-value",
            f'"{text}" is no number of seconds',
            kind="protocol",
            info=("bad-element", "confirm-timeout"),
        )
    return float(text)


def _tops(operation: Element) -> set[str] | None:
    """The names at the top of a subtree filter; None without a filter, or with one without names."""
    requested = operation.find(base("filter"))
    return None if requested is None else {one.tag for one in requested}


def _data(elements: list[Element], operation: Element) -> Element:
    data = etree.Element(base("data"), nsmap={None: BASE})
    requested = operation.find(base("filter"))
    data.extend(elements if requested is None else filtered(elements, requested))
    return data


def _error(wrong: RpcError) -> Element:
    error = etree.Element(base("rpc-error"), nsmap={None: BASE})
    for name, text in (("error-type", wrong.kind), ("error-tag", wrong.tag), ("error-severity", "error")):
        etree.SubElement(error, base(name)).text = text
    if wrong.path:
        prefixes = {
            prefix: NAMESPACES[module]
            for module, prefix in state.PREFIXES.items()
            if f"{prefix}:" in wrong.path
        }
        etree.SubElement(error, base("error-path"), nsmap=prefixes).text = wrong.path
    message = etree.SubElement(error, base("error-message"))
    message.set("{http://www.w3.org/XML/1998/namespace}lang", "en")
    message.text = wrong.message
    if wrong.info is not None:
        info = etree.SubElement(error, base("error-info"))
        etree.SubElement(info, base(wrong.info[0])).text = wrong.info[1]
    return error


_TOOLS = NAMESPACES["roundel-tools"]
OPERATIONS: Mapping[str, Callable[[Service, Element], list[Element] | None]] = {
    base("get"): Service.get,
    base("get-config"): Service.get_config,
    base("edit-config"): Service.edit_config,
    base("copy-config"): Service.copy_config,
    base("lock"): Service.lock,
    base("unlock"): Service.unlock,
    base("commit"): Service.commit,
    base("cancel-commit"): Service.cancel_commit,
    base("discard-changes"): Service.discard_changes,
    base("validate"): Service.validate,
    base("close-session"): Service.close_session,
    base("kill-session"): Service.kill_session,
    f"{{{MONITORING}}}get-schema": Service.get_schema,
    f"{{{_TOOLS}}}ping": Service.ping,
    f"{{{_TOOLS}}}trace": Service.trace,
}
