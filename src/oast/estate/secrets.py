"""Secrets by reference: the estate names them; the environment, a command, a file or a person holds them."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.estate import secret_command as provider
from oast.estate.encrypted_file import SECRET_NAME, EncryptedFile
from oast.estate.settings import SecretSettings
from oast.files import write_whole
from oast.records import Fingerprints, Place, Secret
from oast.redaction import Masking
from oast.spelling import spelling_hint
from oast.text_file import special_file


def variable_of(name: str) -> str:
    """The environment variable that holds the secret `name`."""
    return "OAST_SECRET_" + name.upper().replace("-", "_")


Ask = Callable[[str], str]
KEY_FILE = "fingerprint-key"
KEY_VARIABLE = "OAST_FINGERPRINT_KEY"
WORKING = ".oast"
KEY_BYTES = 32


class Secrets:
    """Looks secrets up: in the environment, by the command, in the encrypted file, in the unencrypted file,
    by asking; first found.

    `ask` asks a person for the secret of a name, without showing what is typed.
    """

    def __init__(
        self,
        environment: Mapping[str, str],
        settings: SecretSettings,
        fingerprints: Fingerprints,
        ask: Ask | None,
        folder: Path,
    ) -> None:
        self._folder = folder
        self._environment = environment
        self._settings = settings
        self._fingerprints = fingerprints
        self._ask = ask if settings.prompt else None
        self._read: Mapping[str, Any] | None = None
        self._known: dict[str, Secret] = {}
        self._given: dict[str, str] = {}
        self._masking = Masking()
        fingerprints.hide_by(self._masking.hide)
        self.places: dict[str, list[Place]] = {}
        path = settings.encrypted_file
        # Where secrets are withheld, none is looked up: no command is run, and no file is read.
        self._withheld = fingerprints.withheld
        self.encrypted = (
            None if path is None or self._withheld else EncryptedFile(path, settings.key_file, environment)
        )

    def get(self, name: str, place: Place | None = None) -> Secret:
        """The secret `name`, asked for at `place`. Raises EstateError that says where it was looked for."""
        if place is not None:
            self.places.setdefault(name, []).append(place)
        if name not in self._known:
            if not SECRET_NAME.fullmatch(name):
                raise EstateError(
                    f"'{name}' is not a valid name for a secret",
                    place=place,
                    hint="use letters, digits, - and _",
                )
            if self._withheld:
                self._known[name] = self.made(name, name)
                return self._known[name]
            value, said = self._found(name)
            if not value:
                raise EstateError(
                    f"no secret '{name}' {self._places(name)}",
                    place=place,
                    hint=said or self._hint(name),
                )
            try:
                value.encode()
            except UnicodeEncodeError:
                raise EstateError(
                    f"the secret '{name}' is not UTF-8 text", place=place, hint=f"oast secret set {name}"
                ) from None
            self._known[name] = self.made(name, value)
            self._masking.add(self._known[name])
        return self._known[name]

    def previous(self, name: str) -> Secret | None:
        """What the secret `name` was before, while some devices may still have that."""
        if self._withheld:
            return None
        kept = self.encrypted.all().get(name) if self.encrypted is not None else None
        now = self.get(name).reveal()
        if kept is None or (now != kept.value and name not in self._given):
            return None
        before = kept.previous if now == kept.value else kept.value
        if before is None:
            return None
        secret = self.made(name, before)
        self._masking.add(secret)
        return secret

    def give(self, name: str, value: str) -> None:
        """For this run, `value` is the secret `name`, whatever is kept."""
        self._given[name] = value
        self._known.pop(name, None)

    def comes_before_file(self, name: str) -> str | None:
        """Describe where the secret `name` is looked up before the encrypted file."""
        if self._environment.get(variable_of(name)):
            return f"the environment ({variable_of(name)})"
        return "the command in oast.toml" if self._from_command(name)[0] else None

    def elsewhere(self, name: str) -> bool:
        """Whether the secret `name` would be found without the encrypted file."""
        return self.comes_before_file(name) is not None or isinstance(self._from_file().get(name), str)

    @property
    def known(self) -> Sequence[Secret]:
        """The secrets that were asked for so far."""
        return tuple(self._known.values())

    def keep_key(self) -> None:
        """Let the next run show the same fingerprints. Raises OSError."""
        path = self._folder / WORKING / KEY_FILE
        if not path.exists() and KEY_VARIABLE not in self._environment:
            write_whole(path, self._fingerprints.key, mode=0o600)

    def made(self, name: str, value: str) -> Secret:
        """`value` as a secret."""
        return self._fingerprints.secret(name, value)

    def _found(self, name: str) -> tuple[str | None, str | None]:
        """The secret, if there is one; and what the command said when it had none."""
        given = self._given.get(name) or self._environment.get(variable_of(name))
        if given:
            return given, None
        printed, said = self._from_command(name)
        kept = self.encrypted.all().get(name) if self.encrypted is not None and not printed else None
        unencrypted = self._from_file().get(name)
        found = (
            printed
            or (kept.value if kept is not None else None)
            or (unencrypted if isinstance(unencrypted, str) else None)
            or (self._ask(name) if self._ask is not None else None)
        )
        return found, said

    def _places(self, name: str) -> str:
        files = [str(f) for f in (self._settings.encrypted_file, self._settings.file) if f is not None]
        return " or in ".join([f"in the environment as {variable_of(name)}", *files])

    def _hint(self, name: str) -> str:
        known = {*self._from_file(), *(self.encrypted.all() if self.encrypted is not None else ())}
        return spelling_hint(name, known) if known else f"set {variable_of(name)}"

    def _from_command(self, name: str) -> tuple[str | None, str | None]:
        """What the command prints for `name`; or, when it fails, nothing and its words, so that the next
        place is tried."""
        if not self._settings.command:
            return None, None
        try:
            return (
                provider.run_secret_command(
                    self._settings.command, name, self._folder, self._environment, Place("oast.toml")
                ),
                None,
            )
        except provider.SecretNotFound as failure:
            return None, f"the command for secrets failed: {failure}"

    def _from_file(self) -> Mapping[str, Any]:
        if self._read is None:
            self._read = {}
            if self._settings.file is not None and self._settings.file.exists():
                kind = special_file(self._settings.file)
                if kind is not None:
                    raise EstateError(
                        f"the secrets file is {kind}, not a file", place=Place(str(self._settings.file))
                    )
                try:
                    self._read = tomllib.loads(self._settings.file.read_text(encoding="utf-8"))
                except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError):
                    # The error of the parser would quote the line, and with it the secret.
                    raise EstateError(
                        "the secrets file is not valid TOML", place=Place(str(self._settings.file))
                    ) from None
        return self._read


def fingerprints_of(working: Path, environment: Mapping[str, str]) -> Fingerprints:
    """The fingerprints of one estate, under a key of its own in its working folder, or the one in the
    environment: two copies of an estate show the same secrets by the same fingerprints when they have the
    same key. Raises EstateError.

    Nothing is written: a key that is not there yet is made, and lasts when `keep_key` is called.
    """
    given = environment.get(KEY_VARIABLE)
    if given is not None:
        try:
            shared = bytes.fromhex(given)
        except ValueError:
            shared = b""
        if len(shared) < KEY_BYTES:
            raise EstateError(f"{KEY_VARIABLE} must have at least {2 * KEY_BYTES} hexadecimal digits")
        return Fingerprints(shared)
    path = working / KEY_FILE
    try:
        key = path.read_bytes()
    except FileNotFoundError:
        return Fingerprints(os.urandom(KEY_BYTES))
    except OSError as error:
        raise EstateError(
            f"cannot read the key for fingerprints: {error.strerror}", place=Place(str(path))
        ) from None
    if len(key) < KEY_BYTES:
        hint = "remove it; Oast makes a new one, and secrets get new fingerprints"
        raise EstateError(
            "the key for fingerprints is too short to be safe", place=Place(str(path)), hint=hint
        )
    return Fingerprints(key)
