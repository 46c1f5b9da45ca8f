"""Readings: structured state from a device, or from its configuration."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from oast.answer_parsing import parse_if_long
from oast.config import Node, read_tree, syntax_of
from oast.connect import Session
from oast.errors import ProtocolError
from oast.platforms import READINGS, TEXT, Platform, ReadingDefinition, ValueKind
from oast.readings.records import records
from oast.readings.tables import Readings, Record
from oast.readings.values import OtherValue, Value, convert
from oast.records import Fingerprints, Secret


def config_readings(running: Node, reading: ReadingDefinition, fingerprints: Fingerprints) -> list[Record]:
    """A record for each of the statements that the reading is about. Raises ProtocolError for a value that
    its field cannot hold."""
    nodes = [node for _, node in running.find(reading.statements or "")]
    return [
        {field: _value(reading, field, leaf, node, fingerprints) for field, leaf in reading.leaves.items()}
        for node in nodes
    ]


def _value(
    reading: ReadingDefinition, field: str, leaf: str, node: Node, fingerprints: Fingerprints
) -> Value:
    value = _argument(node, leaf)
    kind = reading.types.get(field, TEXT)
    if value is None:
        return None
    if kind.kind is ValueKind.FINGERPRINT or not isinstance(value, str):
        return fingerprints.shown(value)
    try:
        return convert(kind, value)
    except ValueError as wrong:
        message = (
            f"'{reading.statements}' of the running configuration has '{value[:60]}' for '{field}', which is"
            f" {wrong}"
        )
        raise ProtocolError(message, hint="check this reading in the platform file") from None


def _argument(node: Node, leaf: str) -> str | Secret | None:
    """Return the value of a statement, or of a leaf inside; its default where the leaf is missing."""
    rule = node.statement.rule
    if leaf:
        path = f"{rule.path}/{leaf}"
        below = next((found for _, found in node.find(path)), None)
        if below is None:
            for name in leaf.split("/"):
                rule = rule.children[name]
            return rule.default[0] if rule.default else None
        node = below
    return next(iter(node.statement.arguments), None)


async def read_readings(session: Session, platform: Platform, names: Iterable[str]) -> Readings:
    """The readings called `names`, one command each, and the running configuration at most once; of what has
    to be asked for something, as a ping, the name is followed by that. Secrets are fingerprints in them.
    Raises DeviceError."""
    found: dict[str, list[Record]] = {}
    running: Node | None = None
    for name in names:
        kind, _, asked = name.partition(" ")
        definition = platform.readings[kind]
        if definition.statements is not None:
            running = running or await read_tree(syntax_of(platform), await session.read_running())
            found[name] = config_readings(running, definition, platform.grammar.fingerprints)
            continue
        asks = READINGS[kind].asks if kind in READINGS else None
        if asks is None:
            secret = [field for field, kind in definition.types.items() if kind.kind is ValueKind.FINGERPRINT]
            answer = await session.listing(definition.command, written_down=not secret)
            found[name] = _hidden(
                await parse_if_long((answer,), records, answer, definition), secret, platform
            )
            _note_others(session, name, found[name])
        else:
            answer = await session.probe(definition.command, {asks: asked})
            found[name] = await parse_if_long((answer,), records, answer, definition)
    return found


def _note_others(session: Session, name: str, found: Iterable[Record]) -> None:
    """Values outside a closed list are in the log once each; they are 'other' in the records."""
    words = Counter(
        (field, value.listed)
        for record in found
        for field, value in record.items()
        if isinstance(value, OtherValue)
    )
    for (field, word), number in words.items():
        session.transcript.note(
            f"{name}: {field} '{word}' is not a known value and counts as 'other' (records: {number})"
        )


def _hidden(found: list[Record], secret: Iterable[str], platform: Platform) -> list[Record]:
    """With fingerprints for what is secret."""
    made = found
    for field in secret:
        shown = platform.grammar.fingerprints.shown
        made = [
            {**record, field: None if (value := record.get(field)) is None else shown(str(value))}
            for record in made
        ]
    return made
