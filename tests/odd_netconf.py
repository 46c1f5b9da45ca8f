"""A small NETCONF server (RFC 6241) for tests, with one subclass per way in which real servers misbehave. It shares no code with the tool.

Its data is one list of lamps: `<lamps xmlns="urn:example:beacon"><lamp><name/><colour/></lamp></lamps>`.
"""

from __future__ import annotations

import asyncio
import contextlib
from typing import Any

import asyncssh
from lxml import etree

USER, PASSWORD = "oast", "reed-and-sedge"
BASE, LAMPS = "urn:ietf:params:xml:ns:netconf:base:1.0", "urn:example:beacon"
CAPABILITY = "urn:ietf:params:netconf:capability:"
END = b"]]>]]>"
PLATFORM = """format = 2
[platform]
name = "beacon"
syntax = "xml"
transport = "netconf"
[modules]
beacon = { namespace = "urn:example:beacon", prefix = "b" }
[statements]
"lamps" = { module = "beacon", kind = "container" }
"lamps/lamp" = { kind = "list", takes = "name:text", keys = 1 }
"lamps/lamp/colour" = { kind = "leaf", takes = "text" }
[readings.lamps]
command = "/beacon:lamps"
elements = "beacon:lamp"
xpaths = { name = "beacon:name", colour = "beacon:colour" }
"""


async def _chunks(stdin: Any) -> bytes:
    """One message (RFC 6242, section 4.2)."""
    message = b""
    while True:
        await stdin.readuntil(b"\n#")
        size = (await stdin.readuntil(b"\n")).strip()
        if size == b"#":
            return message
        message += await stdin.readexactly(int(size))


class Refused(Exception):
    """An rpc-error with this tag."""


class Beacon:
    """One server: `running` and `candidate` map a lamp's name to its colour."""

    extension_confirms = False
    offers = ("candidate:1.0", "confirmed-commit:1.1", "validate:1.1", "rollback-on-error:1.0")

    def __init__(self, running: dict[str, str]) -> None:
        self.running = dict(running)
        self.candidate = dict(running)
        self.before: dict[str, str] | None = None
        self.persist: str | None = None
        # How often its timer was extended.
        self.extended = 0
        self.timer: asyncio.TimerHandle | None = None
        self.locks: dict[str, int] = {}
        self.asked: list[str] = []
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.sessions = 0

    async def listen(self) -> int:
        """Its port."""
        self.server = await asyncssh.create_server(
            _Login, "127.0.0.1", 0, server_host_keys=[self.key], process_factory=self._serve, encoding=None
        )
        return self.server.get_port()

    async def close(self) -> None:
        if self.timer is not None:
            self.timer.cancel()
        self.server.close()
        await self.server.wait_closed()

    @property
    def trusted(self) -> str:
        return " ".join(self.key.export_public_key().decode().split()[:2])

    async def _serve(self, process: Any) -> None:
        self.sessions += 1
        number = self.sessions
        capabilities = "".join(f"<capability>{CAPABILITY}{name}</capability>" for name in self.offers)
        base = "<capability>urn:ietf:params:netconf:base:1.0</capability><capability>urn:ietf:params:netconf:base:1.1</capability>"
        process.stdout.write(
            f'<hello xmlns="{BASE}"><capabilities>{base}{capabilities}</capabilities><session-id>{number}</session-id></hello>'.encode()
            + END
        )
        with contextlib.suppress(asyncssh.Error, OSError, asyncio.IncompleteReadError):
            await process.stdin.readuntil(END)
            while not process.channel.is_closing():
                rpc = etree.fromstring(await _chunks(process.stdin))
                reply = self._reply(number, rpc)
                await self.before_reply(process)
                process.stdout.write(b"\n#%d\n%b\n##\n" % (len(reply), reply))
                if rpc[0].tag == f"{{{BASE}}}close-session":
                    break
        self.locks = {name: holder for name, holder in self.locks.items() if holder != number}
        process.exit(0)

    def _reply(self, number: int, rpc: etree._Element) -> bytes:
        operation = rpc[0]
        name = etree.QName(operation).localname
        self.asked.append(name)
        try:
            inner = getattr(self, name.replace("-", "_"))(number, operation) or "<ok/>"
        except Refused as tag:
            inner = f"<rpc-error><error-type>protocol</error-type><error-tag>{tag}</error-tag><error-severity>error</error-severity></rpc-error>"
        return f'<rpc-reply xmlns="{BASE}"{self.message_id(rpc)}>{inner}</rpc-reply>'.encode()

    def message_id(self, rpc: etree._Element) -> str:
        return f' message-id="{rpc.get("message-id")}"'

    async def before_reply(self, process: Any) -> None:
        return

    # --- operations -------------------------------------------------------------------------------------------------------

    def _datastore(self, operation: etree._Element, role: str) -> str:
        return str(etree.QName(operation.find(f"{{{BASE}}}{role}")[0]).localname)

    def _data(self, lamps: dict[str, str]) -> str:
        inner = "".join(
            f"<lamp><name>{name}</name><colour>{colour}</colour></lamp>" for name, colour in lamps.items()
        )
        return f'<data><lamps xmlns="{LAMPS}">{inner}</lamps></data>' if inner else "<data/>"

    def get(self, number: int, operation: etree._Element) -> str:
        return self._data(self.running)

    def get_config(self, number: int, operation: etree._Element) -> str:
        return self._data(
            self.candidate if self._datastore(operation, "source") == "candidate" else self.running
        )

    def edit_config(self, number: int, operation: etree._Element) -> None:
        target = self.candidate if self._datastore(operation, "target") == "candidate" else self.running
        for lamp in operation.iter(f"{{{LAMPS}}}lamp"):
            name, colour = lamp.findtext(f"{{{LAMPS}}}name"), lamp.findtext(f"{{{LAMPS}}}colour")
            if lamp.get(f"{{{BASE}}}operation") in ("delete", "remove"):
                target.pop(name, None)
            elif colour is not None:
                target[name] = colour

    def lock(self, number: int, operation: etree._Element) -> None:
        target = self._datastore(operation, "target")
        if self.locks.get(target, number) != number or (
            target == "running" and self.timer is not None and self.owner != number
        ):
            raise Refused("lock-denied")
        if target == "candidate" and self.candidate != self.running:
            raise Refused("lock-denied")
        self.locks[target] = number

    def unlock(self, number: int, operation: etree._Element) -> None:
        self.locks.pop(self._datastore(operation, "target"), None)

    def validate(self, number: int, operation: etree._Element) -> None:
        return

    def commit(self, number: int, operation: etree._Element) -> None:
        persist_id = operation.findtext(f"{{{BASE}}}persist-id")
        if persist_id is not None:
            if self.timer is None or persist_id != self.persist:
                raise Refused("invalid-value")
            if operation.find(f"{{{BASE}}}confirmed") is not None and not self.extension_confirms:
                seconds = int(operation.findtext(f"{{{BASE}}}confirm-timeout"))
                self.timer.cancel()
                self.timer = asyncio.get_running_loop().call_later(seconds, self.roll_back)
                self.extended += 1
                return
            self.end_timer()
            return
        if operation.find(f"{{{BASE}}}confirmed") is not None:
            self.before, self.persist = dict(self.running), operation.findtext(f"{{{BASE}}}persist")
            seconds = int(operation.findtext(f"{{{BASE}}}confirm-timeout"))
            self.timer, self.owner = asyncio.get_running_loop().call_later(seconds, self.roll_back), number
        self.running = dict(self.candidate)

    def cancel_commit(self, number: int, operation: etree._Element) -> None:
        if self.timer is None:
            raise Refused("invalid-value")
        self.roll_back()

    def discard_changes(self, number: int, operation: etree._Element) -> None:
        self.candidate = dict(self.running)

    def close_session(self, number: int, operation: etree._Element) -> None:
        return

    def end_timer(self) -> None:
        if self.timer is not None:
            self.timer.cancel()
        self.timer = self.before = None

    def roll_back(self) -> None:
        self.running = dict(self.before or self.running)
        self.end_timer()


class WithoutId(Beacon):
    """It leaves the message-id out of its replies."""

    def message_id(self, rpc: etree._Element) -> str:
        return ""


class Notifies(Beacon):
    """It sends notifications without end in place of its replies, each with so many seconds after the one before."""

    pause_s = 0.05

    async def before_reply(self, process: Any) -> None:
        while not process.channel.is_closing():
            told = b'<notification xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"><eventTime>2026-12-01T00:00:00Z</eventTime></notification>'
            process.stdout.write(b"\n#%d\n%b\n##\n" % (len(told), told))
            await asyncio.sleep(self.pause_s)


class ExtensionConfirms(Beacon):
    """It takes a follow-up confirmed commit for the confirmation."""

    extension_confirms = True


class CancelIgnoredWhileLocked(Beacon):
    """While running is locked it answers ok to cancel-commit, rolls nothing back, and ends the timer."""

    def cancel_commit(self, number: int, operation: etree._Element) -> None:
        if "running" in self.locks:
            self.end_timer()
        else:
            super().cancel_commit(number, operation)


class CancelEndsTimer(Beacon):
    """Always so."""

    def cancel_commit(self, number: int, operation: etree._Element) -> None:
        self.end_timer()


class CancelDoesNothing(Beacon):
    """It answers ok to cancel-commit, and the timer runs on."""

    def cancel_commit(self, number: int, operation: etree._Element) -> None:
        return


class CancelRefused(Beacon):
    """It knows no cancel-commit, and the timer never goes off."""

    def cancel_commit(self, number: int, operation: etree._Element) -> None:
        self.end_timer()
        raise Refused("operation-not-supported")


class DiscardDoesNothing(Beacon):
    """It answers ok to discard-changes, and the candidate stays."""

    def discard_changes(self, number: int, operation: etree._Element) -> None:
        return


class _Login(asyncssh.SSHServer):
    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == (USER, PASSWORD)
