"""Files are written whole or not at all; folders of working data are for their owner alone; writers of one
file take turns."""

from __future__ import annotations

import fcntl
import os
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

TURN_AT_MOST_S = 20.0
OTHERS = 0o077


def write_whole(path: Path, content: str | bytes, *, mode: int = 0o644, durable: bool = True) -> None:
    """Replace `path` by `content` in one step: temporary file in the same folder, fsync unless it need not be
    `durable`, rename.

    Missing folders are made (readable by the owner alone when `mode` is). Raises OSError.
    """
    if mode & OTHERS:
        make_folder(path.parent)
    else:
        make_private(path.parent)
    data = content.encode() if isinstance(content, str) else content
    handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            if durable:
                os.fsync(file.fileno())
        Path(temporary).chmod(mode)
        Path(temporary).replace(path)
    except BaseException:
        Path(temporary).unlink(missing_ok=True)
        raise


def make_folder(folder: Path, mode: int = 0o755) -> None:
    """Make `folder` and what it lies in, as far as they are missing; others may write there under no umask.
    Raises OSError."""
    if not folder.is_dir():
        make_folder(folder.parent, mode)
        folder.mkdir(mode=mode, exist_ok=True)


def make_private(folder: Path) -> None:
    """Make `folder` and what it lies in, as far as they are missing, for their owner alone.
    Raises OSError."""
    make_folder(folder, 0o700)


def make_tree_private(folder: Path) -> bool:
    """Take from others the right to look into `folder`, where they have it; whether they had.
    Raises OSError."""
    try:
        mode = folder.stat().st_mode
    except FileNotFoundError:
        return False
    if not mode & OTHERS:
        return False
    folder.chmod(mode & 0o7777 & ~OTHERS)
    return True


@contextmanager
def directory_lock(folder: Path, at_most_s: float = TURN_AT_MOST_S) -> Iterator[None]:
    """While in it, no other process is: for reading a file below `folder`, changing it and writing it again.

    The folder itself is locked, so that nothing is left behind. Raises TimeoutError after `at_most_s`
    seconds, and OSError.
    """
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    until = time.monotonic() + at_most_s
    try:
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > until:
                    raise TimeoutError(f"another program holds {folder}") from None
                time.sleep(0.05)
        yield
    finally:
        os.close(handle)
