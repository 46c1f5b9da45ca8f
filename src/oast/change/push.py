"""Push: deliver compared differences in waves, and say what became of every device."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from oast.change.backup import Backup
from oast.change.compare import Comparison
from oast.change.locks import device_lock
from oast.change.outcome import Cause, Outcome, State
from oast.change.transaction import Transaction
from oast.change.wave import Wave
from oast.config.indented import IndentedSyntax
from oast.connect.connector import Connector
from oast.connect.session import Session
from oast.connect.transcript import Transcript
from oast.errors import DeviceError
from oast.intent.intent import Intent
from oast.records import Fingerprints
from oast.verify.checks import Check


@dataclass(frozen=True)
class PushOptions:
    """`at_once` devices make a wave. Backups and transcripts go below `working`, in folders named after `run`.

    `mask` hides the secrets in backups.
    """

    working: Path
    run: str
    at_once: int
    revert_timer_s: float
    verify_timeout_s: float
    mask: Fingerprints | None = None


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
        waves = max(1, self._options.at_once)
        for start in range(0, len(self._comparisons), waves):
            await self._wave(self._comparisons[start : start + waves])

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

    def _transaction(self, comparison: Comparison) -> Transaction:
        intent = comparison.intent

        async def opener(transcript: Transcript) -> Session:
            return await self._connector.open(intent.device, intent.platform, transcript)

        folder, syntax = self._options.working, self._syntax_of(intent)
        return Transaction(
            comparison,
            self._checks.get(comparison.name, ()),
            syntax,
            opener,
            Backup(folder / "backups" / self._options.run / f"{comparison.name}.txt", syntax, self._options.mask),
            folder / "log" / self._options.run / f"{comparison.name}.log",
            self._options.revert_timer_s,
            self._progress,
            self._clock,
        )

    @staticmethod
    def _untouched(comparison: Comparison, reason: str, cause: Cause = Cause.INTERRUPTED) -> Outcome:
        return Outcome(comparison.name, State.UNCHANGED, cause, comparison.counts, 0.0, reason)
