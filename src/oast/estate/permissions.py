"""File permissions of an estate: what others may write into its folder runs with the rights of the user who
opens it."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from oast.errors import UsageError
from oast.estate.settings import SETTINGS_FILE

ROOT_USER = 0
PARTS = ("inventory", "values", "templates", "checks", "policies", "platforms", "intent.yaml")


def check_owned(folder: Path) -> list[str]:
    """Describe what else in the estate others may write, as a warning for the user.

    Raises UsageError where that is the folder itself or its settings: those may run a command.
    """
    for path in (folder, folder / SETTINGS_FILE):
        why = _open_to_others(path)
        if why is not None:
            raise UsageError(
                f"{path} {why}; its settings can run commands", hint=f"if you trust it: --estate {folder}"
            )
    return list(_told(folder))


def _told(folder: Path) -> Iterator[str]:
    for part in PARTS:
        for path in (folder / part, *sorted((folder / part).rglob("*"))):
            why = _open_to_others(path)
            if why is not None:
                yield f"{path.relative_to(folder)} {why}"
                break


def _open_to_others(path: Path) -> str | None:
    """Why what is at `path`, also behind a link, is not only its owner's; None when it is, or when there is
    nothing."""
    try:
        status = path.stat()
    except OSError:
        return None
    link = f" (a link to {path.resolve()})" if path.is_symlink() else ""
    if status.st_uid not in (os.getuid(), ROOT_USER):
        return f"belongs to another user{link}"
    if status.st_mode & stat.S_IWOTH:
        return f"is writable by everyone{link}"
    return None
