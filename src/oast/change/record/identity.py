"""Who makes a change, and from which state of the estate."""

from __future__ import annotations

import getpass
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from oast.archive import Git
from oast.errors import EstateError, StateError

VARIABLE = "OAST_IDENTITY"
MOST = 200


@dataclass(frozen=True, slots=True)
class Commit:
    """The commit of the estate that is checked out; `clean` when nothing of what was read is different from
    it."""

    name: str
    clean: bool


def author_identity(folder: Path, environment: Mapping[str, str]) -> str:
    """Who is at work: OAST_IDENTITY, or Git's user.email, or the name one is logged in by. Raises EstateError
    for one that is no line."""
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
    """The estate's commit; None when it is in no repository, has none yet, or there is no git."""
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
