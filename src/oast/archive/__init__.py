"""The history of an estate in Git: the commit that a change was made from, and the backups of devices."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.archive.archive import (
        BRANCH as BRANCH,
        RUNNING as RUNNING,
        STARTUP as STARTUP,
        BackupEntry as BackupEntry,
        backup_file as backup_file,
    )
    from oast.archive.backups import Backups as Backups, ConfigSnapshot as ConfigSnapshot
    from oast.archive.git import Git as Git

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "archive": ("BRANCH", "BackupEntry", "RUNNING", "STARTUP", "backup_file"),
        "backups": ("Backups", "ConfigSnapshot"),
        "git": ("Git",),
    },
)
