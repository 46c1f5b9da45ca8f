"""The intended configuration of devices: sections, templates, declared variables, lint and policies."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.intent.intent import Intent as Intent, IntentBuilder as IntentBuilder
    from oast.intent.lint import Lint as Lint
    from oast.intent.policy import Policies as Policies
    from oast.intent.roles import (
        Interface as Interface,
        InterfaceAddress as InterfaceAddress,
        addresses as addresses,
        interfaces as interfaces,
        is_off as is_off,
        ospf_interfaces as ospf_interfaces,
        with_role as with_role,
    )
    from oast.intent.unused_templates import find_unused_templates as find_unused_templates
    from oast.intent.variables import Variable as Variable

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "intent": ("Intent", "IntentBuilder"),
        "lint": ("Lint",),
        "policy": ("Policies",),
        "roles": (
            "Interface",
            "InterfaceAddress",
            "addresses",
            "interfaces",
            "is_off",
            "ospf_interfaces",
            "with_role",
        ),
        "unused_templates": ("find_unused_templates",),
        "variables": ("Variable",),
    },
)
