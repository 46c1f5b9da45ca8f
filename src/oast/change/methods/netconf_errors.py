"""Which statement of a change an error of NETCONF is about (RFC 6241, section 4.3, error-path)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from oast.config.commands import Command

_STEP = re.compile(r"/(?:[\w.-]+:)?(?P<name>[\w.-]+)(?P<keys>(?:\[[^\]]*\])*)")
_KEY = re.compile(r"\[\s*(?:[\w.-]+:)?[\w.-]+\s*=\s*(?:'(?P<single>[^']*)'|\"(?P<double>[^\"]*)\")\s*\]")


def command_for_error(path: str, commands: Sequence[Command]) -> int | None:
    """The number of the command that is nearest to an instance identifier; None when none is below or above it."""
    wanted = list(_levels(path))
    best: int | None = None
    longest = 0
    for number, command in enumerate(commands):
        alike = 0
        for level, identity in zip(wanted, command.path, strict=False):
            if level != _bare(identity):
                break
            alike += 1
        # What stands beside it is not what was meant.
        if alike > longest and alike in (len(wanted), len(command.path)):
            best, longest = number, alike
    return best


def _levels(path: str) -> Sequence[str]:
    found = []
    for step in _STEP.finditer(path):
        keys = [
            next(value for value in (key["single"], key["double"]) if value is not None)
            for key in _KEY.finditer(step["keys"])
        ]
        found.append(" ".join([step["name"], *keys]))
    return found


def _bare(identity: str) -> str:
    """An identity without quotes and without modules before names."""
    name, space, keys = identity.replace('"', "").partition(" ")
    return f"{name.rpartition(':')[2]}{space}{keys}"
