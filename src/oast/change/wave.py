"""A wave: the devices delivered to together. All are loaded, then checked, then each is kept or taken back.

The checks come after all are loaded because an adjacency needs both its ends. A device that is lost on the way is recovered
beside the others: nobody waits for it, since the timers of those that are loaded run on.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Sequence

from oast.change.outcome import Cause
from oast.change.transaction import Lost, Transaction
from oast.verify.checks import CheckResult

POLL_S = 0.4
# What has to be left of the shortest timer for confirming every device of the wave.
CONFIRM_MARGIN_S = 2.0


class Wave:
    """Delivers `transactions` together. `verify_timeout_s` is how long the checks may take to come true."""

    def __init__(self, transactions: Sequence[Transaction], verify_timeout_s: float, clock: Callable[[], float]) -> None:
        self._transactions = transactions
        self._verify_timeout_s = verify_timeout_s
        self._clock = clock
        self._last: dict[Transaction, list[CheckResult]] = {}

    async def deliver(self) -> None:
        """Afterwards every transaction has an outcome, also when cancelled: then what is not confirmed is taken back first."""
        try:
            async with asyncio.TaskGroup() as rescues:
                self._rescues = rescues
                await self._load_all()
                await self._decide()
        except BaseException:
            # Cancelled, or a bug of ours: no device is left waiting for its timer.
            await asyncio.shield(self._abandon())
            raise

    async def _abandon(self) -> None:
        async with asyncio.TaskGroup() as group:
            for transaction in self._transactions:
                group.create_task(transaction.abandon())

    def _open(self) -> list[Transaction]:
        return [t for t in self._transactions if t.outcome is None and t.lost is None]

    async def _load_all(self) -> None:
        """Load every device; one that is so slow that the others' timers would run out is given up."""
        loading = {asyncio.create_task(self._step(t, Transaction.load)): t for t in self._transactions}
        try:
            waiting = set(loading)
            while waiting:
                done, waiting = await asyncio.wait(waiting, timeout=POLL_S)
                for task in done:
                    task.result()
                if self._spare_s([t for t in self._open() if t not in [loading[w] for w in waiting]]) <= 0:
                    break
            for task in waiting:
                await self._give_up(task, loading[task])
        finally:
            for task in loading:
                task.cancel()
            await asyncio.gather(*loading, return_exceptions=True)

    def _spare_s(self, loaded: Sequence[Transaction]) -> float:
        """How long those that are loaded can wait for the others and still be checked and confirmed."""
        left = min((t.timer_left_s for t in loaded), default=float("inf"))
        return left - self._verify_timeout_s - CONFIRM_MARGIN_S

    async def _give_up(self, task: asyncio.Task[None], transaction: Transaction) -> None:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        if transaction.outcome is None and transaction.lost is None:
            reason = "it was not loaded before the timers of the others in its wave would have run out"
            transaction.lost = Lost(Cause.FAILED, reason, "give more time with --revert-timer, or push to it alone")
            self._rescues.create_task(transaction.recover())

    async def _decide(self) -> None:
        """Those whose own edits a failed check rests on go back first; that may be all the others were suffering from."""
        failing = await self._check_until_true()
        culprits = {t: results for t, results in failing.items() if any(t.touches(r) for r in results)}
        if culprits:
            await self._take_back(culprits)
            failing = await self._check_until_true() if len(failing) > len(culprits) else {}
        await self._take_back(failing)
        excused = {t: t.to_answer_for(self._last[t])[1] for t in self._open()}
        await self._together(self._open(), lambda t: t.confirm(excused[t]))

    async def _check_until_true(self) -> dict[Transaction, list[CheckResult]]:
        """Check all that are loaded until nothing counts as failed, or time is up; what still fails then."""
        left = min((t.timer_left_s for t in self._open()), default=0.0) - CONFIRM_MARGIN_S
        deadline = self._clock() + min(self._verify_timeout_s, left)
        while True:
            self._last = {}

            async def check(transaction: Transaction) -> None:
                self._last[transaction] = await transaction.check()

            await self._together(self._open(), check)
            failing = {t: counted for t in self._open() if (counted := t.to_answer_for(self._last[t])[0])}
            if not failing or self._clock() + POLL_S >= deadline:
                return failing
            await asyncio.sleep(POLL_S)

    async def _take_back(self, failing: dict[Transaction, list[CheckResult]]) -> None:
        await self._together(failing, lambda t: t.revert(failing[t]))

    async def _together(self, transactions: Iterable[Transaction], step: Callable[[Transaction], Awaitable[None]]) -> None:
        async with asyncio.TaskGroup() as group:
            for transaction in list(transactions):
                group.create_task(self._step(transaction, step))

    async def _step(self, transaction: Transaction, step: Callable[[Transaction], Awaitable[None]]) -> None:
        await step(transaction)
        if transaction.lost is not None and transaction.outcome is None:
            self._rescues.create_task(transaction.recover())
