"""What is longer than the screen is looked at a page at a time, with the program that the person has for
that."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
from collections.abc import Callable

from rich.console import Console

from oast.child_environment import without_secrets

# Colours as they are; nothing is wiped away at the end.
DEFAULT = "less -RX"


def paged(out: Console, show: Callable[[Console], None]) -> None:
    """Let `show` print; on a terminal that is too small for it, through $PAGER. Raises OSError when the
    reader has closed it."""
    if not out.is_terminal or not sys.stdin.isatty():
        show(out)
        return
    with out.capture() as captured:
        show(out)
    text = captured.get()
    if text.count("\n") < out.size.height or not _through(os.environ.get("PAGER", DEFAULT), text):
        out.file.write(text)
        out.file.flush()


def _through(command: str, text: str) -> bool:
    """Whether the program has shown it; one that is closed early has."""
    try:
        words = shlex.split(command)
        process = (
            subprocess.Popen(words, stdin=subprocess.PIPE, text=True, env=without_secrets(os.environ))
            if words
            else None
        )
    except (OSError, ValueError):
        return False
    if process is None or process.stdin is None:
        return False
    try:
        process.stdin.write(text)
        process.stdin.close()
    except BrokenPipeError:
        pass
    return process.wait() == 0
