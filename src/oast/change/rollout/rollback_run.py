"""Rollback of delivered devices: a delivery of its own, with its own rollback, to their configurations before
the change."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Sequence
from dataclasses import replace

from oast.answer_parsing import parse_if_long
from oast.change import Outcome
from oast.change.device import DeviceTransaction, RunContext
from oast.change.plan import ApplyMode, Comparison, ReadDevice, compare, plan_document
from oast.change.record import RunLock
from oast.change.rollout.rollout import Rollout
from oast.connect import Capability
from oast.errors import DeviceError
from oast.estate import STOP, Device
from oast.fleet import for_each
from oast.intent import Intent
from oast.records import Fingerprints


class RollbackRun:
    """Rolls back devices of one run that were delivered already, as a delivery of its own."""

    def __init__(self, context: RunContext, change: str, fingerprints: Fingerprints) -> None:
        # It is delivered in one wave, because the failure lasts until then.
        settings = replace(context.settings, soak_s=0.0, on_failure=STOP)
        self._context = replace(context, run=f"{context.run}-back", settings=settings)
        self._change = change
        self._fingerprints = fingerprints
        self._outcomes: dict[str, Outcome] = {}
        self.listed: dict[str, str] = {}

    def became(self, name: str) -> Outcome | None:
        return self._outcomes.get(name)

    async def __call__(self, delivered: Sequence[DeviceTransaction]) -> None:
        comparisons, failed = await self._compared(delivered)
        run = self._context.run
        lock = RunLock(self._context.working, run)
        lock.acquire()
        try:
            manner = ApplyMode("replace", into=delivered[0].comparison.manner.into)
            # It may parse long configurations, and devices of other waves may be armed.
            plan = await asyncio.to_thread(plan_document, comparisons, manner, self._fingerprints)
            await asyncio.to_thread(
                self._context.journal.begin,
                run,
                self._change,
                os.getpid(),
                plan,
                [c.name for c in comparisons],
            )
            push = Rollout(comparisons, failed, {}, self._context)
            try:
                await push.run()
            finally:
                self._outcomes.update({outcome.device: outcome for outcome in push.outcomes})
                self.listed.update(push.listed)
            await asyncio.to_thread(self._context.journal.end, run, recorded=False)
        finally:
            lock.release(done=True)

    async def _compared(
        self, delivered: Sequence[DeviceTransaction]
    ) -> tuple[list[Comparison], list[tuple[Device, DeviceError]]]:
        """What brings each back, and those that cannot be read."""
        found: dict[str, Comparison | DeviceError] = {}

        async def one(transaction: DeviceTransaction) -> Comparison:
            was = transaction.comparison
            intent, scope = was.intent, was.intent.scope
            ran = await was.listed.load()
            was.listed.release()
            before = Intent.of_record(intent.device, intent.platform, scope.within(ran), scope, intent.owners)
            log = self._context.log_of(intent.device.name)
            async with self._context.connector.session(intent.device, intent.platform, log) as session:
                into_startup = was.manner.into_startup
                running = await (session.read_startup() if into_startup else session.read_running())
                has_startup = Capability.STARTUP in session.capabilities and not into_startup
                startup = await session.read_startup() if has_startup else None
                read = ReadDevice(
                    running,
                    startup,
                    self._context.connector.route(intent.device, session),
                    session.capabilities,
                )
            manner = ApplyMode("replace", was.manner.remove_unknown, was.manner.into)
            return await parse_if_long(
                (running, startup), compare, before, read, self._context.syntax_of(intent), manner
            )

        def done(transaction: DeviceTransaction, result: Comparison | DeviceError) -> None:
            found[transaction.name] = result

        await for_each(delivered, one, self._context.settings.parallel, done)
        failed = [
            (t.comparison.intent.device, e) for t in delivered if isinstance(e := found[t.name], DeviceError)
        ]
        return [c for t in delivered if isinstance(c := found[t.name], Comparison)], failed
