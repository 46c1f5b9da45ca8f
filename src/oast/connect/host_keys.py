"""The host keys the estate trusts: one `NAME ALGORITHM KEY` a line, by the device's name (RFC 4253, section 6.6)."""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from oast.errors import EstateError, Mistakes
from oast.files import turn, write_whole
from oast.records import Place, Problem

AT_MOST_BYTES = 50_000_000


@dataclass(frozen=True, slots=True)
class HostKey:
    """`line` is the algorithm and the key in base64; `fingerprint` is SHA256: and its hash, as devices print it."""

    line: str
    fingerprint: str


class KnownHosts:
    """The file of trusted host keys. It is meant to be committed with the estate; comments and the order of lines are people's."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._keys: dict[str, tuple[HostKey, ...]] | None = None

    def of(self, name: str) -> tuple[HostKey, ...]:
        """The keys trusted for the device `name`. Raises EstateError for lines that are no key."""
        return self._all().get(name, ())

    def problems(self) -> list[Problem]:
        """What is wrong in the file, line by line."""
        try:
            self._all()
        except EstateError as error:
            return list(error.problems())
        return []

    def _all(self) -> dict[str, tuple[HostKey, ...]]:
        if self._keys is None:
            keys: dict[str, tuple[HostKey, ...]] = {}
            mistakes = Mistakes()
            for number, line in enumerate(self._lines(), 1):
                with mistakes.collected():
                    if (found := self._key(line, number)) is not None:
                        name, key = found
                        keys[name] = (*keys.get(name, ()), key)
            mistakes.raise_any()
            self._keys = keys
        return self._keys

    def _lines(self) -> list[str]:
        try:
            data = self._path.read_bytes()
        except FileNotFoundError:
            return []
        except OSError as error:
            raise EstateError(f"the trusted host keys cannot be read: {error.strerror}", place=Place(self._path.name)) from None
        if len(data) > AT_MOST_BYTES:
            raise EstateError(f"the file of trusted host keys is longer than {AT_MOST_BYTES} bytes", place=Place(self._path.name))
        # What is no text cannot be part of a key: the line is told as wrong, and the others count.
        return data.decode("utf-8", "replace").removeprefix("\ufeff").removesuffix("\n").split("\n") if data else []

    def _key(self, line: str, number: int) -> tuple[str, HostKey] | None:
        """The name and key on a line; None for an empty one or a comment. Raises EstateError."""
        parts = line.split()
        if not parts or parts[0].startswith("#"):
            return None
        place = Place(self._path.name, number)
        try:
            name, algorithm, data = parts[:3]
            blob = base64.b64decode(data, validate=True)
        except (ValueError, binascii.Error):
            hint = "remove it and trust the device again"
            raise EstateError("this line is not 'NAME ALGORITHM KEY'", place=place, hint=hint) from None
        # A key in the wire's form begins with its algorithm (RFC 4253, section 6.6).
        if not blob.startswith(len(algorithm).to_bytes(4, "big") + algorithm.encode()):
            message = f"the key on this line is no key of the algorithm '{algorithm[:40]}'"
            raise EstateError(message, place=place, hint="remove it and trust the device again")
        digest = hashlib.sha256(blob).digest()
        return name, HostKey(f"{algorithm} {data}", "SHA256:" + base64.b64encode(digest).decode().rstrip("="))

    def trust(self, keys: Mapping[str, HostKey]) -> None:
        """Trust these devices with exactly these keys from now on; every other line stays as it is, also one written meanwhile.

        Raises EstateError.
        """
        path = self._path.resolve()
        try:
            with turn(path.parent):
                self._keys = None
                self._all()
                kept = list(self._replaced(self._lines(), dict(keys)))
                write_whole(path, "".join(f"{line}\n" for line in kept))
        except TimeoutError:
            hint = "wait for it to end, and repeat"
            raise EstateError("another program is changing the trusted host keys", place=Place(self._path.name), hint=hint) from None
        except OSError as error:
            message = f"the trusted host keys cannot be written: {error.strerror}"
            raise EstateError(message, place=Place(self._path.name)) from None
        self._keys = None

    def _replaced(self, lines: Iterable[str], keys: dict[str, HostKey]) -> Iterator[str]:
        """A device's new key stands where its first one stood; new devices come last, by name."""
        written: set[str] = set()
        for number, line in enumerate(lines, 1):
            found = self._key(line, number)
            if found is None or found[0] not in keys:
                yield line
            elif found[0] not in written:
                written.add(found[0])
                comment = line.split(maxsplit=3)[3:]
                yield " ".join([found[0], keys[found[0]].line, *comment])
        yield from (f"{name} {keys[name].line}" for name in sorted(keys.keys() - written))
