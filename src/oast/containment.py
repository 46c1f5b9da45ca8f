"""Containment: files of the estate are inside of the estate, and a symbolic link that leads out of it is not
followed.

Otherwise the author of a proposed change could have a file of the checking machine quoted in an error.
"""

from __future__ import annotations

from pathlib import Path

from oast.errors import EstateError
from oast.records import Place


def leads_out(path: Path, file: str) -> bool:
    """Whether `path`, which is known as `file` (relative to a folder), leads out of that folder through a
    symbolic link."""
    parts = Path(file).parts
    if Path(file).is_absolute() or path.parts[-len(parts) :] != parts or ".." in parts:
        return False
    folder = Path(*path.parts[: -len(parts)])
    return not path.resolve().is_relative_to(folder.resolve())


def require_inside(path: Path, file: str) -> None:
    """Raises EstateError where `path`, which is known as `file` below the estate's folder, leads
    out of it."""
    if leads_out(path, file):
        raise EstateError(
            "the file is a symbolic link out of the estate, and was not read",
            place=Place(file),
            hint="copy the file into the estate",
        )
