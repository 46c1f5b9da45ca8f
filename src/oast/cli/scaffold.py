"""A fresh estate from one of those that ship, with secrets of its own beside it, outside what would be
committed."""

from __future__ import annotations

import secrets
import shutil
from pathlib import Path

from oast.errors import UsageError
from oast.files import make_folder, write_whole

NEVER_COMMITTED = ".oast/\n"


def new_folder(folder: Path) -> Path:
    """`folder`, made if need be. Raises UsageError when something is in it."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"{folder} exists already", hint="choose a folder that does not exist")
    make_folder(folder)
    return folder.resolve()


def create_estate(shipped: Path, estate: Path, secrets_file: Path, names: tuple[str, ...]) -> None:
    """Copy the estate `shipped` to `estate`, and write new secrets called `names`, for the owner alone."""
    shutil.copytree(shipped, estate, dirs_exist_ok=True)
    write_whole(estate / ".gitignore", NEVER_COMMITTED)
    lines = "".join(f'{name} = "{secrets.token_urlsafe(12)}"\n' for name in names)
    write_whole(secrets_file, lines, mode=0o600)
