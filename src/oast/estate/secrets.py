"""Secrets by reference: the estate names them, the environment or a file outside the estate's repository holds them."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.files import write_whole
from oast.nearest import suggestion
from oast.records import Fingerprints, Place, Secret


def variable_of(name: str) -> str:
    """The environment variable that holds the secret `name`."""
    return "OAST_SECRET_" + name.upper().replace("-", "_")


class Secrets:
    """Looks secrets up: the environment first, then the TOML file of `name = "value"` lines."""

    def __init__(self, environment: Mapping[str, str], file: Path | None, fingerprints: Fingerprints) -> None:
        self._environment = environment
        self._file = file
        self._fingerprints = fingerprints
        self._read: Mapping[str, Any] | None = None
        self._known: dict[str, Secret] = {}

    def get(self, name: str, place: Place | None = None) -> Secret:
        """The secret `name`, asked for at `place`. Raises EstateError that says where it was looked for."""
        if name not in self._known:
            value = self._environment.get(variable_of(name)) or self._from_file().get(name)
            if not isinstance(value, str) or not value:
                where = f"in the environment as {variable_of(name)}" + (f" or in {self._file}" if self._file else "")
                hint = suggestion(name, self._from_file()) if self._from_file() else f"set {variable_of(name)}"
                raise EstateError(f"there is no secret '{name}' {where}", place=place, hint=hint)
            self._known[name] = Secret(name, value, self._fingerprints.of(value))
        return self._known[name]

    def hide(self, text: str) -> str:
        """`text` with every secret that was asked for so far replaced by its fingerprint."""
        for secret in self._known.values():
            text = text.replace(secret.reveal(), str(secret))
        return text

    def _from_file(self) -> Mapping[str, Any]:
        if self._read is None:
            self._read = {}
            if self._file is not None and self._file.exists():
                try:
                    self._read = tomllib.loads(self._file.read_text(encoding="utf-8"))
                except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError):
                    # The error of the parser would quote the line, and with it the secret.
                    raise EstateError("the secrets file cannot be read as TOML", place=Place(str(self._file))) from None
        return self._read


def fingerprints_of(working: Path) -> Fingerprints:
    """The fingerprints of one estate, under a key of its own in its working folder, made at first use."""
    path = working / "fingerprint-key"
    if not path.exists():
        write_whole(path, os.urandom(32), mode=0o600)
    return Fingerprints(path.read_bytes())
