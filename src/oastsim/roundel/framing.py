"""How messages follow each other on a session (RFC 6242, section 4), as strict as real devices are."""

from __future__ import annotations

import re

END = b"]]>]]>"
_CHUNK = re.compile(rb"\n#([1-9][0-9]{0,9})\n")
LONGEST = 16_000_000


class Broken(Exception):
    """The input has invalid framing."""


class Framing:
    """Bytes in, messages out; `chunked` after hellos that both know base:1.1."""

    def __init__(self) -> None:
        self.chunked = False
        self._held = b""

    def feed(self, data: bytes) -> list[bytes]:
        self._held += data
        if len(self._held) > LONGEST:
            raise Broken
        found: list[bytes] = []
        # A hello may change the framing of what comes behind it, so they are taken one by one.
        while (message := self._chunks() if self.chunked else self._marked()) is not None:
            found.append(message)
            if not self.chunked:
                break
        return found

    def _marked(self) -> bytes | None:
        message, mark, rest = self._held.partition(END)
        if not mark:
            return None
        self._held = rest
        return message

    def _chunks(self) -> bytes | None:
        parts: list[bytes] = []
        at = 0
        while True:
            rest = self._held[at : at + 16]
            if rest.startswith(b"\n##\n") and parts:
                self._held = self._held[at + 4 :]
                return b"".join(parts)
            match = _CHUNK.match(rest)
            if match is None:
                if not re.fullmatch(rb"(\n(#([1-9][0-9]{0,9}|#)?)?)?", rest):
                    raise Broken
                return None
            end = at + match.end() + int(match[1])
            if len(self._held) < end:
                return None
            parts.append(self._held[at + match.end() : end])
            at = end

    def framed(self, message: bytes) -> bytes:
        """A message as it is sent, in chunks of no particular length."""
        if not self.chunked:
            return message + END
        size = max(1, len(message) // 3)
        parts = [message[at : at + size] for at in range(0, len(message), size)]
        return b"".join(b"\n#%d\n%s" % (len(part), part) for part in parts) + b"\n##\n"
