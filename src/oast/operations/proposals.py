"""Changes that wait: proposed by one, approved by another, and then delivered exactly as they were approved,
or not at all."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from oast.archive import Backups
from oast.change.plan import (
    Datastore,
    StoredPlan as Recorded,
    current_diff,
    fingerprint_key_id,
    plan_document,
    plan_from,
    recorded_diff,
)
from oast.change.record import (
    author_identity,
    canonical_json,
    commit_of,
    digest,
    proposed_text,
    require_valid_approval,
    signed_text,
)
from oast.config import Node, canonical, join_trees, restore_secrets, secrets_by_fingerprint
from oast.errors import ApprovalError, OastError, StateError, UsageError
from oast.estate import Estate
from oast.intent import Intent, IntentBuilder
from oast.operations.changes import (
    APPROVED,
    BEGAN,
    PROPOSED,
    WITHDRAWN,
    Change,
    Changes,
    recorded_plan,
    signers_of,
)
from oast.operations.deliver import Plan
from oast.operations.intent_context import IntentContext, prepare_intents
from oast.operations.raw_commands import with_statements


@dataclass(frozen=True)
class OutdatedDevice:
    """A device on which the difference is not what was proposed any more: then and now, as it is written down
    (see `difference_of`)."""

    device: str
    proposed: Mapping[str, Any]
    now: Mapping[str, Any]


def propose(
    plan: Plan,
    reason: str,
    ticket: str | None,
    origin: str | None = None,
    expect: Sequence[str] = (),
    key: Path | None = None,
) -> str:
    """Write down what `plan` would do, for others to approve, signed with `key` if there is one; the name of
    the change.

    Raises ApprovalError, StateError, EstateError, OSError.
    """
    estate = plan.preparation.estate
    changes = Changes(estate)
    signers = signers_of(estate)
    if key is None and signers.allowed is not None:
        raise ApprovalError("proposals of this estate must be signed", hint="give your SSH key: --sign FILE")
    document = plan_document(plan.to_do, plan.manner, estate.fingerprints)
    commit = commit_of(estate.folder, estate.environment)
    said: dict[str, Any] = {
        "author": author_identity(estate.folder, estate.environment),
        "reason": reason,
        "ticket": ticket,
        "devices": len(plan.to_do),
        "plan": changes.ledger.keep(document),
        "difference": plan_from(document).digest,
        "estate": None if commit is None else {"commit": commit.name, "clean": commit.clean},
        "exceeded": [{"device": one.device, "takes_away": one.what} for one in plan.limit_violations],
    }
    if origin:
        said["origin"] = origin
    if expect:
        said["expect"] = list(expect)
    if key is not None:
        text = proposed_text(plan.run, said["difference"], said["author"])
        said["signature"] = signers.sign(text, key)
        if signers.allowed is not None:
            signers.verify(text, said["signature"], said["author"])
    changes.ledger.append(PROPOSED, plan.run, said)
    return plan.run


def approve(changes: Changes, change: Change, key: Path | None) -> str:
    """Agree to exactly the difference that was proposed, signed with `key` if there is one; who has. Raises
    NotAllowed, StateError."""
    estate = changes.estate
    who = author_identity(estate.folder, estate.environment)
    require_waiting(change)
    if who == change.author:
        raise ApprovalError(
            f"{who} proposed this change and cannot approve it",
            hint="ask another person to approve it; OAST_IDENTITY says who you are",
        )
    difference = recorded_difference(changes, change)
    if difference != change.every(PROPOSED)[0].said.get("difference"):
        raise ApprovalError("its record does not match the proposal", hint="oast change audit")
    said: dict[str, Any] = {"author": who, "difference": difference}
    signers = signers_of(estate)
    if key is not None:
        said["signature"] = signers.sign(signed_text(change.name, difference, who), key)
    elif signers.allowed is not None:
        raise ApprovalError("approvals of this estate must be signed", hint="give your SSH key: --sign FILE")
    try:
        require_valid_approval(change.name, change.every(PROPOSED)[0].said, said, signers)
    except ApprovalError as wrong:
        raise ApprovalError(
            f"the approval would not count: {wrong.message}",
            hint="check that allowed_signers has this key with this identity",
        ) from None
    changes.ledger.append(APPROVED, change.name, said)
    return who


def withdraw(changes: Changes, change: Change, reason: str | None) -> None:
    """It is not to be delivered any more. Raises ApprovalError, StateError."""
    require_waiting(change)
    estate = changes.estate
    changes.ledger.append(
        WITHDRAWN,
        change.name,
        {"author": author_identity(estate.folder, estate.environment), "reason": reason},
    )


def require_waiting(change: Change) -> None:
    """Raises ApprovalError for a change that was delivered or withdrawn."""
    if change.every(BEGAN):
        raise ApprovalError(f"{change.name} was already delivered", hint=f"oast change show {change.name}")
    if change.every(WITHDRAWN):
        raise ApprovalError(f"{change.name} was withdrawn", hint=f"oast change show {change.name}")


@dataclass(frozen=True)
class Approved:
    """A change that may be delivered, as it was recorded. `by` are the people who approved it."""

    change: Change
    recorded: Recorded
    by: tuple[str, ...]
    preparation: IntentContext = field(repr=False)

    def stale(self, plan: Plan) -> list[OutdatedDevice]:
        """Where the difference is another now than when it was proposed. A device that cannot be reached has
        none."""
        found = []
        for comparison in plan.comparisons:
            then, now = recorded_diff(self.recorded.devices[comparison.name]), current_diff(comparison)
            if then != now:
                found.append(OutdatedDevice(comparison.name, then, now))
        return found


def waiting(changes: Changes, word: str, *, again: bool) -> Approved:
    """Return the change to deliver now; with `again`, whatever its outcome was, as a new one that needs a new
    approval where one is required.

    Raises ApprovalError, UsageError, StateError, EstateError.
    """
    estate = changes.estate
    change = changes.one(word)
    if not again:
        require_waiting(change)
    if change.staging is not None:
        raise ApprovalError(
            f"{change.name} stages new devices", hint=f"oast onboard stage --change {change.name}"
        )
    recorded = recorded_plan(changes, change)
    by = approvers(changes, change, needed=estate.settings.delivery.approval and not again)
    return Approved(change, recorded, by, context_from_record(estate, recorded))


def approvers(changes: Changes, change: Change, *, needed: bool) -> tuple[str, ...]:
    """Return who has approved exactly the recorded change. Raises ApprovalError when an approval is missing
    and `needed`, or when the record differs from the proposal; StateError."""
    proposal, signers = change.every(PROPOSED, BEGAN)[0].said, signers_of(changes.estate)
    if recorded_difference(changes, change) != proposal.get("difference"):
        raise ApprovalError("its record does not match the proposal", hint="oast change audit")
    by: list[str] = []
    reasons: list[str] = []
    for entry in change.every(APPROVED):
        try:
            require_valid_approval(change.name, proposal, entry.said, signers)
            by.append(str(entry.said.get("author")))
        except ApprovalError as wrong:
            reasons.append(wrong.message)
    if needed and not by:
        raise ApprovalError(
            f"{change.name} is not approved{': ' if reasons else ''}{'; '.join(reasons)}",
            hint=f"another person approves it: oast change approve {change.name}",
        )
    return tuple(by)


def recorded_difference(changes: Changes, change: Change) -> str:
    """What an approval of a change binds to. Raises StateError."""
    plan = recorded_plan(changes, change).digest
    return plan if change.staging is None else staging_difference(plan, change.staging)


def staging_difference(plan: str, staging: str) -> str:
    """What an approval of new devices binds to: what they are going to be, and what they are given first.
    SHA-256 in hexadecimal."""
    return digest(canonical_json({"plan": plan, "staging": staging}))


def context_from_record(
    estate: Estate, recorded: Recorded, *, before: bool = False, extra: Mapping[str, Node] | None = None
) -> IntentContext:
    """What was intended once, made ready to be delivered, with the secrets that are at hand: those of the
    estate, and in the trees of `extra`. With `before`, what ran before that is what is intended now. Raises
    StateError, EstateError."""
    whole = prepare_intents(estate)
    known = secrets_by_fingerprint([*(intent.tree for intent in whole.network), *(extra or {}).values()])
    if recorded.key != fingerprint_key_id(estate.fingerprints):
        message = "it was recorded by a copy of the estate with a different fingerprint key"
        raise StateError(
            message,
            hint="use the same key in both: copy .oast/fingerprint-key, or set OAST_FINGERPRINT_KEY",
        )
    intents = []
    for name in recorded.devices:
        device = estate.device(name)
        platform, syntax = whole.builder.platform(device), whole.builder.syntax(device)
        planned = recorded.of(name, syntax.grammar)
        if planned.platform != platform.name:
            raise UsageError(
                f"the platform of '{name}' was {planned.platform} when the change was recorded; now it is"
                f" {platform.name}"
            )
        tree = restore_secrets(planned.before if before else planned.intended, known)
        intents.append(
            Intent.of_record(device, platform, tree, planned.scope, planned.owners, planned.removals)
        )
    return with_intents(whole, intents, adds_only=recorded.manner.mode == "merge" and not before)


def with_intents(
    whole: IntentContext, intents: Sequence[Intent], *, adds_only: bool = False
) -> IntentContext:
    """`whole` with `intents` delivered: what must be true of the network follows from these, and outside of
    them from the estate's."""
    others = {intent.device.name: intent for intent in intents}

    def meant(intent: Intent) -> Intent:
        other = others.get(intent.device.name)
        if other is None:
            return intent
        if adds_only:
            return with_statements(intent, other.tree, other.removals)
        parts = (other.scope.outside().within(intent.tree), other.scope.within(other.tree))
        return replace(intent, tree=canonical(join_trees(parts, intent.platform.grammar)))

    return replace(whole, intents=tuple(intents), network=tuple(map(meant, whole.network)))


@dataclass(frozen=True)
class OverlappingChange:
    """A later change of the same parts, and the devices concerned."""

    change: Change
    devices: tuple[str, ...]


def prepared_revert(
    changes: Changes, change: Change, on: str | None
) -> tuple[IntentContext, Recorded, list[OverlappingChange]]:
    """Return what the devices of `change` ran before it, as a change to deliver; and the later changes that
    would be rolled back with it.

    Raises ApprovalError, UsageError, StateError, EstateError.
    """
    if not change.every(BEGAN):
        raise ApprovalError(f"{change.name} was never delivered", hint=f"oast change show {change.name}")
    estate = changes.estate
    recorded = recorded_plan(changes, change)
    touched = {
        d["device"]
        for outcome in changes.outcomes(change)
        for d in outcome["devices"]
        if d["state"] in ("delivered", "unknown")
    }
    picked = {device.name for device in estate.pick(on)} & touched & set(recorded.devices)
    if not picked:
        raise ApprovalError(
            f"{change.name} changed none of these devices", hint=f"oast change show {change.name}"
        )
    recorded = replace(
        recorded, devices={name: device for name, device in recorded.devices.items() if name in picked}
    )
    kept = _kept_before(estate, change, sorted(picked), recorded.manner.into)
    return (
        context_from_record(estate, recorded, before=True, extra=kept),
        recorded,
        _later(changes, change, recorded),
    )


def _kept_before(estate: Estate, change: Change, names: Sequence[str], kind: Datastore) -> dict[str, Node]:
    """What the archive has of the devices from before the change: the secrets that they had then, where these
    were kept."""
    backups = Backups(estate)
    builder = IntentBuilder(estate)
    found: dict[str, Node] = {}
    for entry in change.every(BEGAN):
        try:
            point = backups.archive.point(f"before {entry.said.get('run')}")
            for name, text in backups.texts(point, names, kind).items():
                found[name] = backups.tree(builder.syntax(estate.devices[name]), text)
        except OastError:
            # Without it the secrets may be on the device, or in the estate; missing ones are reported before
            # anything is sent.
            continue
    return found


def _later(changes: Changes, change: Change, recorded: Recorded) -> list[OverlappingChange]:
    found = []
    for other in changes.all():
        if (
            other.name == change.name
            or not other.every(BEGAN)
            or other.every(BEGAN)[0].at <= change.every(BEGAN)[0].at
        ):
            continue
        devices = recorded_plan(changes, other).devices
        same = [
            name
            for name, device in recorded.devices.items()
            if name in devices and same_parts(device["edits"], devices[name]["edits"])
        ]
        if same:
            found.append(OverlappingChange(other, tuple(same)))
    return found


def same_parts(one: Sequence[Any], other: Sequence[Any]) -> bool:
    """Return whether two recorded differences concern the same statements, or one is inside of the other."""
    places = [place_of(edit) for edit in other]
    return any(
        mine[: len(theirs)] == theirs or theirs[: len(mine)] == mine
        for mine in map(place_of, one)
        for theirs in places
    )


def place_of(edit: Any) -> tuple[str, ...]:
    """Where an edit is: the statements around it, and the name of its own."""
    side = edit.get("new") or edit["old"]
    words = side["statement"].split(" ")
    own = side["statement"] if "below" in side or edit["operation"] in ("create", "remove") else words[0]
    return (*edit["path"], own)
