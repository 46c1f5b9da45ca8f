"""Words after which a secret is likely to stand, for lines of which no grammar says what is secret."""

from __future__ import annotations

import re
from collections.abc import Iterable

from oast.records import SHOWN, Fingerprints, Secret

SECRET_WORDS = (
    "password",
    "passwd",
    "passphrase",
    "passcode",
    "pwd",
    "psk",
    "secret",
    "key",
    "community",
    "token",
    "hash",
    "digest",
    "credential",
    "credentials",
    "md5",
    "pin",
)
# What may stand between such a word and the secret.
_BETWEEN = r"[\w.-]*[\s=:,>\]'\"]+"
# A password's hash says by itself what it is (crypt(5); RFC 2307).
_HASHED = re.compile(r"\$[0-9a-z]{1,8}\$[^\s\"'<]+|\{[A-Z0-9-]{2,16}\}[^\s\"'<]{8,}")
_MARK = rf"secret [0-9a-f]{{{SHOWN}}}>"
_MASKED = re.compile(rf"<{_MARK}\s*")


class SecretWords:
    """Masks the text after a word such as `password`: to the end of the line, as one fingerprint.

    A word also counts as the end of another (`authkey`, `snmp-community`), in upper and lower case.
    """

    def __init__(self, words: Iterable[str], fingerprints: Fingerprints) -> None:
        ends = "|".join(sorted(map(re.escape, words), key=len, reverse=True))
        self._after = (
            re.compile(rf"(?!{_MARK})(?:{ends})s?(?![a-z]){_BETWEEN}", re.IGNORECASE) if ends else None
        )
        self._fingerprints = fingerprints

    def line(self, text: str) -> Secret:
        """A whole line as a secret."""
        return self._fingerprints.secret("", text)

    def mask(self, text: str) -> str:
        """`text` without what may be a secret; what was masked stays as it is."""
        found = self._after.search(text) if self._after is not None else None
        if found is None or found.end() == len(text):
            return self._hashed(text)
        rest = text[found.end() :]
        shown = rest if _MASKED.fullmatch(rest) else self._shown(rest)
        return self._hashed(text[: found.end()]) + shown

    def _hashed(self, text: str) -> str:
        return _HASHED.sub(lambda match: self._shown(match[0]), text)

    def _shown(self, text: str) -> str:
        return str(self._fingerprints.secret("", text))
