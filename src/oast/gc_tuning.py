"""Memory while much is built that is kept."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager

SELDOM = (20_000, 20, 20)
_within = 0
_before = gc.get_threshold()


@contextmanager
def gc_relaxed() -> Iterator[None]:
    """Run the garbage collector far less often inside.

    The intents and checks of a thousand devices are in use all the time: scanning them again and again took
    an eighth of the time. Closed sessions are garbage, and are still found. Several tasks may enter it at the
    same time.
    """
    global _within, _before
    if not _within:
        _before = gc.get_threshold()
        gc.set_threshold(*SELDOM)
    _within += 1
    try:
        yield
    finally:
        _within -= 1
        if not _within:
            gc.set_threshold(*_before)


@contextmanager
def gc_disabled() -> Iterator[None]:
    """No passes of the garbage collector inside.

    Trees refer to nothing in a circle, and they are kept: looking through them again and again as they grow
    cost a tenth of the time at 50,000 lines, and more the larger they got.
    """
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.enable()
