"""Password hashes as the simulated devices keep them: $pbkdf2-sha256$ROUNDS$SALT$HASH, both in base64 without
padding."""

from __future__ import annotations

import base64
import hashlib
import hmac
import os

# Few, because a thousand devices share two cores; a device of the real world would take many more.
ROUNDS = 500


def hashed(password: str, salt: bytes | None = None, rounds: int = ROUNDS) -> str:
    """The hash of `password`, with a fresh salt unless one is given."""
    salt = salt or os.urandom(12)
    digest = hashlib.pbkdf2_hmac("sha256", password.encode(), salt, rounds)
    return f"$pbkdf2-sha256${rounds}${_encoded(salt)}${_encoded(digest)}"


def fits(password: str, stored: str) -> bool:
    """Whether `password` is the one that `stored` was made from."""
    parts = stored.split("$")
    if len(parts) != 5 or parts[1] != "pbkdf2-sha256" or not parts[2].isdigit():
        return False
    salt = base64.b64decode(parts[3] + "=" * (-len(parts[3]) % 4))
    return hmac.compare_digest(hashed(password, salt, min(int(parts[2]), 1_000_000)), stored)


def _encoded(data: bytes) -> str:
    return base64.b64encode(data).decode().rstrip("=")
