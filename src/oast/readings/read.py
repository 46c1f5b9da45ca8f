"""Structured state read from a device."""

from __future__ import annotations

from collections.abc import Iterable

from oast.connect.session import Session
from oast.platforms.catalogue import READINGS
from oast.platforms.definition import Platform
from oast.readings.records import records
from oast.readings.tables import Readings, Record


async def read(session: Session, platform: Platform, names: Iterable[str]) -> Readings:
    """The readings called `names`, one command each; of what has to be asked for something, as a ping, the name is followed by that.
    Raises DeviceError."""
    found: dict[str, list[Record]] = {}
    for name in names:
        kind, _, asked = name.partition(" ")
        definition = platform.readings[kind]
        asks = READINGS[kind].asks if kind in READINGS else None
        answer = session.listing(definition.command) if asks is None else session.probe(definition.command, {asks: asked})
        found[name] = records(await answer, definition)
    return found
