"""Records of what a device shows nowhere but in its running configuration."""

from __future__ import annotations

from oast.config import Node
from oast.errors import ProtocolError
from oast.platforms import TEXT, ReadingDefinition, ValueKind
from oast.readings.tables import Record
from oast.readings.values import Value, convert
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
    """The value of a statement, or of the leaf below it; its default where it does not stand there."""
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
