"""The debug log: what Oast decides and why, on stderr or in a file. Nothing in it holds a secret."""

from __future__ import annotations

import logging
import os
import sys
import time
from pathlib import Path

from oast.errors import UsageError

FORMAT = "%(asctime)s.%(msecs)03dZ %(name)s %(message)s"


def start_debug_log(file: Path | None) -> None:
    """Write the debug log to `file`, readable by its owner alone, or to stderr. Raises UsageError."""
    handler: logging.Handler
    if file is None:
        handler = logging.StreamHandler(sys.stderr)
    else:
        try:
            handler = logging.StreamHandler(
                os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600), "a")
            )
        except OSError as error:
            raise UsageError(f"cannot write the debug log {file}: {error.strerror}") from None
    formatter = logging.Formatter(FORMAT, "%Y-%m-%dT%H:%M:%S")
    formatter.converter = time.gmtime
    handler.setFormatter(formatter)
    log = logging.getLogger("oast")
    log.addHandler(handler)
    log.setLevel(logging.DEBUG)
    log.propagate = False
