"""What a job of `oast watch` does, and what it has found: backup, drift, verify."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import replace

from oast.change.record import canonical_json, devices_in_unknown_state, digest
from oast.config import Edit, counts, edits_document
from oast.errors import DeviceError, OastError
from oast.estate import BACKUP, DRIFT, Estate, JobSettings
from oast.operations.backups import backup
from oast.operations.drift import DriftReport, InventoryMismatch, busy_devices, deliveries, find_drift
from oast.operations.intent_context import prepare_intents
from oast.operations.verify import behind, checks_for, verify_network
from oast.records import Problem
from oast.verify import CheckResult, root_causes
from oast.watch import ERROR, JOB, REACH, WARNING, AlertFinding, AlertKey, JobFindings

# The subjects of findings, beside JOB and REACH.
DRIFTED, UNSAVED, UNLIKE, POLICY, CHECK, REMOTE, LEFT = (
    "drift",
    "unsaved",
    "inventory",
    "policy",
    "check",
    "remote",
    "left",
)


async def run_job(estate: Estate, job: JobSettings) -> JobFindings:
    """Do what `job` says, with the estate as it is now. Raises OastError when it cannot be done at all."""
    if job.does == BACKUP:
        return await _backup(estate, job)
    return await (_drift(estate, job) if job.does == DRIFT else _verify(estate, job))


def failed_whole(job: JobSettings, error: str) -> JobFindings:
    """The job could not be done at all: that, and nothing of any device, is known."""
    return JobFindings(
        (AlertFinding(AlertKey(JOB, "", job.name), f"cannot run the job: {error}"),),
        (),
        {},
        f"failed: {error}",
    )


def describe_result(error: OastError) -> str:
    """The error in one line, with its place and how many more there are."""
    first, *more = error.problems()
    place = f"{first.place}: " if first.place else ""
    return f"{place}{first.message}{f' (and {len(more)} more)' if more else ''}"


async def _backup(estate: Estate, job: JobSettings) -> JobFindings:
    result = await backup(estate, job.on, why=f"on schedule: {job.name}")
    findings = _unreached(result.failed)
    if result.unpushed is not None:
        findings.append(
            AlertFinding(
                AlertKey(REMOTE, ""), f"the archive could not be pushed to its remote: {result.unpushed}"
            )
        )
    new = f"saved as {result.commit[:12]}" if result.commit else "nothing has changed"
    measures = {"devices": len(result.read), "failed": len(result.failed)}
    return JobFindings(
        tuple(findings),
        frozenset(result.read),
        measures,
        _told(f"{_plural(len(result.read), 'device')} read, {new}", result.failed),
        whole=(REMOTE,),
        inventory=frozenset(estate.devices),
    )


def _unlike(one: InventoryMismatch) -> AlertFinding:
    found = one.found if one.found is not None else "says nothing"
    told = f"the inventory has {one.meant}, the device {found}"
    key = AlertKey(UNLIKE, one.device, one.attribute)
    return AlertFinding(key, told, place=str(one.place or ""), state=one.found or "")


async def _drift(estate: Estate, job: JobSettings) -> JobFindings:
    found = await find_drift(await asyncio.to_thread(prepare_intents, estate, job.on))
    failed = [(name, error) for name, error in found.failed if name not in found.left_out]
    findings = [*_unreached(failed), *_left(estate, found.left_out)]
    unsaved = {comparison.name for comparison in found.unsaved}
    for drift in found.drifts:
        if drift.edits:
            change = counts(drift.edits)
            against = "since the baseline" if drift.since else "from the intent (never delivered)"
            last = found.last.get(drift.name)
            who = f"; last change of this part: {last.name} by {last.author}" if last else ""
            saved = "; not saved" if drift.name in unsaved else ""
            told = f"+{change.added} -{change.removed} {against}: {_first_of(drift.edits)}{saved}{who}"
            state = digest(canonical_json(edits_document(drift.edits)))
            findings.append(AlertFinding(AlertKey(DRIFTED, drift.name), told, state=state))
    # What was changed by hand is seldom saved: that is one thing to look at, and not two.
    by_hand = {drift.name for drift in found.drifts if drift.edits}
    for comparison in found.unsaved:
        if comparison.name not in by_hand:
            told = f"unsaved changes: {_first_of(comparison.unsaved)}"
            state = digest(canonical_json(edits_document(comparison.unsaved)))
            findings.append(AlertFinding(AlertKey(UNSAVED, comparison.name), told, WARNING, state=state))
    findings += [_unlike(one) for one in found.unlike]
    findings += [_policy(problem) for problem in found.policies]
    drifted = len(by_hand)
    measures = {
        "devices": len(found.drifts),
        "drifted": drifted,
        "unsaved": len(found.unsaved),
        "unlike": len(found.unlike),
        "violations": len(found.errors),
        "failed": len(failed),
    }
    told = f"{drifted} of {_plural(len(found.drifts), 'device')} drifted"
    return _without_secrets(
        estate,
        JobFindings(
            tuple(findings),
            _looked_at(found),
            measures,
            _told(told, failed, found.left_out),
            whole=(POLICY,),
            follows=frozenset(AlertKey(UNSAVED, name) for name in by_hand & unsaved),
            inventory=frozenset(estate.devices),
        ),
    )


def _looked_at(found: DriftReport) -> frozenset[str]:
    return frozenset(comparison.name for comparison in found.compared) - {name for name, _ in found.failed}


async def _verify(estate: Estate, job: JobSettings) -> JobFindings:
    preparation = await asyncio.to_thread(prepare_intents, estate, job.on)
    before = deliveries(estate.working)
    found = await verify_network(preparation, checks_for(preparation, ()), wait_s=job.wait_s)
    picked = {intent.device.name for intent in preparation.intents}
    # A device with a delivery in progress is between two states; that delivery judges its checks.
    left_out = tuple(sorted(busy_devices(estate.working, before) & picked))
    results = {name: of_it for name, of_it in found.results.items() if name not in left_out}
    failed = [(name, error) for name, error in found.failed if name not in left_out]
    findings = [*_unreached(failed), *_left(estate, left_out)]
    untrue = [result for of_it in results.values() for result in of_it if not result.passed]
    # Nor is it told of a neighbour what it sees of such a device.
    wrong = [result for result in untrue if result.check.peer not in left_out]
    roots = root_causes(wrong)
    for root in roots:
        result = root.result
        place = str(behind(preparation, result.check))
        severity = WARNING if result.check.is_warning else ERROR
        follow = (
            f" (and {_plural(len(root.follows), 'other check')} failed because of it)" if root.follows else ""
        )
        told = f"{result.difference}{follow}"
        findings.append(AlertFinding(_key_of(result), told, severity, place))
    measures = {
        "devices": len(results),
        "checks": sum(map(len, results.values())),
        "wrong": len([result for result in wrong if not result.check.is_warning]),
        "warned": len([result for result in wrong if result.check.is_warning]),
        "failed": len(failed),
    }
    told = _true(measures, wrong)
    follows = frozenset(_key_of(result) for result in untrue) - {_key_of(root.result) for root in roots}
    return _without_secrets(estate, JobFindings(
        tuple(findings), frozenset(results), measures, _told(told, failed, left_out),
        follows=follows, inventory=frozenset(estate.devices),
    ))  # fmt: skip


def _key_of(result: CheckResult) -> AlertKey:
    return AlertKey(CHECK, result.check.device, result.check.title)


def _true(measures: dict[str, int], wrong: Sequence[CheckResult]) -> str:
    if not wrong:
        return f"all {measures['checks']} checks of {_plural(measures['devices'], 'device')} passed"
    return f"{_plural(len(wrong), 'check')} of {measures['checks']} failed"


def _unreached(failed: Sequence[tuple[str, DeviceError]]) -> list[AlertFinding]:
    return [
        AlertFinding(AlertKey(REACH, name), error.message, state=type(error).__name__)
        for name, error in failed
    ]


def _left(estate: Estate, left_out: Sequence[str]) -> list[AlertFinding]:
    """Return those of the left out devices that no run works on any more: an interrupted run left them
    open."""
    flying = devices_in_unknown_state(estate.working)
    return [
        AlertFinding(
            AlertKey(LEFT, name),
            f"run {flying[name].run} left it in an unknown state; recover the run with: oast change recover",
            state=flying[name].run,
        )
        for name in left_out
        if name in flying
    ]


def _policy(problem: Problem) -> AlertFinding:
    named = ", ".join(problem.devices[:4]) + (
        f" and {len(problem.devices) - 4} more" if len(problem.devices) > 4 else ""
    )
    place = str(problem.place or "")
    severity = ERROR if problem.kind == POLICY else WARNING
    return AlertFinding(
        AlertKey(POLICY, "", f"{place} {problem.message}".strip()),
        f"{problem.message}{f' (for {named})' if named else ''}",
        severity,
        place,
    )


def _told(result: str, failed: Sequence[object], left_out: Sequence[str] = ()) -> str:
    parts = [result]
    if failed:
        parts.append(f"{len(failed)} unreachable")
    if left_out:
        parts.append(f"{len(left_out)} skipped, because a running or interrupted delivery includes them")
    return ", ".join(parts)


def _first_of(edits: Sequence[Edit]) -> str:
    """Where the first of them is, with fingerprints in place of secrets, and how many more there are."""
    first = edits_document(edits)[0]
    statement = (first.get("new") or first["old"])["statement"]
    return " / ".join([*first["path"], statement]) + (f" and {len(edits) - 1} more" if len(edits) > 1 else "")


def _plural(number: int, noun: str) -> str:
    return f"{number} {noun}" if number == 1 else f"{number} {noun}s"


def _without_secrets(estate: Estate, found: JobFindings) -> JobFindings:
    hide = estate.fingerprints.hide

    def hidden(one: AlertFinding) -> AlertFinding:
        return replace(one, key=replace(one.key, what=hide(one.key.what)), told=hide(one.told))

    return replace(found, findings=tuple(hidden(finding) for finding in found.findings))
