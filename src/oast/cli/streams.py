"""The program's own output, when whoever read it went away."""

from __future__ import annotations

import contextlib
import os
import sys


def nobody_reads() -> None:
    """What is still buffered has nowhere to go: from here on it goes there, and ends nothing."""
    with contextlib.suppress(OSError, ValueError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        for stream in (sys.__stdout__, sys.__stderr__):
            if stream is not None:
                os.dup2(nowhere, stream.fileno())
        os.close(nowhere)
