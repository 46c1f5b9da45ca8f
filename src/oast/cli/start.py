"""The start of the program: until `oast.cli.main` handles signals, Ctrl-C ends the process without a word."""

from __future__ import annotations

import os
import signal
import sys
from types import FrameType

from oast.cli.exit_codes import INTERRUPTED


def _exit(number: int, frame: FrameType | None) -> None:
    os._exit(INTERRUPTED)


def program() -> None:
    """The program as it is installed: like `oast.cli.main.main`, and exits."""
    # While modules are imported, a KeyboardInterrupt would be a traceback, or an error of whatever was being
    # made.
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, _exit)
    from oast.cli.main import main

    sys.exit(main())
