"""What a change means to do, as it is kept: for each device what was intended, what it ran before, and the
difference.

All of it without secrets: of these the fingerprints are kept, and they are put in again from what is at hand
when it is sent.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from oast.change.plan.diff import ApplyMode, Datastore, Mode
from oast.config import (
    Node,
    Pattern,
    Scope,
    canonical,
    difference,
    edits_document,
    root_of,
    tree_document,
    tree_from_document,
    withhold_edits,
    withhold_tree,
    withhold_unknown,
)
from oast.errors import StateError
from oast.platforms import Grammar
from oast.records import Fingerprints

if TYPE_CHECKING:
    from oast.change.plan.diff import Comparison
    from oast.intent import Intent

FORMAT = "oast.plan/1"
# Made into a fingerprint, it tells whether two copies of an estate show the same secret by the same one.
KEY_CHECK = "oast"


@dataclass(frozen=True)
class StoredDevicePlan:
    """What a change does on one device: the part `scope` of its configuration, from `before` to `intended`
    (trees without secrets), as text in `edits`."""

    name: str
    platform: str
    owners: Mapping[str, tuple[Pattern, ...]]
    scope: Scope
    before: Node
    intended: Node
    edits: Sequence[Any]
    added: int
    removed: int
    removals: tuple[tuple[str, ...], ...] = ()


@dataclass(frozen=True)
class StoredPlan:
    """The whole of a change. `key` tells whether its fingerprints are those of this copy of the estate."""

    manner: ApplyMode
    key: str
    devices: Mapping[str, Mapping[str, Any]]

    def __contains__(self, name: str) -> bool:
        return name in self.devices

    def of(self, name: str, grammar: Grammar) -> StoredDevicePlan:
        """What is planned for the device `name`. Raises StateError for what cannot be understood."""
        try:
            return _planned(name, self.devices[name], grammar)
        except (KeyError, IndexError, TypeError, ValueError):
            raise StateError(f"the record of '{name}' cannot be read", hint="oast change audit") from None

    @property
    def digest(self) -> str:
        """What an approval binds to: the difference of every device, and how it is delivered. SHA-256 in
        hexadecimal."""
        return diff_digest(
            self.manner, {name: recorded_diff(device) for name, device in self.devices.items()}
        )


def fingerprint_key_id(fingerprints: Fingerprints) -> str:
    """What tells that two copies of an estate have the same key for fingerprints, and nothing else."""
    return fingerprints.secret("", KEY_CHECK).forgotten().digest


def recorded_diff(device: Mapping[str, Any]) -> Mapping[str, Any]:
    """What an approval binds on a recorded device: what is changed, and what else is saved."""
    return {"edits": device["edits"], "unsaved": device["unsaved"]}


def current_diff(comparison: Comparison) -> Mapping[str, Any]:
    """The same for a device that was just compared."""
    return {
        "edits": edits_document(withhold_edits(comparison.edits)),
        "unsaved": edits_document(withhold_edits(comparison.unsaved)),
    }


def diff_digest(manner: ApplyMode, differences: Mapping[str, Any]) -> str:
    """The digest of exactly this difference of these devices, delivered in this manner."""
    said = {**_manner(manner), "devices": dict(sorted(differences.items()))}
    return hashlib.sha256(json.dumps(said, sort_keys=True, separators=(",", ":")).encode()).hexdigest()


def plan_document(
    comparisons: Iterable[Comparison], manner: ApplyMode, fingerprints: Fingerprints
) -> dict[str, Any]:
    """What would be done on the devices of `comparisons`, to be kept."""
    return {
        "format": FORMAT,
        **_manner(manner),
        "key": fingerprint_key_id(fingerprints),
        "devices": {comparison.name: _document(comparison) for comparison in comparisons},
    }


def new_devices_document(intents: Iterable[Intent], fingerprints: Fingerprints) -> dict[str, Any]:
    """The same for devices that are not there yet: everything that they are going to be is new."""
    devices = {}
    for intent in intents:
        nothing = root_of(intent.platform.grammar)
        intended = withhold_unknown(intent.scope.within(intent.tree))
        devices[intent.device.name] = {
            "platform": intent.platform.name,
            "sections": {name: [list(pattern) for pattern in owned] for name, owned in intent.owners.items()},
            "but_not": [list(pattern) for pattern in intent.scope.excludes],
            "before": [],
            "intended": tree_document(intended),
            "edits": edits_document(difference(nothing, intended)),
            "unsaved": [],
            "added": sum(1 for _ in intended.walk()),
            "removed": 0,
        }
    return {
        "format": FORMAT,
        **_manner(ApplyMode()),
        "key": fingerprint_key_id(fingerprints),
        "devices": devices,
    }


def _manner(manner: ApplyMode) -> dict[str, Any]:
    """The apply mode as text; running is meant where nothing is stated."""
    into = {"into": manner.into} if manner.into_startup else {}
    return {"mode": manner.mode, "remove_unknown": manner.remove_unknown, **into}


def _document(comparison: Comparison) -> dict[str, Any]:
    intent = comparison.intent
    before, intended = comparison.scoped
    before, intended = withhold_tree(before), withhold_unknown(intended)
    return {
        "platform": intent.platform.name,
        "sections": {name: [list(pattern) for pattern in owned] for name, owned in intent.owners.items()},
        "but_not": [list(pattern) for pattern in intent.scope.excludes],
        "before": tree_document(before, besides=intended),
        "intended": tree_document(intended),
        **({"removals": [list(path) for path in intent.removals]} if intent.removals else {}),
        **current_diff(comparison),
        "added": comparison.counts.added,
        "removed": comparison.counts.removed,
    }


def plan_from(document: Any) -> StoredPlan:
    """The plan of a document. Raises StateError for one that cannot be understood."""
    try:
        if document["format"] != FORMAT:
            raise StateError(f"its format is {document['format']}; this version of Oast reads {FORMAT}")
        mode: Mode = "merge" if document["mode"] == "merge" else "replace"
        into: Datastore = "startup" if document.get("into") == "startup" else "running"
        return StoredPlan(
            ApplyMode(mode, bool(document["remove_unknown"]), into),
            str(document["key"]),
            dict(document["devices"]),
        )
    except (KeyError, TypeError, ValueError):
        raise StateError("the record of the change cannot be read", hint="oast change audit") from None


def _planned(name: str, said: Mapping[str, Any], grammar: Grammar) -> StoredDevicePlan:
    owners = {str(section): _patterns(owned) for section, owned in said["sections"].items()}
    intended = root_of(grammar, tree_from_document(said["intended"], grammar))
    return StoredDevicePlan(
        name=name,
        platform=str(said["platform"]),
        owners=owners,
        scope=Scope(
            tuple(pattern for owned in owners.values() for pattern in owned), _patterns(said["but_not"])
        ),
        before=canonical(root_of(grammar, tree_from_document(said["before"], grammar, besides=intended))),
        intended=canonical(intended),
        edits=said["edits"],
        added=int(said["added"]),
        removed=int(said["removed"]),
        removals=_patterns(said.get("removals", ())),
    )


def _patterns(said: Iterable[Iterable[str]]) -> tuple[tuple[str, ...], ...]:
    return tuple(tuple(map(str, pattern)) for pattern in said)
