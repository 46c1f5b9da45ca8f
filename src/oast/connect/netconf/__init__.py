"""NETCONF (RFC 6241) over SSH (RFC 6242): framing, messages, operations, capabilities and the session."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.connect.netconf import operations as operations
    from oast.connect.netconf.capabilities import OfferedModule as OfferedModule
    from oast.connect.netconf.session import NetconfSession as NetconfSession, Refused as Refused

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "capabilities": ("OfferedModule",),
        "operations": ("operations",),
        "session": ("NetconfSession", "Refused"),
    },
)
