"""How a change gets onto a device: one module for each way, chosen by what the platform declares.

Each keeps the contract of `Delivery` and believes nothing but what the device shows.
"""

from __future__ import annotations

from typing import cast

from oast.change.strategies.candidate import Candidate
from oast.change.strategies.contract import Delivery, Work
from oast.change.strategies.into_startup import CopiedStartup, WrittenStartup
from oast.change.strategies.inverse_lines import InverseLines
from oast.change.strategies.netconf import netconf_delivery
from oast.change.strategies.timer_then_lines import TimerThenLines
from oast.change.strategies.whole_file import WholeFile
from oast.connect.netconf.session import NetconfSession
from oast.connect.session import CommandLine, Session

__all__ = ["Delivery", "Work", "delivery_for"]


def delivery_for(session: Session, work: Work) -> Delivery:
    """The way in which the change `work` is delivered over `session`."""
    if isinstance(session, NetconfSession):
        if work.comparison.manner.into_startup:
            return CopiedStartup(session, work)
        return netconf_delivery(session, work)
    platform = session.platform
    session = cast(CommandLine, session)
    if work.comparison.manner.into_startup:
        return WrittenStartup(session, work)
    if platform.timer is not None:
        return TimerThenLines(session, work, platform.timer)
    if platform.candidate is not None:
        return Candidate(session, work, platform.candidate)
    if platform.file is not None:
        return WholeFile(session, work, platform.file)
    return InverseLines(session, work, platform.scheduled)
