"""The order in which devices are delivered to, and who is monitored: waves, stability time, neighbor impact,
rollback runs."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.change.rollout.monitoring import NeighborImpact as NeighborImpact
    from oast.change.rollout.rollback_run import RollbackRun as RollbackRun
    from oast.change.rollout.rollout import (
        DeviceSessionFactory as DeviceSessionFactory,
        Rollout as Rollout,
        RolloutOrder as RolloutOrder,
        new_run_id as new_run_id,
    )
    from oast.change.rollout.stability_time import (
        changes_only_descriptions as changes_only_descriptions,
        is_affected_by as is_affected_by,
        owning_sections as owning_sections,
        stable_for_s as stable_for_s,
    )
    from oast.change.rollout.wave import largest_wave as largest_wave, timer_needed_s as timer_needed_s

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "monitoring": ("NeighborImpact",),
        "rollback_run": ("RollbackRun",),
        "rollout": (
            "DeviceSessionFactory",
            "new_run_id",
            "Rollout",
            "RolloutOrder",
        ),
        "stability_time": (
            "changes_only_descriptions",
            "is_affected_by",
            "owning_sections",
            "stable_for_s",
        ),
        "wave": (
            "largest_wave",
            "timer_needed_s",
        ),
    },
)
