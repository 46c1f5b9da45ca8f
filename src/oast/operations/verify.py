"""Verify: what follows from the intents, and the checks of the engineer's own, on live readings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path

from oast.change.rollout import new_run_id
from oast.connect import Connector, Session
from oast.errors import DeviceError
from oast.fleet import Clock, DeviceEvent, OnEvent, Stage, SystemClock, for_each, ignore_event
from oast.intent import Intent
from oast.operations.intent_context import IntentContext, all_checks_of
from oast.readings import OtherValues, Readings, Record, find_other_values, join_counts, read_readings
from oast.records import Place
from oast.verify import Check, CheckResult, Snapshot, evaluate, must_match, snapshot_readings

POLL_S = 0.5


@dataclass(frozen=True)
class Verification:
    """The checks of every device that could be read, and the devices that could not; both in the order of the
    inventory. `point` is the state that they had, where it was asked for."""

    run: str
    logs: Path
    results: Mapping[str, Sequence[CheckResult]]
    failed: tuple[tuple[str, DeviceError], ...]
    point: Snapshot | None = None
    other_values: OtherValues = field(default_factory=dict)
    """Values that the readings do not know."""

    @property
    def every(self) -> list[CheckResult]:
        return [result for results in self.results.values() for result in results]

    @property
    def wrong(self) -> list[CheckResult]:
        return [result for result in self.every if not result.passed and not result.check.is_warning]

    @property
    def warned(self) -> list[CheckResult]:
        """Failed checks that only cause a warning."""
        return [result for result in self.every if not result.passed and result.check.is_warning]


@dataclass(frozen=True)
class Behind:
    """What a check depends on: an intended statement, from the outermost, and its template line; or the place
    of a user-defined check."""

    statement: tuple[str, ...]
    place: Place | None

    def __str__(self) -> str:
        words = " / ".join(self.statement)
        return " ".join(
            filter(None, (words, f"({self.place})" if self.place and words else str(self.place or "")))
        )


def behind(preparation: IntentContext, check: Check) -> Behind:
    """Return what a check of one of the selected devices depends on."""
    intent = next((one for one in preparation.network if one.device.name == check.device), None)
    if check.concerns and intent is not None:
        return Behind(check.concerns[0], intent.place_of(check.concerns[0]))
    return Behind((), check.place)


def checks_for(preparation: IntentContext, sections: Sequence[str]) -> dict[str, list[Check]]:
    """The checks that rest on what `sections` (empty: all) own, or were written for one of them. Raises
    EstateError."""
    found = all_checks_of(preparation, wide=True)
    if not sections:
        return found
    scopes = {intent.device.name: intent.scope for intent in preparation.intents}

    def concerns(check: Check) -> bool:
        return check.section in sections or any(scopes[check.device].covers(path) for path in check.concerns)

    return {name: [check for check in checks if concerns(check)] for name, checks in found.items()}


async def verify_network(
    preparation: IntentContext,
    checks: Mapping[str, Sequence[Check]],
    *,
    wait_s: float = 0.0,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
    clock: Clock | None = None,
    whole: bool = False,
) -> Verification:
    """Check every device, repeatedly until all pass, for `wait_s` seconds at most. Devices that fail are part
    of the result. With `whole`, everything is read that snapshots are compared by."""
    estate, time = preparation.estate, clock or SystemClock()
    connector = Connector(estate, [intent.device for intent in preparation.intents], timeout_s)
    run = new_run_id()
    logs = estate.working / "log" / run
    until = time.now() + wait_s
    found: dict[str, list[CheckResult] | DeviceError] = {}
    states: dict[str, Readings] = {}
    others: dict[str, OtherValues] = {}

    async def one(intent: Intent) -> list[CheckResult]:
        name = intent.device.name
        on_event(DeviceEvent(name, Stage.CONNECTING))
        async with connector.session(intent.device, intent.platform, logs / f"{name}.log", wait_s) as session:
            on_event(DeviceEvent(name, Stage.READING))
            begun, true_since = time.now(), dict[str, float]()
            while True:
                also = snapshot_readings(intent.platform) if whole else ()
                looked = time.now()
                readings = await read_readings(
                    session, intent.platform, sorted({*(check.reading for check in checks[name]), *also})
                )
                results = evaluate(checks[name], readings, session.transcript.masking.hide)
                others[name] = find_other_values({name: chain.from_iterable(readings.values())})
                if not _again(results, begun, looked, time.now(), until, true_since):
                    states[name] = {reading: _hidden(list(readings[reading]), session) for reading in also}
                    return results
                on_event(DeviceEvent(name, Stage.WAITING_FOR_TRUTH))
                await time.sleep(POLL_S)

    def done(intent: Intent, result: list[CheckResult] | DeviceError) -> None:
        found[intent.device.name] = result
        on_event(
            DeviceEvent(
                intent.device.name, Stage.FAILED if isinstance(result, DeviceError) else Stage.VERIFIED
            )
        )

    await for_each(preparation.intents, one, parallel or estate.settings.connection.parallel, done)
    ordered = {intent.device.name: found[intent.device.name] for intent in preparation.intents}
    failed = tuple((name, result) for name, result in ordered.items() if isinstance(result, DeviceError))
    passed = {name: result for name, result in ordered.items() if not isinstance(result, DeviceError)}
    snapshot = _snapshot(states, failed) if whole else None
    return Verification(run, logs, must_match(passed), failed, snapshot, join_counts(others.values()))


def _snapshot(states: Mapping[str, Readings], failed: Iterable[tuple[str, DeviceError]]) -> Snapshot:
    at = datetime.now(UTC).isoformat(timespec="seconds")
    return Snapshot(at, states, {name: error.message for name, error in failed})


def _again(
    results: Sequence[CheckResult],
    begun: float,
    looked: float,
    now: float,
    until: float,
    true_since: dict[str, float],
) -> bool:
    """Return whether to check again: a failed check may still pass, or a passed one has not been stable for
    long enough, from the end of the first reading to the beginning of the last one: from `looked` until
    `now`."""
    again = False
    for result in results:
        check = result.check
        if not result.passed:
            true_since.pop(check.title, None)
            again = again or now + POLL_S <= max(until, begun + check.wait_s)
        elif check.stable_for_s:
            again = looked - true_since.setdefault(check.title, now) < check.stable_for_s or again
    return again


def _hidden(records: list[Record], session: Session) -> list[Record]:
    """Without the secrets that the session knows."""
    hide = session.transcript.masking.hide
    return [
        {name: hide(value) if isinstance(value, str) else value for name, value in record.items()}
        for record in records
    ]
