"""Entries of the ledger in canonical JSON, named by their SHA-256 digest; and who writes them."""

from __future__ import annotations

import getpass
import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import rfc8785

from oast.archive import Git
from oast.errors import EstateError, StateError

FORMAT = "oast.ledger/1"
FOLDER = "changes"
CHAIN = re.compile(r"ledger-([0-9a-f]{12})\.jsonl")
CONTENT = re.compile(r"[0-9a-f]{64}\.json")
# The kind of an entry that is about no change: what was missing or altered, and was accepted.
BREAK = "break"
# Entries that end a run: the outcome of its devices is recorded, also when the ledger was altered since the
# run began.
CLOSING = ("ended", "resumed")


def digest(data: bytes) -> str:
    """SHA-256 (FIPS 180-4) in hexadecimal."""
    return hashlib.sha256(data).hexdigest()


def canonical_json(value: Any) -> bytes:
    """`value` in the canonical form of RFC 8785."""
    return rfc8785.dumps(value)


def signed_entry(said: Mapping[str, Any]) -> bytes:
    """What the signer of an entry signs: all of it but the signature."""
    return canonical_json({key: value for key, value in said.items() if key != "signature"})


@dataclass(frozen=True)
class Entry:
    """One line of a chain. `said` is the whole of it; `file` and `line` are where it stands."""

    writer: str
    number: int
    kind: str
    change: str
    at: str
    said: Mapping[str, Any]
    file: str
    line: int

    @classmethod
    def of(cls, said: Mapping[str, Any], writer: str, file: str, line: int) -> Entry:
        """An entry as it stands in a file; what it lacks is empty."""
        number = said.get("number")
        kind, change, at = (str(said.get(key, "")) for key in ("kind", "change", "at"))
        return cls(writer, number if isinstance(number, int) else line, kind, change, at, said, file, line)


@dataclass(frozen=True)
class Finding:
    """What an audit has found: where (file below the estate, line or 0), and what is wrong there."""

    file: str
    line: int
    message: str

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.message}" if self.line else f"{self.file}: {self.message}"


@dataclass(frozen=True)
class Anchor:
    """The head of a chain as recorded outside of the ledger; `where` names the place, such as a tag of the
    archive."""

    writer: str
    number: int
    digest: str
    where: str = ""


def read_entry(path: Path, number: int | None, line: bytes) -> Entry:
    """The entry in a line; the line in the file is its own number where that is not known. Raises
    StateError."""
    try:
        said = json.loads(line)
        at = said["number"] if number is None else number
        return Entry(
            writer_of(path),
            said["number"],
            said["kind"],
            said["change"],
            said["at"],
            said,
            f"{FOLDER}/{path.name}",
            at,
        )
    except (ValueError, KeyError, TypeError):
        where = path if number is None else f"{path}:{number}"
        raise StateError(f"{where} is not a ledger entry", hint="oast change audit") from None


def writer_of(path: Path) -> str:
    """The writer whose chain is in a file, by the file's name."""
    return path.name[len("ledger-") : -len(".jsonl")]


VARIABLE = "OAST_IDENTITY"
MOST = 200


@dataclass(frozen=True, slots=True)
class Commit:
    """The commit of the estate that is checked out; `clean` when nothing of what was read is different from
    it."""

    name: str
    clean: bool


def author_identity(folder: Path, environment: Mapping[str, str]) -> str:
    """Return who runs Oast: OAST_IDENTITY, or Git's user.email, or the login name. Raises EstateError if it
    is not one line."""
    given = environment.get(VARIABLE, "").strip()
    if given:
        if not given.isprintable() or len(given) > MOST:
            raise EstateError(
                f"{VARIABLE} must be one line of at most {MOST} characters, such as an e-mail address"
            )
        return given
    try:
        email = Git(folder, environment).run("config", "user.email", allow=(1,)).strip()
    except StateError:
        email = ""
    if email and email.isprintable() and len(email) <= MOST:
        return email
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "nobody"


def commit_of(folder: Path, environment: Mapping[str, str]) -> Commit | None:
    """Return the estate's commit; None when it is in no repository, has no commit yet, or Git is missing."""
    if not any((above / ".git").exists() for above in (folder.resolve(), *folder.resolve().parents)):
        return None
    git = Git(folder, environment)
    try:
        name = git.run("rev-parse", "HEAD").strip()
        # What Oast itself writes there is not what was read.
        changed = git.run("status", "--porcelain", "--", ".", ":(exclude)changes", ":(exclude).oast").strip()
    except StateError:
        return None
    return Commit(name, not changed)
