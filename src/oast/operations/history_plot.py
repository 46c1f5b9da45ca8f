"""What `oast watch` has found over time, drawn."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from oast.errors import StateError, UsageError
from oast.estate import Estate
from oast.extras import require_extra
from oast.files import write_whole
from oast.operations.changes import BEGAN, Changes
from oast.watch import Store

KINDS = ("png", "svg", "pdf")


def draw_history(estate: Estate, path: Path) -> tuple[int, datetime, datetime]:
    """Draw into `path`. Returns the number of runs, and when the first and the last of them began.

    Raises UsageError when nothing was kept, or for a kind of file that cannot be drawn; StateError; OSError.
    """
    kind = path.suffix.removeprefix(".").lower()
    if kind not in KINDS:
        raise UsageError(
            f"{path} has no known picture format", hint=("use a name that ends in .png, .svg or .pdf")
        )
    require_extra("plot", "drawing the history")
    store = Store(estate.working, looking=True)
    try:
        runs = store.trend(("drift", "verify"))
    finally:
        store.close()
    if not runs:
        hint = "add a job with do = 'drift' or 'verify' to [watch] in oast.toml, and run oast watch"
        raise UsageError("there are no backups yet that could be drawn", hint=hint)
    try:
        deliveries = [
            datetime.fromisoformat(entry.at)
            for change in Changes(estate).all()
            for entry in change.every(BEGAN)
        ]
    except (StateError, ValueError):
        # What is wrong in the ledger is for the audit: the picture does without.
        deliveries = []
    # Only who draws waits for the library that draws.
    from oast.watch import drawn, figure_of

    write_whole(path, drawn(figure_of(estate.settings.name, runs, deliveries), kind))
    return len(runs), runs[0].at, runs[-1].at
