"""Compare and deliver: a plan says what would change; delivering it keeps policies, the shortest timer, and a
record of the run."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import date
from enum import StrEnum
from functools import cached_property, partial
from pathlib import Path
from typing import Any

from oast.change import Cause, Outcome, State
from oast.change.device import RunContext
from oast.change.plan import DEFAULT_MODE, ApplyMode, Comparison, DiffRunner, LimitViolation, limit_violations
from oast.change.record import devices_in_unknown_state, unknown_state_error
from oast.change.rollout import (
    NeighborImpact,
    RollbackRun,
    Rollout,
    RolloutOrder,
    largest_wave,
    new_run_id,
    stable_for_s,
    timer_needed_s,
)
from oast.config import Node, apply_edits
from oast.connect import Connector
from oast.errors import DeviceError, EstateError, UsageError
from oast.estate import DeliverySettings, Device, LimitSettings
from oast.files import write_whole
from oast.fleet import Clock, Event, OnEvent, SystemClock, ignore_event
from oast.operations.change_recorder import ChangeInfo, ChangeRecorder
from oast.operations.documents import difference_document, outcome_document
from oast.operations.intent_context import IntentContext, all_checks_of, policy_violations
from oast.platforms import Platform
from oast.readings import OtherValues, Readings, join_counts
from oast.records import Problem
from oast.spelling import spelling_hint
from oast.verify import (
    Cable,
    Check,
    ExpectedLoss,
    IntentFacts,
    at_least,
    devices_within_hops,
    facts_removed,
    regression_checks_of,
)


def neighbor_impact_of(
    preparation: IntentContext,
    comparisons: Sequence[Comparison],
    connector: Connector,
    settings: DeliverySettings,
    expect: Sequence[ExpectedLoss],
) -> NeighborImpact | None:
    """Return what monitors the neighbors of the changing devices in `comparisons`; None when there are
    none."""
    estate = preparation.estate
    hops = settings.neighbor_hops
    changing = [one for one in comparisons if one.edits and not one.manner.into_startup]
    if not hops or not changing:
        return None
    cables: dict[Cable, Cable] = {}
    for link in estate.links:
        cables[link.one], cables[link.other] = link.other, link.one
    without = facts_removed(
        [(_as(one, one.running), _as(one, apply_edits(one.edits, one.running))) for one in changing], cables
    )

    def checks_of(name: str, readings: Readings) -> Iterable[Check]:
        return regression_checks_of(name, readings, without, expect)

    def near(names: Iterable[str]) -> set[str]:
        return devices_within_hops(names, cables, cables.__getitem__, hops)

    return NeighborImpact(connector, preparation.network, near, checks_of, settings.parallel)


def _as(comparison: Comparison, tree: Node) -> IntentFacts:
    return IntentFacts(replace(comparison.intent, tree=tree))


# A timer shorter than the checks and this would run out in the middle of every delivery.
LEAST_SPARE_S = 3.0
# It stands in a line of the ledger, and in a row of a table.
LONGEST_REASON = 2000


class Verdict(StrEnum):
    """The outcome of a delivery as a whole: the worst outcome of any device."""

    DONE = "done"
    REVERTED = "reverted"
    FAILED = "failed"
    INTERRUPTED = "interrupted"


@dataclass(frozen=True)
class DeliveryOptions:
    """How to deliver; None means the value in oast.toml. Times are in seconds. `allow_removals` also allows
    removals beyond the limits. Devices up to `neighbor_hops` links away must keep what they had, except for
    losses that are `expect`ed. With `split_waves`, a wave that would not fit into the revert timer is
    delivered in several."""

    revert_timer_s: float | None = None
    verify_timeout_s: float | None = None
    max_failures: int | None = None
    one_wave: bool | None = None
    parallel: int | None = None
    allow_removals: bool = False
    expect: tuple[ExpectedLoss, ...] = ()
    neighbor_hops: int | None = None
    split_waves: bool | None = None


@dataclass(frozen=True)
class Forecast:
    """How long a wave may take, in seconds, from how long comparing took, and the revert timer that it would
    have otherwise."""

    devices: int
    """Devices of the largest wave."""
    needed_s: float
    timer_s: float
    waves: int = 1
    """How many waves there are."""
    unsplit: int = 1
    """How many there would be if none were split because of the timer."""

    @property
    def fits(self) -> bool:
        """Whether the wave can be loaded, checked and confirmed before the timer expires."""
        return self.needed_s <= self.timer_s


@dataclass(frozen=True)
class DeliveryResult:
    """One run: the outcome of every device, in order; `interrupted` when it was cancelled.

    `unrecorded` is the reason if the record of the run could not be written. `unwatched` are neighbors that
    could not be read before the change, so that their losses are unknown.
    """

    run: str
    reason: str
    ticket: str | None
    outcomes: tuple[Outcome, ...]
    interrupted: bool = False
    unrecorded: str | None = None
    unwatched: tuple[str, ...] = ()
    other_values: OtherValues = field(default_factory=dict)
    """Values that the readings before and after the change do not know."""

    @property
    def verdict(self) -> Verdict:
        if self.interrupted:
            return Verdict.INTERRUPTED
        if any(o.cause is Cause.FAILED or o.state is State.UNKNOWN for o in self.outcomes):
            return Verdict.FAILED
        return Verdict.REVERTED if any(o.cause is Cause.CHECKS for o in self.outcomes) else Verdict.DONE

    def document(self) -> dict[str, Any]:
        """The run as plain data: `oast.push/2`."""
        return push_document(self.run, self.reason, self.ticket, self.outcomes)


def push_document(
    run: str | None, reason: str | None, ticket: str | None, outcomes: Sequence[Outcome]
) -> dict[str, Any]:
    """A run, or one that did not take place, as plain data."""
    devices = [outcome_document(outcome) for outcome in outcomes]
    return {"format": "oast.push/2", "run": run, "reason": reason, "ticket": ticket, "devices": devices}


@dataclass
class Plan:
    """The differences of the selected devices. `failed` devices could not be read or compared; the order is
    that of the inventory.

    `change` is the recorded change that it delivers, `origin` a related change as text, such as the one it
    rolls back.

    Use as an asynchronous context, or call `close`: sessions with the devices may be open until the delivery.
    """

    preparation: IntentContext
    manner: ApplyMode
    run: str
    comparisons: tuple[Comparison, ...]
    failed: tuple[tuple[str, DeviceError], ...]
    checks: Mapping[str, Sequence[Check]]
    _connector: Connector
    _comparing: DiffRunner
    _clock: Clock = field(default_factory=SystemClock)
    change: str | None = None
    origin: str | None = None
    # How long it took to compare all of them, in seconds.
    compare_s: float = 0.0

    @property
    def different(self) -> tuple[Comparison, ...]:
        """The devices that would change."""
        return tuple(comparison for comparison in self.comparisons if comparison.edits)

    @property
    def unsaved(self) -> tuple[Comparison, ...]:
        """The devices that would start with something else than they run."""
        return tuple(comparison for comparison in self.comparisons if comparison.unsaved)

    @property
    def to_do(self) -> tuple[Comparison, ...]:
        """The devices that a delivery changes, or saves."""
        return tuple(comparison for comparison in self.comparisons if comparison.edits or comparison.unsaved)

    @cached_property
    def limit_violations(self) -> tuple[LimitViolation, ...]:
        """What would be taken away beyond the limits of oast.toml."""
        limits = self.preparation.estate.settings.delivery.limits
        return tuple(one for comparison in self.different for one in limit_violations(comparison, limits))

    @property
    def logs(self) -> Path:
        """Where the transcripts of this run are."""
        return self.preparation.estate.working / "log" / self.run

    @property
    def warnings(self) -> list[Problem]:
        """What the devices picked violate, though not so that nothing may be sent. Raises EstateError."""
        return [
            problem for problem in policy_violations(self.preparation, date.today()) if problem.is_warning
        ]

    def document(self) -> dict[str, Any]:
        """The plan as plain data, for a file or another process: `oast.diff/2`."""
        return {
            "format": "oast.diff/2",
            "run": self.run,
            **({"into": self.manner.into} if self.manner.into_startup else {}),
            "devices": [difference_document(comparison) for comparison in self.comparisons],
            "limits_exceeded": [
                {"device": one.device, "removes": one.what, "limit": one.limit}
                for one in self.limit_violations
            ],
            "failed": [{"device": name, "reason": error.message} for name, error in self.failed],
        }

    async def deliver(
        self,
        reason: str,
        ticket: str | None = None,
        options: DeliveryOptions | None = None,
        on_event: OnEvent = ignore_event,
        stop_waiting: asyncio.Event | None = None,
        first: Callable[[DeliveryResult], object] = lambda result: None,
        begun: Callable[[Callable[[], DeliveryResult]], object] = lambda leave: None,
    ) -> DeliveryResult:
        """Deliver to all devices that differ; what cannot be confirmed is rolled back. `first` is called with
        the result before the record of it is written.

        Raises UsageError for a change without a reason or a timer that is too short, EstateError for a policy
        violation, StateError when the record could not be written; nothing was touched then. A cancellation
        rolls back what is not confirmed; the result with `interrupted` is returned, and CancelledError is not
        raised. When `stop_waiting` is set after that, devices are left to their timers, and reported as
        unknown.

        `begun` is called before the first device is touched, with a function for a process that must end at
        once: it writes the record as far as it is known, without waiting for any device, and returns that
        result.
        """
        chosen = options or DeliveryOptions()
        self.allow(reason, chosen)
        expect = tuple(one.text for one in chosen.expect)
        recording = ChangeRecorder(
            self.preparation.estate, self.run, ChangeInfo(reason, ticket, self.change, self.origin, expect)
        )
        recording.begin(self.to_do, self.manner, self.preparation.syntax_of)
        try:
            settings = self._settings(chosen)
            around = neighbor_impact_of(
                self.preparation, self.to_do, self._connector, settings, chosen.expect
            )
            context = RunContext(
                self._connector,
                self.preparation.syntax_of,
                _unfailing(on_event),
                self._clock,
                recording.journal,
                settings,
                self.preparation.estate.working,
                self.run,
                stop_waiting or asyncio.Event(),
            )
            push = Rollout(
                comparisons=self.to_do,
                unreached=[(self._device(name), error) for name, error in self.failed],
                checks=self.checks,
                context=context,
                order=self._order(settings),
                sessions=self._comparing.sessions,
                roll_back=RollbackRun(context, recording.change, self.preparation.estate.fingerprints),
                neighbor_impact=around,
            )
            begun(partial(self._left, reason, ticket, recording, push))
            interrupted, fault = await _run(push)
            await self.close()
            unwatched = tuple(sorted(around.unmonitored)) if around is not None else ()
            others = join_counts(state.other_values(name) for name, state in push.pre_post_state.items())
            result = DeliveryResult(self.run, reason, ticket, tuple(push.outcomes), interrupted)
            result = replace(result, unwatched=unwatched, other_values=others)
            with suppress(Exception):  # a callback may fail; the record must be complete all the same
                first(result)
            result = replace(result, unrecorded=self._record(result, recording, push))
            if fault is not None:
                raise fault
            return result
        finally:
            recording.close()

    def _left(
        self, reason: str, ticket: str | None, recording: ChangeRecorder, push: Rollout
    ) -> DeliveryResult:
        """What is known if the process ends now, with the record of it written."""
        left = DeliveryResult(self.run, reason, ticket, tuple(push.outcomes_if_interrupted), interrupted=True)
        with suppress(Exception):  # what is known is returned, whatever can be written
            return replace(left, unrecorded=self._record(left, recording, push, is_left=True))
        return left

    def _record(
        self, result: DeliveryResult, recording: ChangeRecorder, push: Rollout, *, is_left: bool = False
    ) -> str | None:
        """Write the record. Returns the reason if that failed: the outcome of the devices is known all the
        same. For a run that `is_left`, no backups are made."""
        told = recording.end(
            result.outcomes,
            str(result.verdict),
            {} if is_left else push.listed,
            push.pre_post_state,
            push.waves,
        )
        path = self.logs / "outcome.json"
        try:
            write_whole(path, json.dumps(result.document(), indent=2) + "\n", mode=0o600)
        except OSError as error:
            told = told or f"{path}: {error.strerror}"
        return told

    def allow(self, reason: str, options: DeliveryOptions) -> None:
        """Whether this may be delivered at all. Raises UsageError, EstateError."""
        if self.change is None and self.preparation.estate.settings.delivery.approval:
            raise UsageError(
                "this estate delivers only approved changes",
                hint="propose it with --propose; see 'approval' in oast.toml",
            )
        if self.limit_violations and not options.allow_removals:
            first = self.limit_violations[0]
            more = f", and {len(self.limit_violations) - 1} more" if len(self.limit_violations) > 1 else ""
            message = f"removal limit exceeded on {first.device}: the change removes {first.what}{more}"
            raise UsageError(
                message, hint="allow it for this change with --allow-removals, or have it approved"
            )
        require_reason(reason)
        check_times(self.preparation, options)
        check_policies(self.preparation)

    def _settings(self, chosen: DeliveryOptions) -> DeliverySettings:
        """The settings of this delivery, with times that are long enough for its checks."""
        settings = _resolved(self.preparation, chosen)
        waits = [check.wait_s for c in self.different for check in self.checks.get(c.name, ())]
        verify_s = max([settings.verify_timeout_s, *waits])
        least_s = verify_s + self._stable_for_s(settings) + LEAST_SPARE_S
        return replace(
            settings, verify_timeout_s=verify_s, revert_timer_s=max(settings.revert_timer_s, least_s)
        )

    def _stable_for_s(self, settings: DeliverySettings) -> float:
        """How long the checks of any device must stay passed, in seconds."""
        each = [stable_for_s(c, self.checks.get(c.name, ())) for c in self.different]
        return max([settings.stable_for_s, *each])

    def _order(self, settings: DeliverySettings) -> RolloutOrder:
        if settings.one_wave:
            return RolloutOrder()
        largest = None
        if settings.split_waves:
            largest = largest_wave(
                settings.revert_timer_s,
                self._compare_one_s,
                settings.verify_timeout_s,
                self._stable_for_s(settings),
            )
        return RolloutOrder(settings.waves, settings.apart, largest)

    @property
    def _compare_one_s(self) -> float:
        """How long comparing took for each device, in seconds, when many were compared at a time."""
        return self.compare_s / max(1, len(self.comparisons) + len(self.failed))

    def forecast(self, chosen: DeliveryOptions | None = None) -> Forecast | None:
        """How long the largest wave may take; None where nothing would be delivered. A wave arms a timer that
        is long enough for what it measures itself; this says so before anything is armed."""
        if not self.different:
            return None
        settings = self._settings(chosen or DeliveryOptions())
        order = self._order(settings)
        devices = [comparison.intent.device for comparison in self.to_do]
        sizes = [len(wave) for wave in order.of(devices)]
        largest = max(sizes, default=0)
        needed = timer_needed_s(
            self._compare_one_s * largest, settings.verify_timeout_s, self._stable_for_s(settings)
        )
        unsplit = len(replace(order, largest=None).of(devices))
        return Forecast(largest, needed, settings.revert_timer_s, len(sizes), unsplit)

    def _device(self, name: str) -> Device:
        return self.preparation.estate.devices[name]

    async def close(self) -> None:
        """End the sessions that are still open. Safe to call again."""
        await self._comparing.close()

    async def __aenter__(self) -> Plan:
        return self

    async def __aexit__(self, *error: object) -> None:
        await self.close()


def _unfailing(on_event: OnEvent) -> OnEvent:
    """A callback may fail, as with a closed terminal: no device is affected by it."""

    def heard(event: Event) -> None:
        with suppress(Exception):
            on_event(event)

    return heard


async def _run(push: Rollout) -> tuple[bool, Exception | None]:
    """Return whether the delivery was interrupted, and the internal error that ended it; by then every device
    is in a known state, or reported as unknown."""
    try:
        await push.run()
    except asyncio.CancelledError:
        return True, None
    except Exception as fault:
        return False, fault
    return False, None


def _resolved(preparation: IntentContext, options: DeliveryOptions) -> DeliverySettings:
    return preparation.estate.settings.delivery.resolved(options)


def require_reason(reason: str | None) -> None:
    """Require a reason for the change. Raises UsageError."""
    if not reason or not reason.strip():
        raise UsageError(
            "a change needs a reason", hint='give one: oast push -m "Rotate the SNMP communities"'
        )
    if len(reason) > LONGEST_REASON:
        raise UsageError(
            f"the reason is longer than {LONGEST_REASON} characters", hint="put details into the ticket"
        )


def check_times(preparation: IntentContext, options: DeliveryOptions) -> None:
    """Whether the revert timer leaves time for the checks. Raises UsageError."""
    settings = _resolved(preparation, options)
    timer_s, verify_s = settings.revert_timer_s, settings.verify_timeout_s
    short = short_timer(timer_s, verify_s)
    if short is not None:
        raise UsageError(short[0], hint=short[1])


def short_timer(timer_s: float, verify_s: float) -> tuple[str, str] | None:
    """Why a revert timer leaves no time for the checks, and the fix; None where it does."""
    if timer_s >= verify_s + LEAST_SPARE_S:
        return None
    return (
        f"a revert timer of {timer_s:g} s is too short for {verify_s:g} s of checks",
        f"set it to at least {verify_s + LEAST_SPARE_S:g} s",
    )


def check_policies(preparation: IntentContext) -> list[Problem]:
    """The warnings of the policies. Raises EstateError for what violates one, which is never sent, and for
    limits that limit nothing."""
    check_limits(preparation)
    problems = policy_violations(preparation, date.today())
    errors = [problem for problem in problems if not problem.is_warning]
    if errors:
        raise EstateError.of(errors)
    return problems


def check_limits(preparation: IntentContext) -> None:
    """Whether every list in `last_of` is one of some device's platform. Raises EstateError."""
    platforms = {intent.platform.name: intent.platform for intent in preparation.network}
    require_known_limits(preparation.estate.settings.delivery.limits, platforms.values())


def require_known_limits(limits: LimitSettings, platforms: Iterable[Platform]) -> None:
    """Require that one of `platforms` has every list that a limit names. Raises EstateError."""
    if limits.place is None:
        return
    known = {
        name
        for p in platforms
        for rule in p.grammar.rules()
        if rule.kind == "list"
        for name in (rule.name, rule.path)
    }
    for name in limits.last_of:
        if name not in known:
            raise EstateError(
                f"no platform of the estate has a list '{name}'",
                place=limits.place,
                hint=spelling_hint(name, known),
            )


async def compare(
    preparation: IntentContext,
    manner: ApplyMode = DEFAULT_MODE,
    *,
    parallel: int | None = None,
    timeout_s: float | None = None,
    for_delivery: bool = False,
    on_event: OnEvent = ignore_event,
) -> Plan:
    """Read and compare the selected devices. With `for_delivery`, sessions stay open for `Plan.deliver`.

    Raises EstateError for invalid settings and checks, StateError for an unreadable journal. Devices that
    fail are part of the plan, and so are those that an interrupted run left open.
    """
    estate = preparation.estate
    # What a device starts with changes nothing that can be read before it restarts.
    checks = all_checks_of(preparation) if for_delivery and not manner.into_startup else {}
    if manner.mode == "merge":
        checks = {name: [at_least(check) for check in every] for name, every in checks.items()}
    connector = Connector(estate, [intent.device for intent in preparation.intents], timeout_s)
    run = new_run_id()
    comparing = DiffRunner(
        connector,
        preparation.syntax_of,
        parallel or estate.settings.connection.parallel,
        estate.working / "log" / run,
        on_event,
        for_delivery=for_delivery,
    )
    flying = devices_in_unknown_state(estate.working) if for_delivery else {}
    intents = [intent for intent in preparation.intents if intent.device.name not in flying]
    clock = SystemClock()
    started = clock.now()
    read = await comparing.compare(intents, manner)
    compare_s = clock.now() - started
    found = {
        i.device.name: read.get(i.device.name) or unknown_state_error(flying[i.device.name])
        for i in preparation.intents
    }
    compared = tuple(c for c in found.values() if isinstance(c, Comparison))
    failed = tuple((name, error) for name, error in found.items() if isinstance(error, DeviceError))
    return Plan(preparation, manner, run, compared, failed, checks, connector, comparing, compare_s=compare_s)
