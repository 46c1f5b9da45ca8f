"""Secrets in an encrypted file that may be committed: one JWE (RFC 7516) with a JWK (RFC 7517) kept elsewhere.

Direct encryption with A256GCM (RFC 7518, sections 4.5 and 5.3): the key is 256 random bits, so nothing is derived from a word
a person could choose. Inside is JSON: `{"format": 1, "secrets": {NAME: {"value": TEXT, "changed": DATE}}}`.
"""

from __future__ import annotations

import base64
import datetime
import json
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from oast.errors import EstateError
from oast.files import write_whole
from oast.records import Place

FORMAT = 1
KEY_VARIABLE = "OAST_SECRETS_KEY"


@dataclass(frozen=True)
class Kept:
    """One secret in the file, and the day it was changed."""

    value: str
    changed: datetime.date

    def __repr__(self) -> str:
        return f"<kept secret of {self.changed}>"


class EncryptedFile:
    """The file at `path`; its key comes from the environment (the `k` of the JWK) or from `key_file`."""

    def __init__(self, path: Path, key_file: Path | None, environment: Mapping[str, str]) -> None:
        self.path = path
        self._key_file = key_file
        self._environment = environment
        self._kept: dict[str, Kept] | None = None

    def all(self) -> dict[str, Kept]:
        """Every secret by name; none when there is no file yet. Raises EstateError when it cannot be decrypted."""
        if self._kept is None:
            self._kept = self._decrypted() if self.path.exists() else {}
        return self._kept

    def put(self, name: str, value: str, today: datetime.date) -> None:
        """Keep `value` as `name`; makes the file, and the key file, when they are not there yet. Raises EstateError."""
        from jwcrypto import jwe, jwk
        from jwcrypto.common import json_encode

        kept = {**self.all(), name: Kept(value, today)}
        secrets = {n: {"value": k.value, "changed": k.changed.isoformat()} for n, k in sorted(kept.items())}
        token = jwe.JWE(json.dumps({"format": FORMAT, "secrets": secrets}).encode(), json_encode({"alg": "dir", "enc": "A256GCM"}))
        token.add_recipient(jwk.JWK(kty="oct", k=self._key(make=True)))
        write_whole(self.path, token.serialize(compact=True) + "\n")
        self._kept = kept

    def _key(self, *, make: bool = False) -> str:
        given = self._environment.get(KEY_VARIABLE)
        if given:
            return given
        if self._key_file is None:
            raise EstateError(
                "there is no key for the encrypted secrets", place=Place(self.path.name), hint=f"set key_file or {KEY_VARIABLE}"
            )
        if not self._key_file.exists():
            if not make or self.path.exists():
                hint = f"get it from a colleague who has it, or set {KEY_VARIABLE}"
                raise EstateError(
                    f"the key of the encrypted secrets is not there: {self._key_file}", place=Place(self.path.name), hint=hint
                )
            key = base64.urlsafe_b64encode(os.urandom(32)).decode().rstrip("=")
            write_whole(self._key_file, json.dumps({"kty": "oct", "k": key}) + "\n", mode=0o600)
        try:
            return str(json.loads(self._key_file.read_text(encoding="utf-8"))["k"])
        except (OSError, ValueError, KeyError, TypeError):
            raise EstateError("the key file is no JWK", place=Place(str(self._key_file))) from None

    def _decrypted(self) -> dict[str, Kept]:
        from jwcrypto import jwe, jwk
        from jwcrypto.common import JWException

        try:
            token = jwe.JWE(algs=["dir", "A256GCM"])
            token.deserialize(self.path.read_text(encoding="utf-8").strip(), jwk.JWK(kty="oct", k=self._key()))
            data = json.loads(token.payload)
            if data["format"] != FORMAT:
                raise EstateError(f"format {data['format']} of the encrypted secrets is not known", place=Place(self.path.name))
            return {n: Kept(s["value"], datetime.date.fromisoformat(s["changed"])) for n, s in data["secrets"].items()}
        except (JWException, ValueError, KeyError, TypeError, OSError):
            # What went wrong inside could quote what is secret.
            message = "the encrypted secrets cannot be decrypted: another key, or a damaged file"
            raise EstateError(message, place=Place(self.path.name)) from None
