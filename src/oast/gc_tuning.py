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
    """Fewer passes of the garbage collector inside, by far.

    What a thousand devices are to be, and what must be true of them, is no garbage while they are asked:
    looking through it again and again cost an eighth of the time. Sessions that are over are some, and are
    still found. May be entered by several at once.
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
