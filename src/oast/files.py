"""Files are written whole or not at all."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path


def write_whole(path: Path, content: str | bytes, *, mode: int = 0o644, durable: bool = True) -> None:
    """Replace `path` by `content` in one step: temporary file in the same folder, fsync unless it need not be `durable`, rename.

    Missing folders are made (readable by the owner alone when `mode` is). Raises OSError.
    """
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o755 if mode & 0o044 else 0o700)
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
