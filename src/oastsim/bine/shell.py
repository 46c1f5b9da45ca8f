"""bine's command line.

A session is at one of three levels. `view` reads; `raise` and the privilege password lead to `full`, which
may also save and use the revert timer; `edit` changes the configuration, one session at a time.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from oastsim import probes
from oastsim.bine import listings
from oastsim.bine.configuration import Item, Refused
from oastsim.state import NetworkState
from oastsim.terminal import Terminal

if TYPE_CHECKING:
    from oastsim.bine.device import Device

Command = tuple[str, str, Callable[["Shell", str], str]]


class Shell(Terminal):
    """One session of `user` on `device`."""

    pager = "[ page {page}: Enter for more, q to stop ]"

    def __init__(self, device: Device, user: str, height: int = 24) -> None:
        super().__init__(height)
        self.device = device
        self.user = user
        self.level = "view"
        self._stack: list[tuple[int, Item]] = []
        # A text that is being received: the line that ends it, and what has come of it.
        self._receiving: tuple[str, list[str]] | None = None

    def greeting(self) -> str:
        return f"\r\nbine {self.device.hostname}, simulated. Type ? for the commands.\r\n\r\n{self.prompt()}"

    def ready(self) -> str:
        if self.asking_password:
            return "Privilege password: "
        if self._receiving is not None:
            return ""
        return f"{self.device.hostname} {self.level}| "

    def execute(self, typed: str) -> str:
        if self.asking_password:
            self.asking_password = False
            if self.device.privilege_fits(typed):
                self.level = "full"
                return self.prompt()
            return "error: the privilege password is wrong\r\n" + self.prompt()
        self.lines += 1
        if self._receiving is not None:
            return self._received(typed, *self._receiving)
        if not typed.strip():
            return self.prompt()
        try:
            answer = self._edit(typed) if self.level == "edit" else self._command(typed)
        except Refused as refused:
            answer = f"{' ' * (len(self.prompt()) + refused.column)}^\nerror: {refused.message}\n"
        return "" if self.closed else self.shown(answer)

    def _received(self, typed: str, end: str, lines: list[str]) -> str:
        if typed.strip() != end:
            lines.append(typed)
            return ""
        self._receiving = None
        try:
            answer = f"startup received, {self.device.receive_startup(lines)} bytes\n"
        except Refused as refused:
            answer = f"error: {refused.message}\n"
        return self.shown(answer)

    # --- commands
    # -------------------------------------------------------------------------------------------------

    def _command(self, typed: str) -> str:
        self.device.settle()
        words = typed.split()
        found = [
            c for c in COMMANDS if _fits(words, c[1].split()) and (c[0] == "view" or self.level == "full")
        ]
        exact = [c for c in found if words[: len(c[1].split())] == c[1].split()]
        if self.device.fault.ignores(typed):
            return ""
        for _, name, run in exact or (found if len(found) == 1 else []):
            return run(self, " ".join(words[len(name.split()) :]))
        column = len(typed) - len(typed.lstrip())
        if found:
            raise Refused(f'"{words[0]}" could be {" or ".join(c[1] for c in found)}', column)
        if any(_fits(words, c[1].split()) for c in COMMANDS):
            raise Refused("this needs the full level: use raise", column)
        raise Refused(f'"{words[0]}" is not a command; type ? for the list', column)

    def help(self) -> str:
        if self.level == "edit":
            return (
                "statements of the configuration, remove STATEMENT, insert STATEMENT before STATEMENT | last,"
                " close\n"
            )
        return "".join(f"{name}\n" for level, name, _ in COMMANDS if level == "view" or self.level == "full")

    def _edit(self, typed: str) -> str:
        if typed.strip() == "close":
            self._release()
            self.device.settle()
            self.level = "full"
            self.device.keep()
            return ""
        self.device.enter(typed, self._stack)
        return ""

    def _release(self) -> None:
        self._stack = []
        if self.device.editor is self:
            self.device.editor = None

    def end(self) -> None:
        self.closed = True
        self._release()

    def leave(self, _: str) -> str:
        self.end()
        return ""

    def raise_level(self, _: str) -> str:
        if self.level == "view":
            self.asking_password = True
        return ""

    def lower(self, _: str) -> str:
        self.level = "view"
        return ""

    def edit(self, _: str) -> str:
        user = self.device.user(self.user)
        if user is None or user.value("role") != "administrator":
            raise Refused("only an administrator may edit", 0)
        if self.device.editor not in (None, self):
            raise Refused(f"{getattr(self.device.editor, 'user', 'someone')} is editing", 0)
        self.device.editor = self
        self.level = "edit"
        return ""

    def page(self, rest: str) -> str:
        if not re.fullmatch("[0-9]{1,4}", rest) or int(rest) > 1000:
            raise Refused("a number of lines is needed, 0 for no pages", 0)
        self.page_length = int(rest)
        return ""

    def running(self, _: str) -> str:
        return self.device.running.text()

    def startup(self, _: str) -> str:
        return self.device.startup

    def interfaces(self, _: str) -> str:
        return listings.interfaces(self.device.state, self.device.name)

    def neighbors(self, _: str) -> str:
        return listings.ospf_neighbors(self.device.state, self.device.name)

    def routes(self, _: str) -> str:
        return listings.route_table(self.device.state, self.device.name)

    def lldp(self, _: str) -> str:
        return listings.lldp_table(self.device.state, self.device.name)

    def sessions(self, _: str) -> str:
        return listings.bgp_neighbors(self.device.state, self.device.name)

    def clocks(self, _: str) -> str:
        return listings.ntp_servers(self.device.state, self.device.name)

    def ports(self, _: str) -> str:
        return listings.ports(self.device)

    def system(self, _: str) -> str:
        return listings.system(self.device)

    def stations(self, _: str) -> str:
        return listings.stations(self.device)

    def users(self, _: str) -> str:
        return listings.users(self.device)

    def environment(self, _: str) -> str:
        return listings.environment(self.device)

    def ping(self, rest: str) -> str:
        return self._said(probes.ping_lines, rest)

    def trace(self, rest: str) -> str:
        return self._said(probes.trace_lines, rest)

    def _said(self, probe: Callable[[NetworkState, str, str], Iterator[str]], words: str) -> str:
        try:
            return "".join(f"{line}\n" for line in probe(self.device.state, self.device.name, words))
        except ValueError as wrong:
            raise Refused(str(wrong), 0) from None

    def save(self, _: str) -> str:
        return f"startup saved, {self.device.save()} bytes\n"

    def receive_text(self, rest: str) -> str:
        if not re.fullmatch(r"[\w.-]{1,64}", rest):
            raise Refused("a word is needed: the line that ends the text", 0)
        self._receiving = rest, []
        return ""

    def arm(self, rest: str) -> str:
        given = re.fullmatch(r"([0-9]{1,5})(?: as ([\w.-]{1,64}))?", rest)
        if given is None or int(given[1]) == 0:
            raise Refused("a number of seconds is needed, and behind it 'as NAME' if it is to have one", 0)
        self.device.arm(int(given[1]), self.user, given[2])
        return f"armed: going back in {given[1]} s unless confirmed\n"

    def _meant(self, rest: str) -> None:
        """The timer of this name alone, if one is given."""
        given = re.fullmatch(r"(?:as ([\w.-]{1,64}))?", rest)
        if given is None:
            raise Refused("say nothing, or 'as NAME'", 0)
        self.device.need_name(given[1])

    def confirm(self, rest: str) -> str:
        self._meant(rest)
        if not self.device.confirm():
            raise Refused("the revert timer is not armed", 0)
        return "confirmed\n"

    def revert(self, rest: str) -> str:
        self._meant(rest)
        if not self.device.go_back():
            raise Refused("the revert timer is not armed", 0)
        return "gone back to the archived configuration\n"

    def extend(self, rest: str) -> str:
        given = re.fullmatch(r"([1-9][0-9]{0,4})(?: as ([\w.-]{1,64}))?", rest)
        if given is None:
            raise Refused("a number of seconds is needed, and behind it 'as NAME' if it has one", 0)
        self.device.extend(int(given[1]), given[2])
        return f"extended: {given[1]} s left\n"

    def timer(self, _: str) -> str:
        return f"armed {self.device.timer_told}\n" if self.device.timer is not None else "not armed\n"


def _fits(typed: list[str], name: list[str]) -> bool:
    return len(typed) >= len(name) and all(
        word.startswith(part) for part, word in zip(typed, name, strict=False)
    )


COMMANDS: tuple[Command, ...] = (
    ("view", "read running", Shell.running),
    ("view", "read startup", Shell.startup),
    ("view", "read interfaces", Shell.interfaces),
    ("view", "read ospf neighbors", Shell.neighbors),
    ("view", "read routes", Shell.routes),
    ("view", "read lldp neighbors", Shell.lldp),
    ("view", "read bgp neighbors", Shell.sessions),
    ("view", "read ntp servers", Shell.clocks),
    ("view", "read ports", Shell.ports),
    ("view", "read system", Shell.system),
    ("view", "read stations", Shell.stations),
    ("view", "read users", Shell.users),
    ("view", "read environment", Shell.environment),
    ("view", "ping", Shell.ping),
    ("view", "trace", Shell.trace),
    ("view", "session page-length", Shell.page),
    ("view", "raise", Shell.raise_level),
    ("view", "leave", Shell.leave),
    ("full", "lower", Shell.lower),
    ("full", "edit", Shell.edit),
    ("full", "save startup", Shell.save),
    ("full", "startup receive", Shell.receive_text),
    ("full", "revert-timer arm", Shell.arm),
    ("full", "revert-timer extend", Shell.extend),
    ("full", "revert-timer confirm", Shell.confirm),
    ("full", "revert-timer now", Shell.revert),
    ("full", "revert-timer state", Shell.timer),
)
