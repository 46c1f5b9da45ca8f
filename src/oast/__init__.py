"""Oast renders device configurations, shows what would change, delivers changes with a rollback, and verifies
the result.

The public interface is what `__all__` names; everything else may change. See docs/python.md.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from oast.change import Cause, Outcome, RollbackReason, State
    from oast.errors import (
        AuthenticationFailed,
        ConnectionFailed,
        DeviceError,
        DeviceRefused,
        EstateError,
        HostKeyError,
        OastError,
        ProtocolError,
        StateError,
        UsageError,
    )
    from oast.fleet import DeviceEvent, Stage, WaveEvent
    from oast.operations import (
        DeliveryOptions,
        DeliveryResult,
        LintResult,
        OpenEstate,
        OpenSession,
        Plan,
        Verdict,
        Verification,
        open_estate as open,
    )

__version__ = "0.1.0"

# What is asked for is imported then: `oast --help` needs none of it.
_HOMES = {
    **dict.fromkeys(("Cause", "Outcome", "RollbackReason", "State"), "oast.change.state"),
    **dict.fromkeys(
        (
            "AuthenticationFailed",
            "ConnectionFailed",
            "DeviceError",
            "DeviceRefused",
            "EstateError",
            "HostKeyError",
            "OastError",
            "ProtocolError",
            "StateError",
            "UsageError",
        ),
        "oast.errors",
    ),
    **dict.fromkeys(("DeviceEvent", "Stage", "WaveEvent"), "oast.fleet.events"),
    **dict.fromkeys(("DeliveryOptions", "DeliveryResult", "Plan", "Verdict"), "oast.operations.deliver"),
    **dict.fromkeys(("OpenEstate", "OpenSession"), "oast.operations.interface"),
    "LintResult": "oast.operations.lint",
    "Verification": "oast.operations.verify",
}

__all__ = [
    "AuthenticationFailed",
    "Cause",
    "ConnectionFailed",
    "DeliveryOptions",
    "DeliveryResult",
    "DeviceError",
    "DeviceEvent",
    "DeviceRefused",
    "EstateError",
    "HostKeyError",
    "LintResult",
    "OastError",
    "OpenEstate",
    "OpenSession",
    "Outcome",
    "Plan",
    "ProtocolError",
    "RollbackReason",
    "Stage",
    "State",
    "StateError",
    "UsageError",
    "Verdict",
    "Verification",
    "WaveEvent",
    "open",
]


def __getattr__(name: str) -> Any:
    if name == "open":
        return import_module("oast.operations.interface").open_estate
    if name in _HOMES:
        return getattr(import_module(_HOMES[name]), name)
    raise AttributeError(f"module 'oast' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
