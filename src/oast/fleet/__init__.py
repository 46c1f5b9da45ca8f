"""Many devices at the same time: concurrency, events and the clock."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.fleet.concurrency import Clock as Clock, SystemClock as SystemClock, for_each as for_each
    from oast.fleet.events import (
        DeviceEvent as DeviceEvent,
        Event as Event,
        OnEvent as OnEvent,
        Stage as Stage,
        TimerEvent as TimerEvent,
        WaitEvent as WaitEvent,
        WaveEvent as WaveEvent,
        ignore_event as ignore_event,
    )

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "concurrency": (
            "Clock",
            "for_each",
            "SystemClock",
        ),
        "events": (
            "DeviceEvent",
            "Event",
            "OnEvent",
            "Stage",
            "TimerEvent",
            "WaitEvent",
            "WaveEvent",
            "ignore_event",
        ),
    },
)
