"""The host keys the estate trusts: one `NAME ALGORITHM KEY` a line, by the device's name (RFC 4253, section 6.6)."""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from oast.errors import EstateError
from oast.files import write_whole
from oast.records import Place


@dataclass(frozen=True, slots=True)
class HostKey:
    """`line` is the algorithm and the key in base64; `fingerprint` is SHA256: and its hash, as devices print it."""

    line: str
    fingerprint: str


class KnownHosts:
    """The file of trusted host keys. It is meant to be committed with the estate."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._keys: dict[str, tuple[HostKey, ...]] | None = None

    def of(self, name: str) -> tuple[HostKey, ...]:
        """The keys trusted for the device `name`. Raises EstateError for a line that is no key."""
        return self._all().get(name, ())

    def _all(self) -> dict[str, tuple[HostKey, ...]]:
        if self._keys is None:
            self._keys = {}
            text = self._path.read_text(encoding="utf-8") if self._path.exists() else ""
            for number, line in enumerate(text.splitlines(), 1):
                if line.strip() and not line.startswith("#"):
                    name, key = self._key(line, number)
                    self._keys[name] = (*self._keys.get(name, ()), key)
        return self._keys

    def _key(self, line: str, number: int) -> tuple[str, HostKey]:
        parts = line.split()
        try:
            name, algorithm, data = parts[0], parts[1], parts[2]
            digest = hashlib.sha256(base64.b64decode(data, validate=True)).digest()
        except (IndexError, binascii.Error):
            place = Place(self._path.name, number)
            raise EstateError("this line is not 'NAME ALGORITHM KEY'", place=place, hint="remove it and trust the device again") from None
        return name, HostKey(f"{algorithm} {data}", "SHA256:" + base64.b64encode(digest).decode().rstrip("="))

    def trust(self, keys: Mapping[str, HostKey]) -> None:
        """Trust these devices with exactly these keys from now on."""
        every = dict(self._all())
        every.update({name: (key,) for name, key in keys.items()})
        write_whole(self._path, "".join(f"{line}\n" for line in _lines(every)))
        self._keys = every


def _lines(keys: Mapping[str, Iterable[HostKey]]) -> Iterable[str]:
    return (f"{name} {key.line}" for name in sorted(keys) for key in keys[name])
