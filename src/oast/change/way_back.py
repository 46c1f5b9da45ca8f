"""The ways in which a device can go back to what it ran before."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from oast.connect.session import Capability
from oast.platforms.definition import Platform


@dataclass(frozen=True, slots=True)
class WayBack:
    """`name` completes "unless confirmed, it goes back by …"; `by_itself` ways need no session and no Oast."""

    name: str
    by_itself: bool

    @property
    def if_silent(self) -> str:
        """What to expect of a device that cannot be reached any more."""
        if self.by_itself:
            return f"look at the device itself: {self.name} should have brought it back"
        return "look at the device itself: it has no way back of its own, and Oast could not reach it to send inverse lines"


REVERT_TIMER = WayBack("its revert timer", by_itself=True)
CONFIRMED_COMMIT = WayBack("its commit that was not confirmed", by_itself=True)
DAEMON_TIMER = WayBack("its daemon's timer", by_itself=True)
FILE_TIMER = WayBack("a timer of Oast's on the device", by_itself=True)
SCHEDULED = WayBack("the restore that Oast schedules on it", by_itself=True)
INVERSE_LINES = WayBack("inverse lines that Oast sends", by_itself=False)


INVERSE_EDITS = WayBack("inverse edits that Oast sends", by_itself=False)
FORMER_STARTUP = WayBack("its former startup, which Oast writes again", by_itself=False)


def way_back_of(platform: Platform, capabilities: Collection[Capability] | None = None) -> WayBack:
    """The way back that the platform declares; where it declares none, Oast has to make one.

    Over NETCONF it is what the session's `capabilities` are that decides.
    """
    if platform.netconf is not None:
        return CONFIRMED_COMMIT if capabilities is None or Capability.REVERT_TIMER in capabilities else INVERSE_EDITS
    if platform.timer is not None:
        return REVERT_TIMER
    if platform.candidate is not None:
        return CONFIRMED_COMMIT
    if platform.file is not None:
        return FILE_TIMER if platform.file.is_own_timer else DAEMON_TIMER
    return SCHEDULED if platform.scheduled is not None else INVERSE_LINES
