"""Locks: two runs on one estate exclude each other, device by device, and a run's lock shows whether it is
alive.

A lock ends with its process, however that ends.
"""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from oast.errors import DeviceError, StateError
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
            raise DeviceError(
                f"another run of Oast (process {holder}) is delivering to this device",
                hint="wait for it to end",
            ) from None
        os.ftruncate(handle, 0)
        os.pwrite(handle, str(os.getpid()).encode(), 0)
        yield
    finally:
        os.close(handle)


class RunLock:
    """Held by a run for as long as it lives, however it ends."""

    def __init__(self, working: Path, run: str) -> None:
        self._path = working / "runs" / f"{run}.lock"
        self._handle: int | None = None

    def acquire(self) -> None:
        """Hold the lock until `release`. Raises StateError when another process holds it, OSError."""
        if not self.try_acquire():
            message = f"another process holds {self._path.name}; nothing was started"
            raise StateError(message, hint="wait for that run to end")

    def try_acquire(self) -> bool:
        """Hold the lock if no other process does. Returns whether it is held now. Raises OSError."""
        make_private(self._path.parent)
        while True:
            handle = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                os.close(handle)
                return False
            if self._is_there(handle):
                self._handle = handle
                return True
            # The previous owner has removed the file in the meantime: the next run would lock another file of
            # this name.
            os.close(handle)

    def _is_there(self, handle: int) -> bool:
        try:
            return os.path.samestat(os.fstat(handle), self._path.stat())
        except FileNotFoundError:
            return False

    def is_held(self) -> bool:
        """Whether the run is alive. Raises OSError."""
        if not self._path.exists() or not self.try_acquire():
            return self._path.exists()
        self.release(done=False)
        return False

    def release(self, *, done: bool) -> None:
        """Release the lock. Safe to call again; when the run is `done`, the file is removed."""
        handle, self._handle = self._handle, None
        if handle is not None:
            if done:
                self._path.unlink(missing_ok=True)
            os.close(handle)
