"""Memory while much is built that is kept."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def uncollected() -> Iterator[None]:
    """No passes of the garbage collector inside.

    Trees refer to nothing in a circle, and they are kept: looking through them again and again as they grow cost a tenth
    of the time at 50,000 lines, and more the larger they got.
    """
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.enable()
