"""Secrets by reference: the estate names them; the environment, a command, a file or a person holds them."""

from __future__ import annotations

import os
import re
import subprocess
import tomllib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.estate.encrypted import EncryptedFile
from oast.estate.settings import SecretSettings
from oast.files import write_whole
from oast.nearest import suggestion
from oast.records import Fingerprints, Place, Secret

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,62}")


def variable_of(name: str) -> str:
    """The environment variable that holds the secret `name`."""
    return "OAST_SECRET_" + name.upper().replace("-", "_")


Ask = Callable[[str], str]
COMMAND_AT_MOST_S = 30.0
KEY_FILE = "fingerprint-key"
KEY_BYTES = 32


class Secrets:
    """Looks secrets up: in the environment, by the command, in the encrypted file, in the unencrypted file, by asking; first found.

    `ask` asks a person for the secret of a name, without showing what is typed.
    """

    def __init__(
        self, environment: Mapping[str, str], settings: SecretSettings, fingerprints: Fingerprints, ask: Ask | None, working: Path
    ) -> None:
        self._working = working
        self._environment = environment
        self._settings = settings
        self._fingerprints = fingerprints
        self._ask = ask if settings.prompt else None
        self._read: Mapping[str, Any] | None = None
        self._known: dict[str, Secret] = {}
        path = settings.encrypted_file
        self.encrypted = None if path is None else EncryptedFile(path, settings.key_file, environment)

    def get(self, name: str, place: Place | None = None) -> Secret:
        """The secret `name`, asked for at `place`. Raises EstateError that says where it was looked for."""
        if name not in self._known:
            if not NAME.fullmatch(name):
                raise EstateError(f"'{name}' cannot be a secret's name", place=place, hint="use letters, digits, - and _")
            value = self._found(name)
            if not value:
                raise EstateError(f"there is no secret '{name}' {self._places(name)}", place=place, hint=self._hint(name))
            self._known[name] = self.made(name, value)
        return self._known[name]

    def keep_key(self) -> None:
        """Let the next run show the same fingerprints. Raises OSError."""
        path = self._working / KEY_FILE
        if not path.exists():
            write_whole(path, self._fingerprints.key, mode=0o600)

    def made(self, name: str, value: str) -> Secret:
        """`value` as a secret."""
        return self._fingerprints.secret(name, value)

    def _found(self, name: str) -> str | None:
        kept = self.encrypted.all().get(name) if self.encrypted is not None else None
        unencrypted = self._from_file().get(name)
        return (
            self._environment.get(variable_of(name))
            or self._from_command(name)
            or (kept.value if kept is not None else None)
            or (unencrypted if isinstance(unencrypted, str) else None)
            or (self._ask(name) if self._ask is not None else None)
        )

    def _places(self, name: str) -> str:
        files = [str(f) for f in (self._settings.encrypted_file, self._settings.file) if f is not None]
        return " or in ".join([f"in the environment as {variable_of(name)}", *files])

    def _hint(self, name: str) -> str:
        known = {*self._from_file(), *(self.encrypted.all() if self.encrypted is not None else ())}
        return suggestion(name, known) if known else f"set {variable_of(name)}"

    def _from_command(self, name: str) -> str | None:
        """What the command prints for `name`; None when it ends with an error, so that the next place is tried."""
        if not self._settings.command:
            return None
        words = [word.replace("{name}", name) for word in self._settings.command]
        try:
            done = subprocess.run(words, capture_output=True, text=True, timeout=COMMAND_AT_MOST_S, stdin=subprocess.DEVNULL, check=False)
        except (OSError, subprocess.TimeoutExpired) as error:
            reason = error.strerror if isinstance(error, OSError) else "it takes too long"
            raise EstateError(f"the command for secrets cannot be run: {reason}", place=Place("oast.toml")) from None
        return done.stdout.rstrip("\n") if done.returncode == 0 else None

    def _from_file(self) -> Mapping[str, Any]:
        if self._read is None:
            self._read = {}
            if self._settings.file is not None and self._settings.file.exists():
                try:
                    self._read = tomllib.loads(self._settings.file.read_text(encoding="utf-8"))
                except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError):
                    # The error of the parser would quote the line, and with it the secret.
                    raise EstateError("the secrets file cannot be read as TOML", place=Place(str(self._settings.file))) from None
        return self._read


def fingerprints_of(working: Path) -> Fingerprints:
    """The fingerprints of one estate, under a key of its own in its working folder. Raises EstateError.

    Nothing is written: a key that is not there yet is made, and lasts when `keep_key` is called.
    """
    path = working / KEY_FILE
    try:
        key = path.read_bytes()
    except FileNotFoundError:
        return Fingerprints(os.urandom(KEY_BYTES))
    except OSError as error:
        raise EstateError(f"the key of the fingerprints cannot be read: {error.strerror}", place=Place(str(path))) from None
    if len(key) < KEY_BYTES:
        hint = "remove it: a new one is made, and secrets show new fingerprints"
        raise EstateError("the key of the fingerprints is too short to hide anything", place=Place(str(path)), hint=hint)
    return Fingerprints(key)
