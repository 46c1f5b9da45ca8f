"""Two devices that nobody ever built, as small command lines: one is told paths and has a candidate, one lists braces and has no way back.

They share no code with the tool. Each holds its configuration as nested dictionaries of words, and is asked for the truth afterwards.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import Sequence
from typing import Any, ClassVar

PASSWORD = "reed-and-sedge"
Tree = dict[str, Any]


class Told:
    """A device that answers each line and shows its prompt again."""

    def respond(self, line: str) -> str:
        return self.answer(line) + self.prompt()

    def answer(self, line: str) -> str:
        raise NotImplementedError

    def prompt(self) -> str:
        raise NotImplementedError


class Refuses(Exception):
    """The device does not take a line."""


class Eider(Told):
    """Paths: `set`, `delete` and `place` change a candidate; `commit within SECONDS` has to be followed by `keep`."""

    SINGLE = frozenset(
        ("contact", "key", "name", "description", "enabled", "mtu", "access-vlan", "limit", "odd")
    )

    def __init__(self, lines: Sequence[str]) -> None:
        self.running: list[str] = []
        for line in lines:
            self._set(self.running, line)
        self.startup = list(self.running)
        self.candidate: list[str] | None = None
        self.before: list[str] | None = None
        self.timer: asyncio.TimerHandle | None = None
        self.typed: list[str] = []
        self.refuse = ""

    def greeting(self) -> str:
        return "eider\n[quay] "

    def prompt(self) -> str:
        return "[quay] " if self.candidate is None else "[quay *] "

    def answer(self, line: str) -> str:
        self.typed.append(line)
        try:
            if self.refuse and self.refuse in line:
                raise Refuses("not today")
            return self._answer(line)
        except Refuses as refused:
            return f"no: {refused}\n"

    def _answer(self, line: str) -> str:
        lists = {"list running": self.running, "list startup": self.startup}
        if not line:
            return ""
        if line in lists:
            return "".join(f"{one}\n" for one in lists[line])
        if line == "list pending":
            return "waits: 7 s\n" if self.timer else "nothing\n"
        word, _, rest = line.partition(" ")
        if word in ("set", "delete", "place"):
            if self.candidate is None:
                raise Refuses("nothing is open")
            getattr(self, f"_{word}")(self.candidate, rest)
            return ""
        return self._session(line)

    def _session(self, line: str) -> str:
        if line == "open":
            self.candidate = list(self.running)
        elif line == "shut":
            self.candidate = None
        elif line == "forget":
            self.candidate = list(self.running)
        elif line == "check":
            self._check(self.candidate or [])
        elif line.startswith("commit within "):
            self._check(self.candidate or [])
            self.before, self.running = list(self.running), list(self.candidate or [])
            self.timer = asyncio.get_running_loop().call_later(int(line.split()[-1]), self._undo)
        elif line == "keep" and self.timer:
            self.timer.cancel()
            self.timer = self.before = None
        elif line == "undo" and self.timer:
            self._undo()
        elif line == "store":
            self.startup = list(self.running)
        else:
            raise Refuses(f"what is '{line}'?")
        return ""

    def _undo(self) -> None:
        if self.timer and self.before is not None:
            self.timer.cancel()
            self.running, self.timer, self.before = self.before, None, None

    @staticmethod
    def _check(lines: list[str]) -> None:
        vlans = {found[1] for line in lines if (found := re.match(r"/vlans/vlan\[id=(\d+)\]", line))}
        for line in lines:
            used = re.search(r"/access-vlan = (\d+)$", line)
            if used and used[1] not in vlans:
                raise Refuses(f"there is no vlan {used[1]}")

    def _set(self, lines: list[str], line: str) -> None:
        path, sign, _ = line.partition(" = ")
        if not line.startswith("/") or not re.fullmatch(r"(/[a-z-]+(\[[a-z]+=[^\]]+\])*)+", path):
            raise Refuses("that is no path")
        # An entry stays when the last of its leaves goes.
        around = [path[: m.end()] for m in re.finditer(r"(\]|/guard)(?=/|$)", path)]
        lines += [one for one in around if one not in lines and one != line]
        if line in lines:
            return
        if sign and path.rpartition("/")[2] in self.SINGLE:
            for at, other in enumerate(lines):
                if other.startswith(f"{path} = "):
                    lines[at] = line
                    return
        lines.append(line)

    def _delete(self, lines: list[str], line: str) -> None:
        gone = [one for one in lines if one == line or one.startswith((f"{line}/", f"{line}[", f"{line} = "))]
        if not gone:
            raise Refuses("there is nothing of that")
        lines[:] = [one for one in lines if one not in gone]

    def _place(self, lines: list[str], line: str) -> None:
        statement, last, other = line.removesuffix(" last"), line.endswith(" last"), ""
        if not last:
            statement, _, other = line.partition(" before ")
        if statement not in lines or (other and other not in lines):
            raise Refuses("there is nothing of that")
        lines.remove(statement)
        lines.insert(len(lines) if last else lines.index(other), statement)


class Dotterel(Told):
    """Braces: `have` and `lose` take the words of a whole path; a line takes effect at once, and stays."""

    # How many words behind a name belong to it; what stands below; whether another value replaces the first.
    SCHEMA: ClassVar[Tree] = {
        "name": (1, {}, True),
        "watch": (1, {}, True),
        "resolver": (0, {"server": (1, {}, False)}, True),
        "port": (
            1,
            {
                "text": (1, {}, True),
                "size": (1, {}, True),
                "address": (1, {}, False),
                "odd": (0, {"thing": (1, {}, True)}, True),
            },
            False,
        ),
        "peer": (1, {"as": (1, {}, True), "via": (1, {}, True)}, False),
        "list": (1, {"rule": (2, {}, False)}, False),
    }

    def __init__(self, *lines: str) -> None:
        self.tree: Tree = {}
        self.typed: list[str] = []
        self.refuse = ""
        for line in lines:
            self._have(line)

    def greeting(self) -> str:
        return "dotterel at your service" + self.prompt()

    def prompt(self) -> str:
        return "\n--- quay ---\n> "

    def answer(self, line: str) -> str:
        self.typed.append(line)
        try:
            if self.refuse and self.refuse in line:
                raise Refuses("not today")
            if line == "tell everything":
                return self.text()
            if line.startswith("have "):
                self._have(line[5:])
            elif line.startswith("lose "):
                self._lose(line[5:])
            elif line:
                raise Refuses(f"do '{line}'")
        except Refuses as refused:
            return f"cannot: {refused}"
        return ""

    def _levels(self, line: str) -> list[tuple[str, tuple[str, ...], bool]]:
        words = re.findall(r'"(?:[^"\\]|\\.)*"|\S+', line)
        levels: list[tuple[str, tuple[str, ...], bool]] = []
        below = self.SCHEMA
        while words:
            if words[0] not in below:
                raise Refuses(f"understand '{words[0]}'")
            number, inner, single = below[words[0]]
            if words[0] == "rule":
                number = len(words) - 1
            levels.append((words[0], tuple(words[1 : 1 + number]), single))
            words, below = words[1 + number :], inner
        return levels

    def _have(self, line: str) -> None:
        tree = self.tree
        for name, values, single in self._levels(line):
            if name == "rule":
                for other in [key for key in tree if key[0] == name and key[1][:1] == values[:1]]:
                    del tree[other]
            if single:
                for other in [key for key in tree if key[0] == name and key[1] != values]:
                    del tree[other]
            tree = tree.setdefault((name, values), {})

    def _lose(self, line: str) -> None:
        tree = self.tree
        levels = self._levels(line)
        for name, values, _ in levels[:-1]:
            tree = tree.get((name, values), {})
        name, values, _ = levels[-1]
        gone = [key for key in tree if key[0] == name and key[1][: len(values)] == values]
        if not gone:
            raise Refuses("lose what is not there")
        for key in gone:
            del tree[key]

    def text(self) -> str:
        return "".join(self._text(self.tree, 0))

    def _text(self, tree: Tree, depth: int) -> list[str]:
        made = []
        for (name, values), below in tree.items():
            if name == "peer":
                made += [f"{'  ' * depth}{' '.join((name, *values, inner, *v))};\n" for (inner, v) in below]
                continue
            head = "  " * depth + " ".join((name, *values))
            made += (
                [f"{head} {{\n", *self._text(below, depth + 1), "  " * depth + "}\n"]
                if below
                else [f"{head};\n"]
            )
        return made


class Curious(Dotterel):
    """A dotterel that wants a key pressed before it shows its prompt, asks before it loses anything, and warns of what it did."""

    def __init__(self, *lines: str) -> None:
        super().__init__(*lines)
        self.waiting: str | None = "greeting"
        self.answers: list[str] = []

    def greeting(self) -> str:
        self.waiting = "greeting"
        return "dotterel at your service\n-- a key to go on --"

    def respond(self, line: str) -> str:
        if self.waiting is not None:
            asked, self.waiting = self.waiting, None
            self.answers.append(line)
            if asked == "greeting":
                return self.prompt()
            return (self.answer(asked) if line == "certainly" else "cannot: be bothered then") + self.prompt()
        if line.startswith("lose "):
            self.waiting = line
            return "this cannot be undone; lose it? "
        if line.startswith("have port"):
            return self.answer(line) + "cannot: vouch for that cable, but so be it" + self.prompt()
        if line.startswith("have name"):
            return "that is taken" + self.prompt()
        return super().respond(line)


class Terraced(Dotterel):
    """A dotterel with a level to look from and two to change things at, one above the other; each has a prompt of its own."""

    LEVELS = ("look", "alter", "deeper")

    def __init__(self, *lines: str) -> None:
        super().__init__(*lines)
        self.level = 0

    def prompt(self) -> str:
        return f"\n--- quay ---\n{self.LEVELS[self.level]}> "

    def answer(self, line: str) -> str:
        if line in self.LEVELS[1:] and self.LEVELS.index(line) == self.level + 1:
            self.level += 1
            return ""
        if line == "out" and self.level:
            self.level -= 1
            return ""
        if line == "tell everything" and self.level:
            return "cannot: look from up here"
        if line.startswith(("have ", "lose ")) and self.level != 2:
            return "cannot: reach that from down here"
        return super().answer(line)


Device = Eider | Dotterel
