"""cowl's command line. Words cannot be abbreviated; only `commit` applies the candidate."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from oastsim.cowl import listings
from oastsim.cowl.schema import SCHEMA
from oastsim.model import Tree, Wrong, steps_of
from oastsim.terminal import Terminal

if TYPE_CHECKING:
    from oastsim.cowl.device import Device

MODULE = "cowl"


class Shell(Terminal):
    """One session of `user` on `device`."""

    pager = "-- page {page}, space: more, x: enough --"
    turning = " "
    stopping = "x"

    def __init__(self, device: Device, user: str, height: int = 24) -> None:
        super().__init__(height)
        self.device = device
        self.user = user
        self.editing = False

    def greeting(self) -> str:
        return f"cowl {self.device.hostname}, simulated. 'help' lists the commands.\r\n{self.prompt()}"

    def ready(self) -> str:
        return f"{self.device.hostname} {'candidate ' if self.editing else ''}~ "

    def execute(self, typed: str) -> str:
        self.lines += 1
        try:
            answer = self._answer(typed.strip()) if typed.strip() else ""
        except Wrong as wrong:
            at = f"\n  at {wrong.path}" if wrong.path else ""
            answer = f"refused: {wrong.message}{at}\n"
        return "" if self.closed else self.shown(answer)

    def end(self) -> None:
        self.closed = True
        self._unlock()

    def _unlock(self) -> None:
        """With the lock goes what was not committed (RFC 6241, section 8.3.5.2)."""
        if self.device.locked_by is self:
            self.device.locked_by = None
            self.device.candidate = self.device.running.copy()

    # --- commands
    # -------------------------------------------------------------------------------------------------

    def _answer(self, typed: str) -> str:
        if self.device.fault.refuses(typed):
            raise Wrong("the system could not do this (cause 41)")
        if self.device.fault.ignores(typed):
            return ""
        for name, run, level in COMMANDS:
            if typed == name or typed.startswith(f"{name} "):
                if level != "anybody":
                    self._need_administrator()
                if level == "candidate" and not self.editing:
                    raise Wrong("open the candidate first")
                return run(self, typed[len(name) :].strip())
        raise Wrong(f"'{typed.split()[0]}' is not a command; 'help' lists them")

    def _need_administrator(self) -> None:
        user = self.device.user(self.user)
        if user is None or user.get("role", "viewer") != "administrator":
            raise Wrong("only an administrator may do this")

    def help_(self, _: str) -> str:
        return "".join(f"{name}\n" for name, _, _ in COMMANDS) + "".join(
            f"list {name} [as json]\n" for name in listings.LISTINGS
        )

    def list_(self, rest: str) -> str:
        what, as_json = (rest[:-8].strip(), True) if rest.endswith(" as json") else (rest, False)
        name, _, path = what.partition(" ")
        if name in ("running", "candidate", "startup"):
            return self._configuration(name, path.strip(), as_json=as_json)
        if what not in listings.LISTINGS:
            raise Wrong(f"there is no listing '{what}'; 'help' names them")
        found = listings.LISTINGS[what](self.device)
        return json.dumps(found.json(MODULE), indent=1) + "\n" if as_json else found.text()

    def _configuration(self, name: str, path: str, *, as_json: bool) -> str:
        tree: Tree = self.device.running if name == "running" else self.device.candidate
        if name == "startup":
            tree = Tree(SCHEMA)
            tree.load(self.device.startup)
        if as_json:
            return json.dumps(tree.json(MODULE), indent=1) + "\n"
        return "".join(f"{line}\n" for line in tree.lines(path))

    def pending(self, _: str) -> str:
        waits, pending = self.device.waits_s(), self.device.pending
        return (
            "nothing waits\n"
            if pending is None
            else f"commit of {pending.told} waits to be confirmed: {waits} s left\n"
        )

    def page(self, rest: str) -> str:
        if rest != "off" and not re.fullmatch("[1-9][0-9]{0,2}", rest):
            raise Wrong("say off, or a number of lines")
        self.page_length = 0 if rest == "off" else int(rest)
        return ""

    def open_(self, _: str) -> str:
        self.editing = True
        return ""

    def close_(self, _: str) -> str:
        self.editing = False
        left = len(list(self._differences()))
        return f"the candidate keeps {left} lines that are not committed\n" if left else ""

    def lock(self, _: str) -> str:
        if self.device.locked_by not in (None, self):
            raise Wrong(f"{self.device.locked_by.user if self.device.locked_by else 'somebody'} has the lock")
        if self.device.locked_by is None and self.device.candidate != self.device.running:
            raise Wrong("the candidate holds changes that are not committed: commit or discard them")
        self.device.locked_by = self
        return ""

    def unlock(self, _: str) -> str:
        if self.device.locked_by is not self:
            raise Wrong("this session has no lock")
        self._unlock()
        return ""

    def _may_write(self) -> Tree:
        holder = self.device.locked_by
        if holder not in (None, self):
            raise Wrong(f"{holder.user if holder else 'somebody'} has the lock")
        return self.device.candidate

    def set_(self, rest: str) -> str:
        self._may_write().set(*steps_of(SCHEMA, rest))
        return ""

    def unset(self, rest: str) -> str:
        self._may_write().unset(*steps_of(SCHEMA, rest))
        return ""

    def place(self, rest: str) -> str:
        tree = self._may_write()
        if rest.endswith(" last"):
            tree.place(*steps_of(SCHEMA, rest[:-5].strip()), None, None)
            return ""
        for at in [match.start() for match in re.finditer(" before /", rest)]:
            try:
                one, other = steps_of(SCHEMA, rest[:at].strip()), steps_of(SCHEMA, rest[at + 8 :].strip())
            except Wrong:
                continue
            tree.place(*one, *other)
            return ""
        raise Wrong("say before which, or last", rest)

    def _differences(self) -> Iterator[str]:
        old, new = list(self.device.running.lines()), list(self.device.candidate.lines())
        kept, made = set(new), set(old)
        yield from (f"- {line}" for line in old if line not in kept)
        yield from (f"+ {line}" for line in new if line not in made)

    def compare(self, _: str) -> str:
        return "".join(f"{line}\n" for line in self._differences())

    def validate(self, _: str) -> str:
        self.device.validate()
        return ""

    def commit(self, rest: str) -> str:
        self._may_write()
        timer = re.fullmatch(r"timer ([1-9][0-9]{0,4})(?: as ([\w.-]{1,64}))?", rest)
        if rest and timer is None:
            raise Wrong("say timer SECONDS, timer SECONDS as NAME, or nothing")
        self.device.commit(self.user, int(timer[1]) if timer else None, timer[2] if timer else None)
        return f"committed; undone in {timer[1]} s unless confirmed\n" if timer else "committed\n"

    def confirm(self, rest: str) -> str:
        self.device.confirm(_meant(rest))
        return "confirmed\n"

    def extend(self, rest: str) -> str:
        given = re.fullmatch(r"([1-9][0-9]{0,4})(?: as ([\w.-]{1,64}))?", rest)
        if given is None:
            raise Wrong("say SECONDS, or SECONDS as NAME")
        self.device.extend(int(given[1]), given[2])
        return f"undone in {given[1]} s unless confirmed\n"

    def cancel(self, rest: str) -> str:
        self.device.cancel(_meant(rest))
        return "undone\n"

    def discard(self, _: str) -> str:
        self._may_write()
        self.device.candidate = self.device.running.copy()
        return ""

    def save(self, _: str) -> str:
        self.device.save()
        return "saved\n"

    def ping(self, rest: str) -> str:
        return listings.ping(self.device, rest)

    def trace(self, rest: str) -> str:
        return listings.trace(self.device, rest)

    def leave(self, _: str) -> str:
        self.end()
        return ""


def _meant(rest: str) -> str | None:
    """The commit that is meant, where one says so."""
    given = re.fullmatch(r"(?:as ([\w.-]{1,64}))?", rest)
    if given is None:
        raise Wrong("say nothing, or 'as NAME'")
    return given[1]


COMMANDS: tuple[tuple[str, Callable[[Shell, str], str], str], ...] = (
    ("help", Shell.help_, "anybody"),
    ("list pending", Shell.pending, "anybody"),
    ("list", Shell.list_, "anybody"),
    ("page", Shell.page, "anybody"),
    ("ping", Shell.ping, "anybody"),
    ("trace", Shell.trace, "anybody"),
    ("leave", Shell.leave, "anybody"),
    ("open candidate", Shell.open_, "administrator"),
    ("close candidate", Shell.close_, "candidate"),
    ("lock candidate", Shell.lock, "administrator"),
    ("unlock candidate", Shell.unlock, "administrator"),
    ("set", Shell.set_, "candidate"),
    ("unset", Shell.unset, "candidate"),
    ("place", Shell.place, "candidate"),
    ("compare", Shell.compare, "candidate"),
    ("validate", Shell.validate, "candidate"),
    ("commit", Shell.commit, "candidate"),
    ("discard", Shell.discard, "candidate"),
    ("confirm", Shell.confirm, "administrator"),
    ("extend", Shell.extend, "administrator"),
    ("cancel", Shell.cancel, "administrator"),
    ("save", Shell.save, "administrator"),
)
