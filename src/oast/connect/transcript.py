"""What was really said in a session, for finding out afterwards. Secrets and whole configurations are not
written down."""

from __future__ import annotations

import logging
import traceback
from collections.abc import Callable
from pathlib import Path

from oast import __version__
from oast.files import write_whole
from oast.redaction import Masking

_log = logging.getLogger(__name__)

# Of what a device says without end, that much is written down.
MOST_LINES = 2_000
MOST_FRAMES = 40
LONGEST_LINE = 2_000
# So much more is looked through, as a secret may begin in what is written down and end behind it.
MARGIN = 10_000


def _cut(text: str) -> str:
    """The part of a long answer that may be written down."""
    if len(text) <= LONGEST_LINE + MARGIN:
        return text
    return "\n".join(line[: LONGEST_LINE + MARGIN] for line in text.split("\n", MOST_LINES)[:MOST_LINES])


class Transcript:
    """Lines sent (>) and answers (<) with the seconds since the start. `clock` gives seconds.

    `masking` knows the secrets of the session: nothing is written down that did not pass it. `device` is its
    name in the debug log.
    """

    def __init__(self, clock: Callable[[], float], device: str = "") -> None:
        self.masking = Masking()
        self._clock = clock
        self._start = clock()
        self._lines: list[str] = []
        self._device = device

    def sent(self, text: str) -> None:
        self._add(">", text)

    def received(self, text: str) -> None:
        masked = self.masking.hide(_cut(text))
        if len(masked) <= LONGEST_LINE and masked.replace("\n", "").isprintable():
            # Nearly every answer is short and harmless, and is written down as a whole.
            margin = f"{self._clock() - self._start:8.3f} < "
            self._lines.append(margin + masked.replace("\n", f"\n{margin}"))
            return
        for line in masked.split("\n")[:MOST_LINES]:
            self._put("<", line)

    def note(self, text: str, log: logging.Logger = _log) -> None:
        """Note something about the session itself, also in the debug log."""
        self._add("*", text)
        if log.isEnabledFor(logging.DEBUG):
            # As in the transcript: without secrets, and without what acts on a terminal.
            log.debug("%s: %s", self._device, self._lines[-1].partition(" * ")[2])

    def fault(self, error: BaseException) -> None:
        """Note where in the code an internal error happened; never its words or values, which could hold a
        secret."""
        self.note(f"internal error in Oast {__version__}: {type(error).__name__}")
        for entry in traceback.format_tb(error.__traceback__)[-MOST_FRAMES:]:
            for line in entry.rstrip().split("\n"):
                self.note(line)

    def _add(self, sign: str, text: str) -> None:
        self._put(sign, self.masking.hide(text[: LONGEST_LINE + MARGIN]))

    def _put(self, sign: str, masked: str) -> None:
        text = masked[:LONGEST_LINE]
        # Control characters from a device never reach the terminal of a reader.
        clean = (
            text
            if text.isprintable()
            else "".join(character if character.isprintable() else "?" for character in text)
        )
        self._lines.append(f"{self._clock() - self._start:8.3f} {sign} {clean}")

    def write(self, path: Path) -> None:
        """Write it down for the owner alone."""
        write_whole(path, "".join(f"{line}\n" for line in self._lines), mode=0o600, durable=False)
