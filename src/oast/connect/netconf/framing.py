"""Where a message ends on a connection that carries nothing but bytes (RFC 6242, section 4)."""

from __future__ import annotations

from collections.abc import Iterator

END_OF_MESSAGE = b"]]>]]>"
"""RFC 6242, section 4.3: ends every message of a base:1.0 session, and the hello of every session."""

END_OF_CHUNKS = b"\n##\n"
# A chunk is at most 4294967295 bytes long (RFC 6242, section 4.2): ten digits.
_LONGEST_HEADER = len(b"\n#4294967295\n")
# For each element that a message may have.
MOST_ATTRIBUTES = 10
_MOST_IN_CHUNK = 4_294_967_295


class FramingError(ValueError):
    """Bytes that are no message; the session cannot go on (RFC 6242, section 4.2)."""


class TooManyElements(FramingError):
    """A message with more elements or attributes than are taken in."""


class Decoder:
    """Takes bytes in whatever pieces they come, and gives whole messages.

    It begins with the end-of-message framing, in which both hellos are sent; `chunked` changes to the other
    from the next message on (RFC 6242, section 4.1). No message may be longer than `at_most` bytes, or have
    more than about `elements` elements or ten times as many attributes.
    """

    def __init__(self, at_most: int, elements: int = 1_000_000_000) -> None:
        self._elements = elements
        self._opened = 0
        self._attributes = 0
        self.chunked = False
        self._at_most = at_most
        self._bytes = bytearray()
        self._message = bytearray()
        # Up to there the end of a message was looked for in vain; and how much of a chunk is still to come.
        self._searched = 0
        self._left = 0

    @property
    def waiting(self) -> bytes:
        """What has come of a message that is not whole."""
        return bytes(self._message + self._bytes)

    def feed(self, data: bytes) -> Iterator[bytes]:
        """The messages that are whole with `data`. Raises FramingError.

        `chunked` may be set between two messages: it holds for all bytes behind the first of them.
        """
        self._bytes += data
        self._count(data)
        while (message := self._chunked() if self.chunked else self._ended()) is not None:
            self._opened = self._attributes = 0
            yield message
        if len(self._message) + len(self._bytes) > self._at_most:
            raise FramingError(f"more than {self._at_most} bytes in one message")

    def _count(self, data: bytes) -> None:
        """Count what arrives before any of it is parsed. Raises FramingError."""
        # A mark that is split between two pieces counts for one more element.
        self._opened += data.count(b"<") - data.count(b"</")
        self._attributes += data.count(b'="') + data.count(b"='")
        for number, most, what in (
            (self._opened, self._elements, "elements"),
            (self._attributes, MOST_ATTRIBUTES * self._elements, "attributes"),
        ):
            if number > most:
                raise TooManyElements(f"more than {most} {what} in one message")

    @property
    def held(self) -> int:
        """How many bytes have come of a message that is not whole."""
        return len(self._message) + len(self._bytes)

    def _ended(self) -> bytes | None:
        """A message up to the end mark."""
        at = self._bytes.find(END_OF_MESSAGE, max(0, self._searched - len(END_OF_MESSAGE)))
        if at < 0:
            self._searched = len(self._bytes)
            return None
        message = bytes(self._bytes[:at])
        del self._bytes[: at + len(END_OF_MESSAGE)]
        self._searched = 0
        return message

    def _chunked(self) -> bytes | None:
        """A message of chunks (RFC 6242, section 4.2): `\\n#LENGTH\\n` before each, `\\n##\\n` behind the
        last."""
        while True:
            if self._left:
                part = self._bytes[: self._left]
                self._message += part
                del self._bytes[: len(part)]
                self._left -= len(part)
                if self._left:
                    return None
            header = self._header()
            if header is None:
                return None
            if header == END_OF_CHUNKS:
                if not self._message:
                    raise FramingError("a message without a chunk")
                message = bytes(self._message)
                self._message.clear()
                return message
            self._left = int(header[2:-1])

    def _header(self) -> bytes | None:
        """The line before a chunk, or the end of the chunks; None while it is not whole."""
        begun = bytes(self._bytes[:_LONGEST_HEADER])
        if not (b"\n#".startswith(begun[:2])):
            raise FramingError(f"{begun[:20]!r} where a chunk should begin")
        end = begun.find(b"\n", 2)
        if end < 0:
            digits = begun[2:]
            if len(begun) >= _LONGEST_HEADER or (digits and digits != b"#" and not _is_length(digits)):
                raise FramingError(f"{begun!r} is not a chunk size")
            return None
        header = begun[: end + 1]
        if header != END_OF_CHUNKS and not _is_length(header[2:-1]):
            raise FramingError(f"{header!r} is not a chunk size")
        del self._bytes[: end + 1]
        return header


def _is_length(digits: bytes) -> bool:
    return digits.isdigit() and digits[:1] != b"0" and int(digits) <= _MOST_IN_CHUNK


def encoded(message: bytes, *, chunked: bool) -> bytes:
    """Return a message as it is sent. Nothing follows the end mark: some devices take a line break there for
    a request."""
    if chunked:
        return b"\n#%d\n%s%s" % (len(message), message, END_OF_CHUNKS)
    return message + END_OF_MESSAGE
