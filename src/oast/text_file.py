"""Text files that engineers wrote: regular files in UTF-8, inside the estate, and not too large."""

from __future__ import annotations

import os
import stat
import tomllib
from fnmatch import fnmatchcase
from pathlib import Path

from oast.containment import require_inside
from oast.errors import EstateError
from oast.records import Place

# A larger file is a mistake, such as a listing that was saved in the wrong folder; `large_files` allows more.
MAX_BYTES = 5_000_000
LARGE_FILES = "large_files"
_KINDS = (
    (stat.S_ISDIR, "a folder"),
    (stat.S_ISFIFO, "a named pipe"),
    (stat.S_ISSOCK, "a socket"),
    (stat.S_ISCHR, "a device file"),
    (stat.S_ISBLK, "a device file"),
)


def read_text_file(path: Path, file: str) -> str:
    """Read the text at `path`, which is called `file` in errors (relative to the estate). A byte order mark
    is not part of it.

    Raises FileNotFoundError; EstateError for everything else that cannot be read as text of the estate.
    """
    require_inside(path, file)
    try:
        # Opening a named pipe would otherwise wait until another program writes to it.
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        raise
    except OSError as error:
        kind = special_file(path)
        reason = f"it is {kind}, not a file" if kind else error.strerror
        raise EstateError(f"cannot read the file: {reason}", place=Place(file)) from None
    try:
        status = os.fstat(handle)
        kind = _kind(status.st_mode)
        if kind is not None:
            raise EstateError(
                f"cannot read the file: it is {kind}, not a file",
                place=Place(file),
                hint="move it out of the estate",
            )
        if status.st_size > MAX_BYTES and not _is_allowed(path, file):
            raise EstateError(
                f"the file has {status.st_size / 1e6:.1f} MB, more than {MAX_BYTES / 1e6:.0f} MB",
                place=Place(file),
                hint=f'move it out of the estate, or allow it in oast.toml: {LARGE_FILES} = ["{file}"]',
            )
        with os.fdopen(os.dup(handle), "rb") as opened:
            data = opened.read()
    except OSError as error:
        raise EstateError(f"cannot read the file: {error.strerror}", place=Place(file)) from None
    finally:
        os.close(handle)
    return _decoded(data, file)


def special_file(path: Path) -> str | None:
    """What `path` is, if it is neither a regular file nor missing: "a named pipe", for example."""
    try:
        return _kind(path.stat().st_mode)
    except OSError:
        return None


def _kind(mode: int) -> str | None:
    """The kind of something that is not a regular file; None for a regular one."""
    return next((name for is_kind, name in _KINDS if is_kind(mode)), None)


def _is_allowed(path: Path, file: str) -> bool:
    """Whether the settings of the estate allow this file to be large."""
    parts = Path(file).parts
    if Path(file).is_absolute() or path.parts[-len(parts) :] != parts:
        return True  # It is not of an estate: the user gave it on the command line.
    settings = Path(*path.parts[: -len(parts)], "oast.toml")
    try:
        allowed = tomllib.loads(settings.read_text(encoding="utf-8")).get(LARGE_FILES)
    except (OSError, ValueError, RecursionError):
        return False
    return isinstance(allowed, list) and any(
        isinstance(one, str) and fnmatchcase(file, one) for one in allowed
    )


def _decoded(data: bytes, file: str) -> str:
    if data.startswith((b"\xff\xfe", b"\xfe\xff")) or (data[:64].count(0) * 3 >= len(data[:64]) > 1):
        raise EstateError("the file is UTF-16 text, not UTF-8", place=Place(file, 1), hint="save it as UTF-8")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise EstateError(
            f"the file is not UTF-8 text: byte 0x{data[error.start]:02x} in line {line}",
            place=Place(file, line),
            hint="save it as UTF-8",
        ) from None
    # Universal line ends, as open() has them.
    return text.replace("\r\n", "\n").replace("\r", "\n")
