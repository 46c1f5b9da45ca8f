"""Two runs on one estate exclude each other, device by device. A lock ends with its process, however that ends."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from oast.errors import DeviceError
from oast.files import make_private


@contextmanager
def device_lock(working: Path, name: str) -> Iterator[None]:
    """Hold the lock of the device `name`. Raises DeviceError when another run holds it."""
    path = working / "locks" / f"{name}.lock"
    make_private(path.parent)
    handle = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            holder = os.read(handle, 20).decode(errors="replace").strip() or "?"
            raise DeviceError(f"another run of Oast (process {holder}) is delivering to it", hint="wait for it to end") from None
        os.ftruncate(handle, 0)
        os.pwrite(handle, str(os.getpid()).encode(), 0)
        yield
    finally:
        os.close(handle)
