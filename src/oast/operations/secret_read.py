"""Secrets as devices have them, read so that they can be kept and used on others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oast.answer_parsing import parse_if_long
from oast.config import tree_as_listed
from oast.connect import Session
from oast.errors import EstateError, UsageError
from oast.estate import Device, Estate
from oast.fleet import OnEvent, ignore_event
from oast.intent import IntentBuilder
from oast.operations.per_device import run_on_devices
from oast.records import Secret
from oast.spelling import spelling_hint


@dataclass(frozen=True)
class SecretAt:
    """A secret that a device runs with, and the statement it stands in, from the outermost, without it."""

    statement: tuple[str, ...]
    secret: Secret


async def secrets_at(
    estate: Estate, name: str, path: str, timeout_s: float | None = None, on_event: OnEvent = ignore_event
) -> Sequence[SecretAt]:
    """The secrets in the statements at `path` (as `snmp/community`) of what a device runs. Raises UsageError
    for a path at which its platform has no statement, EstateError, DeviceError."""
    device = estate.device(name)
    builder = IntentBuilder(estate)
    platform = builder.platform(device)
    if platform.by_structure:
        raise EstateError(
            f"the platform '{platform.name}' has no grammar, so Oast cannot find secrets in its configuration"
        )
    known = {rule.path for rule in platform.grammar.rules()}
    if path not in known:
        raise UsageError(
            f"the platform '{platform.name}' has no statement '{path}'", hint=spelling_hint(path, known)
        )

    async def one(device: Device, session: Session) -> list[SecretAt]:
        text = await session.read_running()
        tree = await parse_if_long((text,), tree_as_listed, builder.syntax(device), text)
        return [
            SecretAt((*found[:-1], node.text), value)
            for found, node in tree.find(path)
            for value in node.statement.arguments
            if isinstance(value, Secret) and not value.is_forgotten
        ]

    answers, failed, _ = await run_on_devices(estate, [device], builder, one, None, timeout_s, on_event)
    if failed:
        raise failed[0][1]
    return answers[name]
