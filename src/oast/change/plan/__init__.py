"""What will change: the comparison of intent with running, its limits and risks, and the stored plan of a
change."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.change.plan.diff import (
        DEFAULT_MODE as DEFAULT_MODE,
        ApplyMode as ApplyMode,
        Comparison as Comparison,
        Datastore as Datastore,
        DiffRunner as DiffRunner,
        Mode as Mode,
        PartialRunningConfig as PartialRunningConfig,
        ReadDevice as ReadDevice,
        RunningConfig as RunningConfig,
        compare as compare,
        comparison_from_record as comparison_from_record,
        edits_between as edits_between,
        inverse_edits as inverse_edits,
    )
    from oast.change.plan.limits import LimitViolation as LimitViolation, limit_violations as limit_violations
    from oast.change.plan.management_access import (
        ManagementMove as ManagementMove,
        access_risks as access_risks,
        interface_by_reading as interface_by_reading,
        is_ancestor_or_same as is_ancestor_or_same,
        management_interfaces as management_interfaces,
    )
    from oast.change.plan.stored_plan import (
        StoredDevicePlan as StoredDevicePlan,
        StoredPlan as StoredPlan,
        current_diff as current_diff,
        fingerprint_key_id as fingerprint_key_id,
        new_devices_document as new_devices_document,
        plan_document as plan_document,
        plan_from as plan_from,
        recorded_diff as recorded_diff,
    )

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "diff": (
            "ApplyMode",
            "compare",
            "Comparison",
            "comparison_from_record",
            "Datastore",
            "DEFAULT_MODE",
            "DiffRunner",
            "edits_between",
            "inverse_edits",
            "Mode",
            "PartialRunningConfig",
            "ReadDevice",
            "RunningConfig",
        ),
        "limits": (
            "LimitViolation",
            "limit_violations",
        ),
        "management_access": (
            "ManagementMove",
            "access_risks",
            "interface_by_reading",
            "is_ancestor_or_same",
            "management_interfaces",
        ),
        "stored_plan": (
            "StoredDevicePlan",
            "StoredPlan",
            "current_diff",
            "fingerprint_key_id",
            "new_devices_document",
            "plan_document",
            "plan_from",
            "recorded_diff",
        ),
    },
)
