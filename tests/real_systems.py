"""Two kinds of systems as small devices in memory: a routing suite with its shell, and a routing daemon whose configuration is one file.

They share no code with the tool. Each has a subclass for every way in which it does not do what it says, and is asked for the truth afterwards.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
from collections.abc import Sequence
from typing import Any

from odd_servers import Petrel, Refuses

# --- a routing suite with a shell ---------------------------------------------------------------------------------------


class RoutingShell:
    """It edits what runs, line by line. `running` are top lines with those below them; the operating system has the address of `e0`."""

    def __init__(self, text: str) -> None:
        self.running: dict[str, list[str]] = {}
        for line in text.splitlines():
            if not line.startswith(" "):
                self.running[line] = []
            else:
                self.running[next(reversed(self.running))].append(line.strip())
        self.stored = self.text()
        self.typed: list[str] = []
        # At this line (from 1) the session ends, or the device says nothing any more.
        self.drop_at, self.hang_at = 0, 0

    def comes_in(self, *, second: bool) -> bool:
        return True

    async def shell(self, process: Any) -> None:
        """One session: `process` has stdin with lines, and stdout."""
        at: list[str] | None = None
        process.stdout.write("quay ~> ")
        with contextlib.suppress(OSError):
            async for raw in process.stdin:
                line = raw.rstrip("\r\n")
                self.typed.append(line)
                if len(self.typed) == self.drop_at:
                    process.channel.get_connection().abort()
                    return
                if len(self.typed) == self.hang_at:
                    await asyncio.sleep(3600)
                if line == "bye":
                    break
                try:
                    told, at = self.answer(line, at)
                except Refuses as refused:
                    told = f"? {refused}\n"
                prompt = "quay ~> " if at is None else "quay (alter) ~> "
                process.stdout.write(f"{line}\r\n{told}{prompt}".replace("\n", "\r\n"))
        process.exit(0)

    def answer(self, line: str, at: list[str] | None) -> tuple[str, list[str] | None]:
        """What it says, and what is being edited then: None, the top (empty), or a top line."""
        words = line.strip()
        told = {
            "": "",
            "tell configuration": f"Collecting the configuration...\n\nConfiguration in use:\n{self.text()}finis\n",
            "tell stored": self.stored,
            "tell interfaces": self.interfaces(),
            "tell routes": self.routes(),
        }
        if words in told:
            return told[words], at
        if words == "store":
            self.stored = self.text()
            return "", at
        if words == "alter":
            return "", []
        if words == "done":
            return "", None
        if at is None:
            raise Refuses(f"nothing is known of '{words}'")
        return "", self.edit(words, at)

    def text(self) -> str:
        parts = ["!\n"]
        for top, below in self.running.items():
            parts += [
                f"{top}\n",
                *(f"\t{line}\n" if top.startswith("interface") else f" {line}\n" for line in below),
                "!\n",
            ]
        return "".join(parts)

    def interfaces(self) -> str:
        rows = [("interface", "link", "addresses"), ("e0", "up", "127.0.0.1/8")]
        for top, below in self.running.items():
            if top.startswith("interface ") and top != "interface e0":
                addresses = [line.split()[1] for line in below if line.startswith("address ")]
                rows.append(
                    (top.split()[1], "down" if "closed" in below else "up", ",".join(addresses) or "-")
                )
        return "".join(f"{name:12}{link:8}{addresses}\n" for name, link, addresses in rows)

    def routes(self) -> str:
        rows = ["to              from     via", "127.0.0.0/8     kernel   -"]
        rows += [
            f"{to:16}static   {via}"
            for _, to, _, via in (top.split() for top in self.running if top.startswith("route "))
        ]
        return "".join(f"{row}\n" for row in rows)

    def edit(self, words: str, at: list[str]) -> list[str]:
        is_removal = words.startswith("not ")
        words = words.removeprefix("not ")
        kind = words.split()[0]
        if kind in ("hostname", "interface", "speaker", "route"):
            if is_removal:
                self.remove(words)
                return []
            if kind == "speaker" and any(top.startswith("speaker ") and top != words for top in self.running):
                raise Refuses("there is a speaker already")
            for other in [top for top in self.running if kind == "hostname" and top.startswith("hostname ")]:
                del self.running[other]
            self.running.setdefault(words, [])
            return [words]
        if not at:
            raise Refuses(f"nothing is known of '{words}'")
        below = self.running[at[0]]
        if is_removal:
            self.remove_below(below, words)
            return at
        single = re.match(r"note |peer \S+ (?:as|note|word) ", words)
        if single:
            below[:] = [line for line in below if not line.startswith(single[0])]
        if words not in below:
            below.append(words)
        return at

    def remove(self, words: str) -> None:
        gone = [top for top in self.running if top == words or top.startswith(f"{words} ")]
        if not gone:
            raise Refuses(f"there is no {words}")
        for top in gone:
            del self.running[top]

    def remove_below(self, below: list[str], words: str) -> None:
        gone = [line for line in below if line == words or line.startswith(f"{words} ")]
        if not gone:
            raise Refuses(f"there is no {words}")
        for line in gone:
            below.remove(line)

    def truth(self) -> dict[str, set[str]]:
        return {top: set(below) for top, below in self.running.items()}


class KeepsWhatIsRemoved(RoutingShell):
    """It takes the removal of a route or a note, and does nothing."""

    def remove(self, words: str) -> None:
        if not words.startswith("route "):
            super().remove(words)

    def remove_below(self, below: list[str], words: str) -> None:
        if not words.startswith("note"):
            super().remove_below(below, words)


class StoresNothing(RoutingShell):
    """It takes the command to save, and would start with what it had."""

    def answer(self, line: str, at: list[str] | None) -> tuple[str, list[str] | None]:
        return ("", at) if line.strip() == "store" else super().answer(line, at)


# --- a routing daemon with one file -------------------------------------------------------------------------------------


class CancelIgnored(Petrel):
    """It takes the cancel and does nothing; its timer runs on."""

    def answer(self, words: Sequence[str]) -> str | None:
        return "" if list(words) == ["petrel", "back"] else None


class CancelEndsTimer(Petrel):
    """It takes the cancel, ends its timer, and goes on with the new file."""

    def answer(self, words: Sequence[str]) -> str | None:
        if list(words) != ["petrel", "back"]:
            return None
        self._stop()
        return ""


class ConfirmIgnored(Petrel):
    """It takes the confirmation, and its timer runs on."""

    def answer(self, words: Sequence[str]) -> str | None:
        return "" if list(words) == ["petrel", "keep"] else None


class LoadIgnored(Petrel):
    """It takes the new file and goes on with the former one."""

    def answer(self, words: Sequence[str]) -> str | None:
        return "" if list(words[:2]) == ["petrel", "load"] else None


class HalfWritten(Petrel):
    """Of a file that is put there, the last third is missing."""

    def put(self, path: str, text: str) -> None:
        super().put(path, text[: 2 * len(text) // 3])


class ReplacesItsFile(Petrel):
    """With the confirmation it writes its file anew, without a comment, and in an order of its own."""

    def answer(self, words: Sequence[str]) -> str | None:
        if list(words) == ["petrel", "keep"]:
            plain = re.sub(r"#[^\n]*", "", self.running)
            self.files["/etc/petrel.conf"] = re.sub(r"\n\s*\n", "\n", plain)
        return None


class OneShot:
    """A connection to a petrel, as the tool sees it: each command is run by itself. `drop_at` ends it at that command (from 1)."""

    addresses = ("127.0.0.1", "127.0.0.1")

    def __init__(self, device: Petrel) -> None:
        self._device = device

    async def run(self, command: str) -> _Command:
        return _Command(*self._device.do(command))

    async def close(self) -> None:
        return


class _Command:
    def __init__(self, out: str, complaints: str, status: int) -> None:
        self.status, self.complaints = status, complaints
        self._parts = [out + complaints, ""]

    async def read(self) -> str:
        return self._parts.pop(0)

    def abandon(self) -> None:
        return
