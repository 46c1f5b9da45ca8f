"""The host keys the estate trusts: one `NAME ALGORITHM KEY` a line, by the device's name (RFC 4253, section
6.6)."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import load_ssh_public_key

from oast.errors import EstateError, HostKeyError
from oast.files import directory_lock, write_whole
from oast.records import Place, Problem
from oast.text_file import special_file

AT_MOST_BYTES = 50_000_000
# A key of RSA with 16,384 bits has 2,800 characters.
LONGEST_KEY = 8_000
# Names of algorithms (RFC 4251, section 6); OpenSSH's markers, such as @cert-authority, are not among them.
ALGORITHM = re.compile(r"[a-z0-9][a-zA-Z0-9.-]{0,40}(?:@[a-z0-9.-]{1,40})?")


@dataclass(frozen=True, slots=True)
class HostKey:
    """`line` is the algorithm and the key in base64; `fingerprint` is SHA256: and its hash, as devices print
    it."""

    line: str
    fingerprint: str


def host_key_of(algorithm: str, data: str) -> HostKey:
    """The host key of these two words of a line. Raises ValueError with what is wrong: what is written has to
    be read again."""
    if not ALGORITHM.fullmatch(algorithm):
        raise ValueError("its algorithm is not a host key algorithm (RFC 4253, section 6.6)")
    if len(data) > LONGEST_KEY:
        raise ValueError(f"it is longer than {LONGEST_KEY} characters")
    try:
        blob = base64.b64decode(data, validate=True)
    except (ValueError, binascii.Error):
        raise ValueError("it is not base64") from None
    # A key in the wire's form begins with its algorithm.
    if not blob.startswith(len(algorithm).to_bytes(4, "big") + algorithm.encode()):
        raise ValueError(f"it is not a key of the algorithm '{algorithm[:40]}'")
    if not _is_whole(f"{algorithm} {data}", blob):
        raise ValueError(f"it is not a complete key of the algorithm '{algorithm[:40]}'")
    digest = hashlib.sha256(blob).digest()
    return HostKey(f"{algorithm} {data}", "SHA256:" + base64.b64encode(digest).decode().rstrip("="))


def _is_whole(line: str, blob: bytes) -> bool:
    """Whether a key can be loaded; of an unknown algorithm, whether it is several strings (RFC 4251, section
    5) and no more."""
    try:
        load_ssh_public_key(line.encode())
    except UnsupportedAlgorithm:
        at, parts = 0, 0
        while at + 4 <= len(blob):
            at += 4 + int.from_bytes(blob[at : at + 4], "big")
            parts += 1
        return at == len(blob) and parts > 1
    except (ValueError, OverflowError):
        return False
    return True


@dataclass(frozen=True, slots=True)
class _Line:
    """A line that is neither empty nor a comment: the device's name, and its key or what is wrong with it."""

    name: str
    key: HostKey | None
    problem: Problem | None


class KnownHosts:
    """The file of trusted host keys. It is meant to be committed with the estate; comments and the order of
    lines are people's."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._keys: dict[str, list[_Line]] | None = None

    def of(self, name: str) -> tuple[HostKey, ...]:
        """The keys trusted for the device `name`. Raises HostKeyError when all of its lines are wrong,
        EstateError when the file cannot be read."""
        lines = self._all().get(name, [])
        keys = self._usable(lines)
        if lines and not keys:
            problem = lines[0].problem
            where = f"{problem.place}: {problem.message}" if problem is not None else ""
            raise HostKeyError(
                f"cannot read the trusted host key: {where}", hint=f"oast devices trust --on name={name}"
            )
        return keys

    def usable(self, name: str) -> tuple[HostKey, ...]:
        """The same without those lines that are wrong. Raises EstateError when the file cannot be read."""
        return self._usable(self._all().get(name, []))

    @staticmethod
    def _usable(lines: Iterable[_Line]) -> tuple[HostKey, ...]:
        return tuple(line.key for line in lines if line.key is not None)

    def problems(self) -> list[Problem]:
        """What is wrong in the file, line by line."""
        try:
            return [
                line.problem for lines in self._all().values() for line in lines if line.problem is not None
            ]
        except EstateError as error:
            return list(error.problems())

    def _all(self) -> dict[str, list[_Line]]:
        """By device. A line that is wrong costs its own device only."""
        if self._keys is None:
            keys: dict[str, list[_Line]] = {}
            for number, text in enumerate(self._lines(), 1):
                line = self._line(text, number)
                if line is not None:
                    keys.setdefault(line.name, []).append(line)
            self._keys = keys
        return self._keys

    def _lines(self) -> list[str]:
        kind = special_file(self._path)
        if kind is not None:
            raise EstateError(
                f"cannot read the trusted host keys: it is {kind}, not a file", place=Place(self._path.name)
            )
        try:
            data = self._path.read_bytes()
        except FileNotFoundError:
            return []
        except OSError as error:
            raise EstateError(
                f"cannot read the trusted host keys: {error.strerror}", place=Place(self._path.name)
            ) from None
        if len(data) > AT_MOST_BYTES:
            raise EstateError(
                f"the file of trusted host keys is longer than {AT_MOST_BYTES} bytes",
                place=Place(self._path.name),
            )
        # Binary data cannot be part of a key: the line is reported, and the others count.
        return (
            data.decode("utf-8", "replace").removeprefix("\ufeff").removesuffix("\n").split("\n")
            if data
            else []
        )

    def _line(self, text: str, number: int) -> _Line | None:
        """A line; None for an empty one or a comment."""
        parts = text.split()
        if not parts or parts[0].startswith("#"):
            return None
        place, hint = Place(self._path.name, number), "remove it and trust the device again"
        if len(parts) < 3:
            return _Line(parts[0], None, Problem("this line is not 'NAME ALGORITHM KEY'", place, hint))
        try:
            return _Line(parts[0], host_key_of(parts[1], parts[2]), None)
        except ValueError as wrong:
            return _Line(parts[0], None, Problem(f"invalid host key: {wrong}", place, hint))

    def trust(self, keys: Mapping[str, HostKey]) -> None:
        """Trust these devices with exactly these keys from now on; every other line stays, including one that
        was written in the meantime.

        Raises EstateError, also for a key that could not be read again: nothing is written then.
        """
        for name, key in keys.items():
            algorithm, _, data = key.line.partition(" ")
            try:
                host_key_of(algorithm, data)
            except ValueError as wrong:
                raise EstateError(f"the host key of {name} cannot be trusted: {wrong}") from None
        path = self._path.resolve()
        try:
            with directory_lock(path.parent):
                self._keys = None
                kept = list(self._replaced(self._lines(), dict(keys)))
                write_whole(path, "".join(f"{line}\n" for line in kept))
        except TimeoutError:
            hint = "wait until it ends, and repeat"
            raise EstateError(
                "another program is changing the trusted host keys", place=Place(self._path.name), hint=hint
            ) from None
        except OSError as error:
            message = f"cannot write the trusted host keys: {error.strerror}"
            raise EstateError(message, place=Place(self._path.name)) from None
        self._keys = None

    def _replaced(self, lines: Iterable[str], keys: dict[str, HostKey]) -> Iterator[str]:
        """A device's new key takes the place of its first one; new devices are added at the end, by name."""
        written: set[str] = set()
        for number, line in enumerate(lines, 1):
            found = self._line(line, number)
            if found is None or found.name not in keys:
                yield line
            elif found.name not in written:
                written.add(found.name)
                comment = line.split(maxsplit=3)[3:]
                yield " ".join([found.name, keys[found.name].line, *comment])
        yield from (f"{name} {keys[name].line}" for name in sorted(keys.keys() - written))
