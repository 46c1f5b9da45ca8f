"""What happens on one device: the transaction, its rollback, and its recovery after a crash."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.change.device.context import (
        LossOfContact as LossOfContact,
        ManagementAddress as ManagementAddress,
        RunContext as RunContext,
        TransactionContext as TransactionContext,
    )
    from oast.change.device.crash_recovery import (
        RecoveredTransaction as RecoveredTransaction,
        RecoveryState as RecoveryState,
    )
    from oast.change.device.pre_post_state import (
        PrePostState as PrePostState,
        state_diff as state_diff,
        state_document as state_document,
    )
    from oast.change.device.rollback_recovery import RETRY_S as RETRY_S, RETURN_MARGIN_S as RETURN_MARGIN_S
    from oast.change.device.transaction import DeviceTransaction as DeviceTransaction

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "context": ("LossOfContact", "ManagementAddress", "RunContext", "TransactionContext"),
        "crash_recovery": ("RecoveredTransaction", "RecoveryState"),
        "pre_post_state": ("PrePostState", "state_diff", "state_document"),
        "rollback_recovery": ("RETRY_S", "RETURN_MARGIN_S"),
        "transaction": ("DeviceTransaction",),
    },
)
