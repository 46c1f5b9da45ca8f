"""Drift: changes on devices that did not come from Oast, the author of the last change of the same part, and
other deviations."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from oast.archive import BRANCH, BackupEntry, Backups
from oast.change.plan import Comparison
from oast.change.record import Drift, baseline_path, drift_from_baseline, load_baseline, open_runs
from oast.config import Edit, difference, edits_document
from oast.connect import Session
from oast.errors import DeviceError, HostKeyError, OastError, StateError
from oast.estate import Device, Estate
from oast.fleet import OnEvent, ignore_event
from oast.operations.changes import BEGAN, Change, Changes, recorded_plan
from oast.operations.deliver import Plan, compare
from oast.operations.documents import drift_document, place_document, problem_document
from oast.operations.intent_context import IntentContext, policy_violations
from oast.operations.per_device import run_on_devices
from oast.operations.proposals import place_of, same_parts
from oast.readings import read_readings, to_text
from oast.records import Place, Problem

# The author is looked for in this many changes at most.
FAR_BACK = 300
TOUCHED = ("delivered", "unknown")
SYSTEM = "system"
# What the inventory can say of a device that the device itself knows better, and the field that it says it
# in.
TOLD_BY_DEVICE = {"version": "os-release", "serial": "serial-num"}


@dataclass(frozen=True)
class InventoryMismatch:
    """A device that says something else of itself than the inventory does: `attribute` is version
    or serial."""

    device: str
    attribute: str
    meant: str
    found: str | None
    place: Place | None


@dataclass(frozen=True)
class DriftReport:
    """Differences from the last delivery, and other deviations, of the selected devices.

    `since_backup` is what each device runs differently from its last backup, `unkept` the devices whose
    backup cannot be read; `undelivered` are the devices whose intent has also moved on. `left_out` had a
    delivery in the meantime, or were left open by a run: of them nothing can be said.
    """

    plan: Plan
    drifts: tuple[Drift, ...]
    last: Mapping[str, Change]
    policies: tuple[Problem, ...]
    undelivered: tuple[str, ...]
    since_backup: tuple[Drift, ...]
    unlike: tuple[InventoryMismatch, ...]
    left_out: tuple[str, ...]
    unkept: tuple[str, ...]
    failed: tuple[tuple[str, DeviceError], ...]

    @property
    def compared(self) -> tuple[Comparison, ...]:
        """The devices of which something can be said."""
        return tuple(
            comparison for comparison in self.plan.comparisons if comparison.name not in self.left_out
        )

    @property
    def unsaved(self) -> tuple[Comparison, ...]:
        """Those that would start with something else than they run."""
        return tuple(comparison for comparison in self.compared if comparison.unsaved)

    @property
    def host_keys(self) -> tuple[tuple[str, HostKeyError], ...]:
        """Those that show another key than the one they are trusted with, or are not trusted yet."""
        return tuple((name, error) for name, error in self.failed if isinstance(error, HostKeyError))

    @property
    def errors(self) -> tuple[Problem, ...]:
        """The policies that are violated, warnings left aside."""
        return tuple(problem for problem in self.policies if problem.kind == "policy")

    @property
    def wrong(self) -> bool:
        return any(drift.edits for drift in self.drifts) or bool(self.errors or self.unlike)


async def find_drift(
    preparation: IntentContext,
    *,
    limited: bool = False,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
) -> DriftReport:
    """Read the devices that are prepared, and find what has drifted; `limited` to what the prepared sections
    own.

    Raises EstateError, StateError.
    """
    estate = preparation.estate
    before = deliveries(estate.working)
    plan = await compare(preparation, parallel=parallel, timeout_s=timeout_s, on_event=on_event)
    unlike, unasked = await _unlike(
        preparation, [comparison.name for comparison in plan.comparisons], parallel, timeout_s
    )
    out = busy_devices(estate.working, before) & {intent.device.name for intent in preparation.intents}
    found = tuple(drift for drift in drifts(plan, limited=limited) if drift.name not in out)
    compared = [comparison for comparison in plan.comparisons if comparison.name not in out]
    since_backup, unkept = _since_backup(plan, compared)
    return DriftReport(
        plan=plan,
        drifts=found,
        last=last_changes(estate, found),
        policies=tuple(policy_violations(preparation, date.today())),
        undelivered=_undelivered(compared, found),
        since_backup=since_backup,
        unlike=tuple(one for one in unlike if one.device not in out),
        left_out=tuple(name for name in estate.devices if name in out),
        unkept=unkept,
        failed=(*plan.failed, *unasked),
    )


def deliveries(working: Path) -> Mapping[str, object]:
    """Return a token for each device's last delivery and each open run, to be passed to `busy_devices`
    later."""
    files = {
        path.stem: (path.stat().st_mtime_ns, path.stat().st_ino)
        for path in (working / "delivered").glob("*.json")
    }
    return {**files, **dict.fromkeys(_being_delivered(working), "a run")}


def busy_devices(working: Path, before: Mapping[str, object]) -> set[str]:
    """Return the devices of runs that were active `before` or are now, open or not, and those that had a
    delivery in the meantime."""
    after = deliveries(working)
    return {
        name
        for name in before.keys() | after.keys()
        if before.get(name) != after.get(name) or after.get(name) == "a run"
    }


def _being_delivered(working: Path) -> set[str]:
    open_ = open_runs(working)
    return {one.name for left in open_ for one in left.devices} | {
        one.name for left in open_ for one in left.known
    }


def _undelivered(compared: Sequence[Comparison], found: Sequence[Drift]) -> tuple[str, ...]:
    """The devices whose difference from the intent is more than their drift. What was delivered is kept
    without its secrets, so that statements are the same when they look the same."""
    drifted = {drift.name: _places(drift.edits) for drift in found if drift.since is not None}
    return tuple(c.name for c in compared if c.name in drifted and _places(c.edits) - drifted[c.name])


def _places(edits: Sequence[Edit]) -> set[tuple[str, ...]]:
    return {place_of(edit) for edit in edits_document(edits)}


def _since_backup(plan: Plan, compared: Sequence[Comparison]) -> tuple[tuple[Drift, ...], tuple[str, ...]]:
    """What each device of which something was kept runs otherwise than that, and what of it cannot be read,
    and why."""
    preparation = plan.preparation
    backups = Backups(preparation.estate)
    try:
        texts = (
            backups.texts(BackupEntry(None, BRANCH, 0, ""), [c.name for c in compared])
            if backups.archive.blobs()
            else {}
        )
    except OastError as error:
        return (), (error.message,)
    found, unkept = [], []
    for comparison in compared:
        text = texts.get(comparison.name)
        if text is None or text == comparison.running_text:
            continue
        syntax = preparation.syntax_of(comparison.intent)
        try:
            kept = backups.tree(syntax, text)
            # As it would be kept now: with fingerprints where the archive has them.
            now = backups.tree(syntax, backups.as_kept(comparison.name, syntax, comparison.running_text))
        except OastError as error:
            unkept.append(f"{comparison.name}: {error.message}")
            continue
        edits = tuple(difference(kept, now))
        if edits:
            found.append(Drift(comparison.name, None, edits))
    return tuple(found), tuple(unkept)


async def _unlike(
    preparation: IntentContext, reached: Collection[str], parallel: int | None, timeout_s: float | None
) -> tuple[list[InventoryMismatch], tuple[tuple[str, DeviceError], ...]]:
    """What devices say of themselves otherwise than the inventory does, and those that could not be asked.
    Where it says nothing of it, nothing is asked."""
    estate, builder = preparation.estate, preparation.builder
    meant = {
        name: {
            attribute: str(estate.devices[name].attributes[attribute])
            for attribute in TOLD_BY_DEVICE
            if _says(estate, name, attribute)
        }
        for name in reached
        if SYSTEM in builder.platform(estate.devices[name]).readings
    }
    asked = [estate.devices[name] for name, told in meant.items() if told]
    if not asked:
        return [], ()

    async def one(device: Device, session: Session) -> Mapping[str, str | None]:
        [record, *_] = (await read_readings(session, builder.platform(device), [SYSTEM]))[SYSTEM] or [{}]
        return {
            name: to_text(value)
            for name, field in TOLD_BY_DEVICE.items()
            if (value := record.get(field)) is not None
        }

    answers, failed, _ = await run_on_devices(estate, asked, builder, one, parallel, timeout_s, ignore_event)
    found = [
        InventoryMismatch(
            device.name, attribute, value, answers[device.name].get(attribute), device.places.get(attribute)
        )
        for device in asked
        if device.name in answers
        for attribute, value in meant[device.name].items()
        if answers[device.name].get(attribute) != value
    ]
    return found, failed


def _says(estate: Estate, name: str, attribute: str) -> bool:
    return estate.devices[name].attributes.get(attribute) not in (None, "")


def drifts(plan: Plan, *, limited: bool) -> list[Drift]:
    """The drift of every device that was compared; `limited` to what the plan's sections own. Raises
    StateError."""
    return [_drift(plan, comparison, limited=limited) for comparison in plan.comparisons]


def _drift(plan: Plan, comparison: Comparison, *, limited: bool) -> Drift:
    preparation = plan.preparation
    grammar = preparation.syntax_of(comparison.intent).grammar
    delivered = load_baseline(baseline_path(preparation.estate.working, comparison.name), grammar)
    if delivered is None:
        # From intent to running: statements that only the device has were added there.
        return Drift(comparison.name, None, comparison.reverse_edits)
    drift = drift_from_baseline(comparison.name, delivered, comparison.running)
    if not limited:
        return drift
    edits = tuple(edit for edit in drift.edits if comparison.intent.scope.covers(edit.path))
    return Drift(drift.name, drift.since, edits)


def last_changes(estate: Estate, found: Sequence[Drift]) -> Mapping[str, Change]:
    """The last change that was delivered to the same part of each device that has drifted, where there is one
    in the ledger.

    Whatever is wrong in the ledger is for the audit: nothing is said then.
    """
    open_: dict[str, Sequence[object]] = {
        drift.name: edits_document(drift.edits) for drift in found if drift.edits
    }
    touched: dict[str, Change] = {}
    changes = Changes(estate)
    try:
        for change in reversed(changes.all()[-FAR_BACK:] if open_ else []):
            if not open_:
                break
            if not change.every(BEGAN):
                continue
            devices = recorded_plan(changes, change).devices
            reached = {
                d["device"]
                for outcome in changes.outcomes(change)
                for d in outcome["devices"]
                if d["state"] in TOUCHED
            }
            for name in [name for name in open_ if name in reached & set(devices)]:
                if not same_parts(open_[name], devices[name]["edits"]):
                    continue
                touched[name] = change
                del open_[name]
    except StateError:
        pass
    return touched


def drifted_document(found: DriftReport) -> dict[str, Any]:
    """`oast.drift/1`, without its name."""
    last = found.last
    return {
        "devices": [
            {**drift_document(drift), "last_change": last[drift.name].name if drift.name in last else None}
            for drift in found.drifts
        ],
        "policies": [problem_document(problem) for problem in found.policies],
        "unlike": [
            {
                "device": u.device,
                "attribute": u.attribute,
                "meant": u.meant,
                "found": u.found,
                **place_document(u.place),
            }
            for u in found.unlike
        ],
        "undelivered": list(found.undelivered),
        "since_backup": [
            {"device": drift.name, "edits": edits_document(drift.edits)} for drift in found.since_backup
        ],
        "unkept": list(found.unkept),
        "unsaved": [{"device": c.name, "edits": edits_document(c.unsaved)} for c in found.unsaved],
        "host_keys": [name for name, _ in found.host_keys],
        "left_out": list(found.left_out),
        "failed": [{"device": name, "reason": error.message} for name, error in found.failed],
    }
