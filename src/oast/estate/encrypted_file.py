"""Secrets in an encrypted file that may be committed: one JWE (RFC 7516) with a JWK (RFC 7517) kept
elsewhere.

Direct encryption with A256GCM (RFC 7518, sections 4.5 and 5.3): the key is 256 random bits, so nothing is
derived from a word a person could choose. Inside is JSON: `{"format": 1, "secrets": {NAME: {"value": TEXT,
"changed": DATE, "previous": TEXT}}}`; `previous` is there while some devices may still have the value before.
"""

from __future__ import annotations

import base64
import binascii
import datetime
import json
import os
import re
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.files import directory_lock, make_private, write_whole
from oast.records import Place

# The header of a sealed text that tells whether it is still the same (RFC 7516, section 4.3).
DIGEST = "oast-digest"
FORMAT = 1
KEY_VARIABLE = "OAST_SECRETS_KEY"
KEY_BITS = 256
SECRET_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,62}")


@dataclass(frozen=True)
class EncryptedSecret:
    """One secret in the file, and the day it was changed; `previous` is what it was before, while devices may
    still have that."""

    value: str
    changed: datetime.date
    previous: str | None = None

    def __repr__(self) -> str:
        return f"<stored secret of {self.changed}>"


class EncryptedFile:
    """The file at `path`; its key comes from the environment (the `k` of the JWK) or from `key_file`.

    What changes the file reads it again first, and no two programs do so at once.
    """

    def __init__(self, path: Path, key_file: Path | None, environment: Mapping[str, str]) -> None:
        self.path = path
        self._key_file = key_file
        self._environment = environment
        self._kept: dict[str, EncryptedSecret] | None = None

    def all(self) -> dict[str, EncryptedSecret]:
        """Return all secrets by name; none when there is no file yet. Raises EstateError when it cannot be
        decrypted."""
        if self._kept is None:
            self._kept = self._decrypted() if self.path.exists() else {}
        return self._kept

    def put(self, name: str, value: str, today: datetime.date, *, previous: str | None = None) -> None:
        """Keep `value` as `name`; makes the file, and the key file, when they are not there yet. Raises
        EstateError."""
        self._change(lambda kept: {**kept, name: EncryptedSecret(value, today, previous)})

    def succeed(self, name: str, before: EncryptedSecret, after: EncryptedSecret) -> None:
        """Store `after` in place of `before` as `name`. Raises EstateError when the secret was changed in the
        meantime."""

        def change(kept: dict[str, EncryptedSecret]) -> dict[str, EncryptedSecret]:
            if kept.get(name) != before:
                hint = "check 'oast secret list', and repeat"
                raise EstateError(
                    f"another process changed the secret '{name}' at the same time",
                    place=Place(self.path.name),
                    hint=hint,
                )
            return {**kept, name: after}

        self._change(change)

    def remove(self, name: str) -> None:
        """Keep `name` no longer. Raises EstateError."""
        self._change(lambda kept: {n: k for n, k in kept.items() if n != name})

    def sealed(self, text: bytes, digest: str) -> str:
        """`text` encrypted with the same key, as a JWE in compact form; `digest` can be read without the key.
        Raises EstateError."""
        from jwcrypto import jwe, jwk
        from jwcrypto.common import json_encode

        token = jwe.JWE(text, json_encode({"alg": "dir", "enc": "A256GCM", DIGEST: digest}))
        token.add_recipient(jwk.JWK(kty="oct", k=self._key(make=True)))
        sealed: str = token.serialize(compact=True)
        return sealed

    def unsealed(self, sealed: str) -> bytes:
        """The text that was `sealed`. Raises EstateError."""
        from jwcrypto import jwe, jwk
        from jwcrypto.common import JWException

        try:
            token = jwe.JWE(algs=["dir", "A256GCM"])
            token.deserialize(sealed.strip(), jwk.JWK(kty="oct", k=self._key()))
        except (JWException, ValueError, TypeError):
            raise EstateError(
                "cannot decrypt it: the key is a different one, or the data is damaged",
                place=Place(self.path.name),
            ) from None
        text: bytes = token.payload
        return text

    def _change(self, change: Callable[[dict[str, EncryptedSecret]], dict[str, EncryptedSecret]]) -> None:
        from jwcrypto import jwe, jwk
        from jwcrypto.common import json_encode

        # Where the name is a link, it goes on being one.
        path = self.path.resolve()
        with self._turn(path.parent):
            self._kept = None
            kept = change(self.all())
            secrets = {name: _document(secret) for name, secret in sorted(kept.items())}
            token = jwe.JWE(
                json.dumps({"format": FORMAT, "secrets": secrets}).encode(),
                json_encode({"alg": "dir", "enc": "A256GCM"}),
            )
            token.add_recipient(jwk.JWK(kty="oct", k=self._key(make=True)))
            try:
                write_whole(path, token.serialize(compact=True) + "\n")
            except OSError as error:
                raise EstateError(
                    f"cannot write the encrypted secrets: {error.strerror}", place=Place(str(self.path))
                ) from None
            self._kept = kept

    @contextmanager
    def _turn(self, folder: Path) -> Iterator[None]:
        try:
            with directory_lock(folder):
                yield
        except TimeoutError:
            hint = "wait until it ends, and repeat"
            raise EstateError(
                "another program is changing the secrets", place=Place(self.path.name), hint=hint
            ) from None
        except OSError as error:
            raise EstateError(
                f"cannot lock {folder}: {error.strerror}", place=Place(self.path.name)
            ) from None

    def _key(self, *, make: bool = False) -> str:
        given = self._environment.get(KEY_VARIABLE)
        if given:
            return _checked_key(given, KEY_VARIABLE)
        if self._key_file is None:
            raise EstateError(
                "the key for the encrypted secrets is not set",
                place=Place(self.path.name),
                hint=f"set key_file or {KEY_VARIABLE}",
            )
        if not self._key_file.exists():
            if not make or self.path.exists():
                hint = f"copy it from another user of the estate, or set {KEY_VARIABLE}"
                raise EstateError(
                    f"the key file of the encrypted secrets is missing: {self._key_file}",
                    place=Place(self.path.name),
                    hint=hint,
                )
            self._make_key(self._key_file)
        try:
            data = json.loads(self._key_file.read_text(encoding="utf-8"))
            kind, key = data["kty"], data["k"]
        except (OSError, ValueError, KeyError, TypeError, RecursionError):
            raise EstateError("the key file is not a JWK", place=Place(str(self._key_file))) from None
        if kind != "oct":
            message, hint = (
                f"the key is of the type '{kind}', not 'oct'",
                "use a symmetric key of 256 bits; key pairs are not supported",
            )
            raise EstateError(message, place=Place(str(self._key_file)), hint=hint)
        return _checked_key(key, str(self._key_file))

    def _make_key(self, path: Path) -> None:
        """A new key; where another program makes one at the same time, whichever was first counts."""
        key = base64.urlsafe_b64encode(os.urandom(KEY_BITS // 8)).decode().rstrip("=")
        try:
            make_private(path.parent)
            with tempfile.TemporaryDirectory(dir=path.parent, prefix=f".{path.name}.") as folder:
                made = Path(folder) / "key"
                write_whole(made, json.dumps({"kty": "oct", "k": key}) + "\n", mode=0o600)
                try:
                    path.hardlink_to(made)
                except FileExistsError:
                    return
        except OSError as error:
            raise EstateError(
                f"cannot create the key file: {error.strerror}", place=Place(str(path))
            ) from None

    def _decrypted(self) -> dict[str, EncryptedSecret]:
        from jwcrypto import jwe, jwk
        from jwcrypto.common import JWException

        key = self._key()
        try:
            token = jwe.JWE(algs=["dir", "A256GCM"])
            token.deserialize(self.path.read_text(encoding="utf-8").strip(), jwk.JWK(kty="oct", k=key))
            data = json.loads(token.payload)
            if data["format"] != FORMAT:
                raise EstateError(
                    f"unknown format {data['format']} of the encrypted secrets",
                    place=Place(self.path.name),
                )
            return {name: _kept(name, secret) for name, secret in data["secrets"].items()}
        except (JWException, ValueError, KeyError, TypeError, AttributeError, OSError, RecursionError):
            # What went wrong inside could quote what is secret.
            message = (
                "cannot decrypt the encrypted secrets: the key is a different one, or the file is damaged"
            )
            raise EstateError(message, place=Place(self.path.name)) from None


def digest_in(sealed: str) -> str | None:
    """The digest that `sealed` was given; None for a text that was not sealed."""
    head = sealed.partition(".")[0]
    try:
        said = json.loads(base64.urlsafe_b64decode(head + "=" * (-len(head) % 4)))
        return str(said[DIGEST])
    except (ValueError, KeyError, TypeError):
        return None


def _document(kept: EncryptedSecret) -> dict[str, Any]:
    before = {} if kept.previous is None else {"previous": kept.previous}
    return {"value": kept.value, "changed": kept.changed.isoformat(), **before}


def _kept(name: str, data: Mapping[str, Any]) -> EncryptedSecret:
    value, previous = data["value"], data.get("previous")
    if not SECRET_NAME.fullmatch(name) or not isinstance(value, str) or not isinstance(previous, str | None):
        raise ValueError("not what Oast writes")
    return EncryptedSecret(value, datetime.date.fromisoformat(data["changed"]), previous)


def _checked_key(key: Any, where: str) -> str:
    """`key` if it is 256 bits in base64url without padding (RFC 7518, section 6.4.1). Raises EstateError."""
    try:
        if (
            not isinstance(key, str)
            or len(base64.b64decode(key + "=", altchars=b"-_", validate=True)) * 8 != KEY_BITS
        ):
            raise ValueError(f"not {KEY_BITS} bits")
    except (ValueError, binascii.Error):
        raise EstateError(
            f"the key of the encrypted secrets is not {KEY_BITS} bits in base64url", place=Place(where)
        ) from None
    return key
