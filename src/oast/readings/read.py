"""Structured state read from a device: a reading's name to its records."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from oast.connect.session import Session
from oast.platforms.load import Platform
from oast.readings.tables import Record, records

Readings = Mapping[str, list[Record]]


async def read(session: Session, platform: Platform, names: Iterable[str]) -> Readings:
    """The readings called `names`, one command each. Raises DeviceError."""
    found: dict[str, list[Record]] = {}
    for name in names:
        definition = platform.readings[name]
        found[name] = records(await session.ask(definition.command), definition)
    return found
