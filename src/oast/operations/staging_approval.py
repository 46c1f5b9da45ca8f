"""New devices where approval is needed: their staging is proposed and approved, and the approval covers their
first delivery."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from oast.change.plan import new_devices_document, plan_from
from oast.change.record import author_identity, commit_of, proposed_text
from oast.change.rollout import new_run_id
from oast.errors import ApprovalError, StateError
from oast.estate import Estate
from oast.operations.changes import PROPOSED, STAGED, WITHDRAWN, Change, Changes, recorded_plan, signers_of
from oast.operations.intent_context import IntentContext
from oast.operations.proposals import approvers, context_from_record, require_waiting, staging_difference
from oast.operations.staging import StagedRow, Staging, stage

FORMAT = "oast.staging/1"


def propose_staging(
    estate: Estate, rows: Sequence[StagedRow], reason: str, ticket: str | None, key: Path | None
) -> str:
    """Write down what the devices of `rows` would be given, and what they are going to be, for others to
    approve; the name of the change.

    Signed with `key`, if there is one. Raises ApprovalError, StateError, OSError.
    """
    changes, signers = Changes(estate), signers_of(estate)
    if key is None and signers.allowed is not None:
        raise ApprovalError("proposals of this estate must be signed", hint="give your SSH key: --sign FILE")
    plan, staging = _documents(estate, rows)
    name = new_run_id()
    commit = commit_of(estate.folder, estate.environment)
    kept = changes.ledger.keep(staging)
    said: dict[str, Any] = {
        "author": author_identity(estate.folder, estate.environment),
        "reason": reason,
        "ticket": ticket,
        "devices": len(rows),
        "plan": changes.ledger.keep(plan),
        "staging": kept,
        "difference": staging_difference(plan_from(plan).digest, kept),
        "estate": None if commit is None else {"commit": commit.name, "clean": commit.clean},
        "exceeded": [],
    }
    if key is not None:
        text = proposed_text(name, said["difference"], said["author"])
        said["signature"] = signers.sign(text, key)
        if signers.allowed is not None:
            signers.verify(text, said["signature"], said["author"])
    changes.ledger.append(PROPOSED, name, said)
    return name


def _documents(estate: Estate, rows: Sequence[StagedRow]) -> tuple[dict[str, Any], dict[str, Any]]:
    """What the devices are going to be, and what they are given first; to be kept."""
    intents = [row.intent for row in rows if row.intent is not None]
    devices = {
        row.name: {"serial": row.serial, "attributes": _plain(row), "first": row.first.splitlines()}
        for row in rows
        if row.device is not None
    }
    return new_devices_document(intents, estate.fingerprints), {"format": FORMAT, "devices": devices}


def _plain(row: StagedRow) -> dict[str, Any]:
    attributes = row.device.attributes if row.device is not None else {}
    return {
        key: list(value) if isinstance(value, (list, tuple)) else value for key, value in attributes.items()
    }


def staged_devices(changes: Changes, change: Change) -> Mapping[str, Mapping[str, Any]]:
    """By name, the `serial`, `attributes` and `first` configuration of the devices that a change stages; none
    for another change. Raises StateError."""
    if change.staging is None:
        return {}
    content = changes.ledger.content(change.staging)
    if not isinstance(content, dict) or content.get("format") != FORMAT:
        raise StateError("the record of the new devices cannot be read", hint="oast change audit")
    devices: Mapping[str, Mapping[str, Any]] = content["devices"]
    return devices


def stage_approved(
    folder: Path, environment: Mapping[str, str], estate: Estate, word: str
) -> tuple[Change, list[str]]:
    """Stage the devices of an approved change, with exactly what was approved; the change, and their serial
    numbers.

    Raises ApprovalError when it is not approved, or what the estate says by now is something else;
    StateError, EstateError, UsageError.
    """
    changes = Changes(estate)
    change = changes.one(word)
    if change.staging is None:
        raise ApprovalError(f"{change.name} stages no devices", hint=f"oast push --change {change.name}")
    require_waiting(change)
    approvers(changes, change, needed=estate.settings.delivery.approval)
    staging = Staging(folder, environment)
    rows = staging.rows_of(staged_devices(changes, change), f"change {change.name}")
    wrong = next((row for row in rows if row.device is None), None)
    if wrong is not None:
        raise StateError(f"{wrong.name} cannot be staged: {wrong.wrong[0]}", hint=wrong.hint)
    plan, given = _documents(staging.estate, rows)
    moved = plan_from(plan).digest != recorded_plan(changes, change).digest
    if moved or changes.ledger.content(change.staging) != given:
        message = (
            f"{change.name} is outdated: the configuration of its devices has changed since the approval;"
            " nothing was staged"
        )
        raise ApprovalError(message, hint="propose it again: oast onboard stage FILE")
    serials = stage(folder, rows, change.name)
    changes.ledger.append(
        STAGED, change.name, {"author": author_identity(folder, environment), "serials": serials}
    )
    return change, serials


def first_delivery(estate: Estate, name: str, devices: Sequence[str]) -> IntentContext:
    """What was approved for `devices` as the change `name`, made ready to be delivered. Raises ApprovalError,
    StateError, EstateError."""
    changes = Changes(estate)
    change = changes.one(name)
    if change.every(WITHDRAWN):
        raise ApprovalError(
            f"{change.name} was withdrawn", hint="stage the device again: oast onboard stage FILE"
        )
    approvers(changes, change, needed=estate.settings.delivery.approval)
    recorded = recorded_plan(changes, change)
    return context_from_record(
        estate, replace(recorded, devices={one: recorded.devices[one] for one in devices})
    )
