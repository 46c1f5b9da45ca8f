"""Push: deliver compared differences in waves, and say what became of every device."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from oast.change import delivered
from oast.change.backup import Backup
from oast.change.compare import Comparison
from oast.change.delivered import Delivered, forgetting
from oast.change.locks import device_lock
from oast.change.outcome import Cause, Outcome, State
from oast.change.transaction import Transaction
from oast.change.wave import Wave
from oast.config.indented import IndentedSyntax
from oast.connect.connector import Connector
from oast.connect.session import Session
from oast.connect.transcript import Transcript
from oast.errors import DeviceError
from oast.estate.selectors import Selector
from oast.intent.intent import Intent
from oast.verify.checks import Check


@dataclass(frozen=True)
class PushOptions:
    """`waves` come in order, then the devices that none of them picks; at most `at_once` devices at a time.

    After more than `most_failures` failures no further devices are begun. Backups and transcripts go below `working`, in
    folders named after `run`; `mask_backups` hides the secrets in them.
    """

    working: Path
    run: str
    at_once: int
    revert_timer_s: float
    verify_timeout_s: float
    mask_backups: bool = False
    waves: tuple[Selector, ...] = ()
    most_failures: int = 0


def new_run() -> str:
    """A name for one run: the time (UTC) and four random digits."""
    return f"{datetime.now(UTC):%Y%m%dT%H%M%SZ}-{secrets.token_hex(2)}"


class Push:
    """One run of deliveries. `outcomes` grows as devices end, so it is right at any moment, also after cancellation."""

    def __init__(
        self,
        comparisons: Sequence[Comparison],
        checks: Mapping[str, Sequence[Check]],
        connector: Connector,
        syntax_of: Callable[[Intent], IndentedSyntax],
        options: PushOptions,
        progress: Callable[[str, str], None],
        clock: Callable[[], float],
    ) -> None:
        self._comparisons = comparisons
        self._checks = checks
        self._connector = connector
        self._syntax_of = syntax_of
        self._options = options
        self._progress = progress
        self._clock = clock
        self._outcomes: dict[str, Outcome] = {}

    @property
    def outcomes(self) -> list[Outcome]:
        """One for each device, in the order given; a device whose turn never came is unchanged."""
        return [self._outcomes.get(c.name) or self._untouched(c, "interrupted before its turn") for c in self._comparisons]

    async def run(self) -> None:
        """Deliver to all. Cancellation takes back what is not confirmed yet before it passes on."""
        for wave in self._waves():
            failures = sum(1 for o in self._outcomes.values() if o.state is not State.DELIVERED)
            if failures > self._options.most_failures:
                left = [c for c in self._comparisons if c.name not in self._outcomes]
                for comparison in left:
                    reason = f"not begun: {failures} of the devices before it failed or went back"
                    self._outcomes[comparison.name] = self._untouched(comparison, reason, Cause.HELD)
                    self._progress(comparison.name, "held back")
                return
            await self._wave(wave)

    def _waves(self) -> Iterator[Sequence[Comparison]]:
        """The devices in the order of the waves, in parts of `at_once`."""
        groups: list[list[Comparison]] = [[] for _ in range(len(self._options.waves) + 1)]
        for comparison in self._comparisons:
            known_by = comparison.intent.device.known_by
            first = next((n for n, wave in enumerate(self._options.waves) if wave.matches(known_by)), -1)
            groups[first].append(comparison)
        at_once = max(1, self._options.at_once)
        for group in groups:
            for start in range(0, len(group), at_once):
                yield group[start : start + at_once]

    async def _wave(self, comparisons: Sequence[Comparison]) -> None:
        with ExitStack() as locks:
            transactions = []
            for comparison in comparisons:
                try:
                    locks.enter_context(device_lock(self._options.working, comparison.name))
                except DeviceError as error:
                    self._outcomes[comparison.name] = self._untouched(comparison, error.message, Cause.FAILED)
                    self._progress(comparison.name, str(State.UNCHANGED))
                else:
                    transactions.append(self._transaction(comparison))
            try:
                await Wave(transactions, self._options.verify_timeout_s, self._clock).deliver()
            finally:
                self._outcomes.update({t.name: t.outcome for t in transactions if t.outcome is not None})
                self._keep(transactions)

    def _keep(self, transactions: Iterable[Transaction]) -> None:
        """What devices run now, so that drift can be told from it."""
        for transaction in transactions:
            intent, outcome, running = transaction.comparison.intent, transaction.outcome, transaction.running
            if outcome is None or outcome.state is not State.DELIVERED or running is None:
                continue
            path = delivered.path_of(self._options.working, transaction.name)
            now = Delivered(self._options.run, datetime.now(UTC), forgetting(running))
            # A full disk here must not turn a delivered device into a failed one.
            with suppress(OSError):
                delivered.keep(path, now, intent.scope, self._syntax_of(intent).grammar)

    def _transaction(self, comparison: Comparison) -> Transaction:
        intent = comparison.intent

        async def opener(transcript: Transcript) -> Session:
            return await self._connector.open(intent.device, intent.platform, transcript)

        folder, syntax = self._options.working, self._syntax_of(intent)
        mask = self._options.mask_backups
        return Transaction(
            comparison,
            self._checks.get(comparison.name, ()),
            syntax,
            opener,
            Backup(folder / "backups" / self._options.run / f"{comparison.name}.txt", syntax, mask),
            folder / "log" / self._options.run / f"{comparison.name}.log",
            self._options.revert_timer_s,
            self._progress,
            self._clock,
        )

    @staticmethod
    def _untouched(comparison: Comparison, reason: str, cause: Cause = Cause.INTERRUPTED) -> Outcome:
        return Outcome(comparison.name, State.UNCHANGED, cause, comparison.counts, 0.0, reason)
