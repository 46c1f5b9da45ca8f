"""Choose the delivery method of a change by what the platform declares."""

from __future__ import annotations

from typing import cast

from oast.change.methods.base import ChangeRequest, DeliveryMethod
from oast.change.methods.candidate import CandidateMethod
from oast.change.methods.file_edit import FileReplaceMethod
from oast.change.methods.inverse_commands import InverseCommandMethod
from oast.change.methods.netconf import netconf_method
from oast.change.methods.revert_timer import RevertTimerMethod
from oast.change.methods.startup import CliStartupMethod, NetconfStartupMethod
from oast.connect import CommandLine, Session
from oast.connect.netconf import NetconfSession


def method_for(session: Session, work: ChangeRequest) -> DeliveryMethod:
    """Return the method that delivers the change `work` over `session`."""
    if isinstance(session, NetconfSession):
        if work.comparison.manner.into_startup:
            return NetconfStartupMethod(session, work)
        return netconf_method(session, work)
    platform = session.platform
    session = cast(CommandLine, session)
    if work.comparison.manner.into_startup:
        return CliStartupMethod(session, work)
    if platform.timer is not None:
        return RevertTimerMethod(session, work, platform.timer)
    if platform.candidate is not None:
        return CandidateMethod(session, work, platform.candidate)
    if platform.file is not None:
        return FileReplaceMethod(session, work, platform.file)
    return InverseCommandMethod(session, work, platform.scheduled)
