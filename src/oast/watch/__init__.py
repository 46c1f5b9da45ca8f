"""Scheduled jobs: when each is due, which alerts its results raise, and how notifications are sent."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.watch.alerts import (
        ERROR as ERROR,
        JOB as JOB,
        REACH as REACH,
        WARNING as WARNING,
        Alert as Alert,
        AlertFinding as AlertFinding,
        AlertKey as AlertKey,
        JobFindings as JobFindings,
        Transition as Transition,
        alerts_from as alerts_from,
    )
    from oast.watch.notifier import Attempt as Attempt, Notifier as Notifier
    from oast.watch.plot import drawn as drawn, figure_of as figure_of
    from oast.watch.schedule import delay_s as delay_s, due_at as due_at, zone_of_machine as zone_of_machine
    from oast.watch.store import Store as Store

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "alerts": (
            "Alert",
            "AlertFinding",
            "AlertKey",
            "ERROR",
            "JOB",
            "JobFindings",
            "REACH",
            "Transition",
            "WARNING",
            "alerts_from",
        ),
        "notifier": ("Attempt", "Notifier"),
        "plot": ("drawn", "figure_of"),
        "schedule": ("delay_s", "due_at", "zone_of_machine"),
        "store": ("Store",),
    },
)
