"""The delivery of changes. This package itself exports the states and outcomes that its parts share."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.change.state import (
        CONFIRMED_COMMIT as CONFIRMED_COMMIT,
        DAEMON_TIMER as DAEMON_TIMER,
        FILE_TIMER as FILE_TIMER,
        INVERSE_COMMANDS as INVERSE_COMMANDS,
        INVERSE_EDITS as INVERSE_EDITS,
        PREVIOUS_STARTUP as PREVIOUS_STARTUP,
        REVERT_TIMER as REVERT_TIMER,
        SCHEDULED as SCHEDULED,
        Cause as Cause,
        Outcome as Outcome,
        Phase as Phase,
        RollbackMethod as RollbackMethod,
        RollbackReason as RollbackReason,
        State as State,
        rollback_method_of as rollback_method_of,
    )

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "state": (
            "CONFIRMED_COMMIT",
            "Cause",
            "DAEMON_TIMER",
            "FILE_TIMER",
            "INVERSE_COMMANDS",
            "INVERSE_EDITS",
            "Outcome",
            "PREVIOUS_STARTUP",
            "Phase",
            "REVERT_TIMER",
            "RollbackMethod",
            "RollbackReason",
            "SCHEDULED",
            "State",
            "rollback_method_of",
        ),
    },
)
