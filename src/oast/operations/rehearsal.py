"""Rehearse a rollback on a device: one harmless statement is applied, the device rolls back, and is proved to
run what it did before."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from oast.answer_parsing import parse_if_long
from oast.change import Phase
from oast.change.device import RETRY_S, RETURN_MARGIN_S
from oast.change.methods import ChangeRequest, DeliveryMethod, FileReplaceMethod, method_for
from oast.change.plan import ApplyMode, Comparison, ReadDevice, compare
from oast.change.record import device_lock
from oast.config import (
    IndentedSyntax,
    Node,
    Scope,
    apply_edits,
    canonical,
    difference,
    read_tree,
    tree_of_device,
)
from oast.connect import Connector, Session, Transcript
from oast.errors import ConnectionFailed, DeviceError, UsageError
from oast.estate import Device
from oast.fleet import Clock, SystemClock
from oast.intent import Intent, interfaces
from oast.operations.platforms import ProbeStep
from oast.platforms import Platform

EVERYTHING = (("*",),)
WORD = "oast-rehearsal"


async def _noted(phase: Phase) -> None:
    return


@dataclass(frozen=True)
class Rehearsal:
    """What is rehearsed: the statement to apply, and the revert timer in seconds. Without a statement it is a
    description on an interface that is shut or, where the configuration is a file, a comment at its end."""

    statement: str | None = None
    timer_s: float = 30.0


def harmless_statement(platform: Platform, running: Node) -> str | None:
    """Return a description for an interface that is shut; None where it has none, or the grammar knows no
    description."""
    role = platform.roles.get("interface")
    rule = next(
        (one for one in platform.grammar.rules() if role is not None and one.path == f"{role}/description"),
        None,
    )
    shut = next(
        (interface for interface in interfaces(platform, running) if interface.is_off and interface.path),
        None,
    )
    if rule is None or shut is None:
        return None
    lines = [f"{' ' * (platform.spelling.indent * depth)}{name}" for depth, name in enumerate(shut.path)]
    return "\n".join([*lines, f"{' ' * (platform.spelling.indent * len(lines))}description {WORD}"])


async def rehearse(
    connector: Connector,
    device: Device,
    platform: Platform,
    syntax: IndentedSyntax,
    rehearsal: Rehearsal,
    working: Path,
    log: Path,
    clock: Clock | None = None,
) -> AsyncIterator[ProbeStep]:
    """Apply, let the device roll back, apply and cancel, and prove that it runs what it did before; each as a
    step.

    Holds the device's lock; the transcript goes to `log`. Never raises DeviceError: what fails is a step that
    did not pass. Raises UsageError for a statement that cannot be read.
    """
    run = _Run(connector, device, platform, syntax, rehearsal, clock or SystemClock())
    try:
        with device_lock(working, device.name):
            async with connector.session(device, platform, log, rehearsal.timer_s * 4) as first:
                before = await first.read_running()
                comparison = await parse_if_long((before,), run.comparison, first, before)
                await comparison.listed.load()
                async for step in run.rolled_back_on_its_own(comparison):
                    yield step
                async for step in run.cancelled(comparison):
                    yield step
                after = await read_tree(syntax, await first.read_running())
            same = not difference(comparison.running, after)
            yield ProbeStep(
                "compare with the configuration from before",
                same,
                "identical" if same else "the running configuration differs: check the device",
            )
    except DeviceError as error:
        yield ProbeStep("rehearse", False, error.message, error.hint)
    finally:
        with suppress(OSError):
            run.transcript.write(log)


class _Run:
    def __init__(
        self,
        connector: Connector,
        device: Device,
        platform: Platform,
        syntax: IndentedSyntax,
        rehearsal: Rehearsal,
        clock: Clock,
    ) -> None:
        self._connector = connector
        self._device = device
        self._platform = platform
        self._syntax = syntax
        self._rehearsal = rehearsal
        self._clock = clock
        self.transcript = Transcript(clock.now, device.name)
        self._is_comment = False
        self._file_before = ""

    def comparison(self, session: Session, running: str) -> Comparison:
        """The one statement against what runs. Raises UsageError, DeviceError."""
        text = self._rehearsal.statement or harmless_statement(
            self._platform, tree_of_device(self._syntax, running)
        )
        self._is_comment = text is None and self._platform.file is not None
        if text is None and not self._is_comment:
            raise DeviceError(
                "no interface of the device is shut", hint="give a harmless statement: --statement FILE"
            )
        parsed = self._syntax.parse(text or "")
        if parsed.problems:
            raise UsageError(
                f"the statement cannot be read: {parsed.problems[0].message}", hint=parsed.problems[0].hint
            )
        owners = {"rehearsal": EVERYTHING}
        intent = Intent.of_record(
            self._device, self._platform, canonical(parsed.tree), Scope(EVERYTHING), owners
        )
        read = ReadDevice(running, None, self._connector.route(self._device, session), session.capabilities)
        made = compare(intent, read, self._syntax, ApplyMode("merge"))
        if not made.edits and not self._is_comment:
            raise DeviceError(
                "the device already has the statement",
                hint="give another harmless statement: --statement FILE",
            )
        if made.access_risks:
            raise DeviceError(
                f"the statement is not harmless: it affects {made.access_risks[0]}",
                hint="give another statement: --statement FILE",
            )
        return made

    async def _applied(self, comparison: Comparison) -> tuple[Session, DeliveryMethod]:
        """A session in which the statement is in effect, with the rollback armed. Raises DeviceError."""
        session = await self._connector.open(self._device, self._platform, self.transcript)
        token = f"oast-{time.time_ns():x}"
        delivery = method_for(
            session, ChangeRequest(comparison, self._syntax, _noted, lambda number: None, token)
        )
        try:
            await delivery.check_nothing_pending()
            if self._is_comment and isinstance(delivery, FileReplaceMethod):
                self._file_before = await delivery.read_file()
                await delivery.add_comment(WORD)
            await delivery.stage()
            await delivery.validate()
            await delivery.apply(self._rehearsal.timer_s)
            meant = apply_edits(comparison.edits, comparison.running)
            if difference(meant, await read_tree(self._syntax, await session.read_running())):
                raise DeviceError("the device accepted the statement, but lists something else")
            if self._is_comment and await delivery.is_waiting() is False:
                raise DeviceError("the device accepted the file, but does not wait for a confirmation")
        except BaseException:
            with suppress(DeviceError):
                await delivery.cancel(Phase.APPLYING)
            await session.close()
            raise
        return session, delivery

    async def rolled_back_on_its_own(self, comparison: Comparison) -> AsyncIterator[ProbeStep]:
        rollback_method = comparison.rollback_method
        statement = (
            "a comment"
            if self._is_comment
            else " / ".join((*comparison.edits[0].path[:-1], comparison.edits[0].node.text))
        )
        what = f"arm the rollback ({rollback_method.name}) and apply {statement}"
        if not rollback_method.is_autonomous:
            yield ProbeStep(
                "let the device roll back on its own",
                True,
                "the device has no rollback of its own; only canceling is rehearsed",
            )
            return
        started = self._clock.now()
        session, delivery = await self._applied(comparison)
        yield ProbeStep(what, True, "active on the device")
        if delivery.is_session_bound:
            await session.close()
        else:
            with suppress(DeviceError):
                await session.close()
        seconds = await self._until_rolled_back(comparison, started)
        told = (
            f"after {seconds:.1f} s, with a timer of {self._rehearsal.timer_s:g} s"
            if seconds is not None
            else "no rollback"
        )
        yield ProbeStep(
            "wait until it rolls back on its own",
            seconds is not None,
            told,
            "check the device, and remove the statement there",
        )

    async def _until_rolled_back(self, comparison: Comparison, started: float) -> float | None:
        """The seconds until the device runs what it did before; None when it does not."""
        while self._clock.now() < started + self._rehearsal.timer_s + RETURN_MARGIN_S:
            await self._clock.sleep(RETRY_S)
            try:
                session = await self._connector.open(self._device, self._platform, self.transcript)
                try:
                    if await self._is_rolled_back(session, comparison):
                        await method_for(
                            session, ChangeRequest(comparison, self._syntax, _noted, lambda number: None)
                        ).clean_up()
                        return self._clock.now() - started
                finally:
                    await session.close()
            except ConnectionFailed:
                continue
        return None

    async def _is_rolled_back(self, session: Session, comparison: Comparison) -> bool:
        """Whether the device runs what it did before. A comment shows in the text alone, and in what is
        pending."""
        running = await session.read_running()
        if not self._is_comment:
            return not difference(comparison.running, await read_tree(self._syntax, running))
        if running != comparison.running_text:
            return False
        delivery = method_for(session, ChangeRequest(comparison, self._syntax, _noted, lambda number: None))
        same = not isinstance(delivery, FileReplaceMethod) or await delivery.read_file() == self._file_before
        return same and await delivery.is_waiting() is not True

    async def cancelled(self, comparison: Comparison) -> AsyncIterator[ProbeStep]:
        session, delivery = await self._applied(comparison)
        extended = await self._extended(delivery)
        if extended is not None:
            yield extended
        started = self._clock.now()
        try:
            with suppress(ConnectionFailed):  # a commit that goes with its session
                await delivery.cancel(Phase.APPLYING)
        finally:
            await session.close()
        seconds = await self._until_rolled_back(comparison, started)
        told = (
            f"the device runs the previous configuration again after {seconds:.1f} s"
            if seconds is not None
            else "the statement is still active"
        )
        yield ProbeStep(
            "apply it again and cancel",
            seconds is not None,
            told,
            "check the device, and remove the statement there",
        )

    async def _extended(self, delivery: DeliveryMethod) -> ProbeStep | None:
        """Extend the timer, where the platform can: a wave that takes longer than expected does so."""
        what, asked_s = "extend the timer", 2 * self._rehearsal.timer_s
        try:
            left_s = await delivery.extend(asked_s)
        except DeviceError as error:
            return ProbeStep(
                what, False, error.message, error.hint or "fix 'extend' in the platform file, or remove it"
            )
        if left_s is None:
            return None
        passed = left_s > self._rehearsal.timer_s
        return ProbeStep(
            what,
            passed,
            f"the device waits {left_s:.0f} s" if passed else f"the device still waits only {left_s:.0f} s",
        )
