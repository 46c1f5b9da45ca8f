"""What was really said in a session, for finding out afterwards. Secrets and whole configurations are not written down."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from oast.files import write_whole


class Transcript:
    """Lines sent (>) and answers (<) with the seconds since the start. `clock` gives seconds."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._start = clock()
        self._lines: list[str] = []

    def sent(self, text: str) -> None:
        self._add(">", text)

    def received(self, text: str) -> None:
        for line in text.splitlines():
            self._add("<", line)

    def note(self, text: str) -> None:
        """Something about the session itself."""
        self._add("*", text)

    def _add(self, sign: str, text: str) -> None:
        # A device's words never act on the terminal of whoever reads them.
        clean = text if text.isprintable() else "".join(character if character.isprintable() else "?" for character in text)
        self._lines.append(f"{self._clock() - self._start:8.3f} {sign} {clean}")

    def write(self, path: Path) -> None:
        """Write it down for the owner alone."""
        write_whole(path, "".join(f"{line}\n" for line in self._lines), mode=0o600, durable=False)
