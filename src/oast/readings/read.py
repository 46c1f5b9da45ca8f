"""Structured state read from a device."""

from __future__ import annotations

from collections.abc import Iterable

from oast.connect.session import Session
from oast.platforms.definition import Platform
from oast.readings.records import records
from oast.readings.tables import Readings, Record


async def read(session: Session, platform: Platform, names: Iterable[str]) -> Readings:
    """The readings called `names`, one command each. Raises DeviceError."""
    found: dict[str, list[Record]] = {}
    for name in names:
        definition = platform.readings[name]
        found[name] = records(await session.listing(definition.command), definition)
    return found
