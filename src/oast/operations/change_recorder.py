"""The record of a delivery: journal, ledger and content, from before the first device is touched until all
have an outcome."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from oast.archive import Backups, ConfigSnapshot
from oast.change import Outcome
from oast.change.device import PrePostState, state_document
from oast.change.plan import ApplyMode, Comparison, Datastore, plan_document, plan_from
from oast.change.record import Journal, RunLock, author_identity, commit_of, timeline_of
from oast.config import IndentedSyntax
from oast.errors import OastError, StateError
from oast.estate import Estate
from oast.gc_tuning import gc_disabled
from oast.intent import Intent
from oast.operations.changes import ledger_of
from oast.operations.documents import count_states, outcome_document

SyntaxOf = Callable[[Intent], IndentedSyntax]

OUTCOME = "oast.outcome/2"
# What transcripts, backups and the record of one device may take on the disk, in bytes.
ROOM_FOR_DEVICE = 100_000
ROOM_AT_LEAST = 300_000
NOTHING: Mapping[str, PrePostState] = {}


@dataclass(frozen=True)
class ChangeInfo:
    """The description of a change, beside its difference: reason, ticket, and origin. `change` is its ID, if
    it has one already; `origin` names another change, such as the one it rolls back."""

    reason: str
    ticket: str | None = None
    change: str | None = None
    origin: str | None = None
    expect: tuple[str, ...] = ()


class ChangeRecorder:
    """The record of one run on `estate`."""

    def __init__(self, estate: Estate, run: str, about: ChangeInfo) -> None:
        self._estate = estate
        self._run = run
        self._about = about
        self._lock = RunLock(estate.working, run)
        self._ledger = ledger_of(estate)
        self._room = estate.working / "runs" / f"{run}.room"
        self._journal: Journal | None = None
        self._backups = Backups(estate)
        self._syntaxes: dict[str, IndentedSyntax] = {}
        self._kind: Datastore = "running"

    @property
    def change(self) -> str:
        """The name of the change."""
        return self._about.change or self._run

    @property
    def journal(self) -> Journal:
        """Where the steps are written down, once it has begun."""
        if self._journal is None:
            raise StateError("the run has not started")
        return self._journal

    def begin(self, comparisons: Sequence[Comparison], manner: ApplyMode, syntax_of: SyntaxOf) -> None:
        """Write down what is going to be done, and make sure that what becomes of it can be. Raises
        StateError, EstateError; then nothing was begun."""
        try:
            self._syntaxes = {c.name: syntax_of(c.intent) for c in comparisons}
            self._kind = manner.into
            with gc_disabled():
                self._begin(comparisons, manner)
        except OSError as error:
            self._give_up()
            where = f" ({error.filename})" if error.filename else ""
            message = f"cannot record the change before the delivery: {error.strerror}{where}"
            raise StateError(
                message, hint="free disk space, or fix the permissions; nothing was sent to any device"
            ) from None
        except OastError:
            self._give_up()
            raise

    def _begin(self, comparisons: Sequence[Comparison], manner: ApplyMode) -> None:
        estate = self._estate
        who = author_identity(estate.folder, estate.environment)
        self._lock.acquire()
        self._reserve(len(comparisons))
        document = plan_document(comparisons, manner, estate.fingerprints)
        plan = self._ledger.keep(document)
        self._journal = Journal(estate.working)
        self._journal.begin(
            self._run, self.change, os.getpid(), document, [comparison.name for comparison in comparisons]
        )
        if comparisons:
            self._keep({c.name: c.running_text for c in comparisons}, "before", who)
        commit = commit_of(estate.folder, estate.environment)
        said: dict[str, Any] = {
            "run": self._run,
            "author": who,
            "reason": self._about.reason,
            "ticket": self._about.ticket,
            "devices": len(comparisons),
            "plan": plan,
            "difference": plan_from(document).digest,
            "estate": None if commit is None else {"commit": commit.name, "clean": commit.clean},
        }
        if self._about.origin:
            said["origin"] = self._about.origin
        if self._about.expect:
            said["expect"] = list(self._about.expect)
        self._ledger.append("begun", self.change, said)

    def _keep(self, texts: Mapping[str, str], when: str, who: str) -> None:
        """What the devices run, or start with, goes to the archive. Raises StateError, OSError."""
        head = self._ledger.head()
        note = None if head is None else f"Ledger-Head: {head.writer} {head.number} {head.digest}"
        listings = [
            ConfigSnapshot(name, self._kind, self._syntaxes[name], text) for name, text in texts.items()
        ]
        why = f"{when} {self.change}: {self._about.reason}"
        self._backups.keep(listings, why, who, f"{when} {self.change}", f"{when} {self._run}", note)

    def _reserve(self, devices: int) -> None:
        """Take the room on the disk that is given back when it is needed. Raises OSError."""
        handle = os.open(self._room, os.O_WRONLY | os.O_CREAT, 0o600)
        try:
            os.posix_fallocate(handle, 0, max(ROOM_AT_LEAST, ROOM_FOR_DEVICE * devices))
        finally:
            os.close(handle)

    def _give_up(self) -> None:
        if self._journal is not None:
            with suppress(StateError):
                self._journal.end(self._run, recorded=True)
        self.close()

    def end(
        self,
        outcomes: Sequence[Outcome],
        verdict: str,
        running: Mapping[str, str],
        pre_post_state: Mapping[str, PrePostState] = NOTHING,
        waves: Sequence[Sequence[str]] = (),
    ) -> str | None:
        """Record the outcome of every device, the last `running` configurations, and the readings before and
        after. Returns the reason if that was not possible."""
        told, recorded = None, False
        try:
            self._room.unlink(missing_ok=True)
            if running:
                self._keep(running, "after", author_identity(self._estate.folder, self._estate.environment))
        except OSError as error:
            told = f"{error.filename or self._estate.folder}: {error.strerror}"
        except OastError as error:
            told = error.message
        try:
            steps = timeline_of(self._estate.working, self._run)
            content = {**outcomes_content(self._estate, self._run, outcomes, steps), "waves": waves}
            outcome = self._ledger.keep(content)
            said: dict[str, Any] = {
                "run": self._run,
                "verdict": verdict,
                "states": count_states(outcomes),
                "outcome": outcome,
            }
            if pre_post_state:
                said["readings"] = self._ledger.keep(state_document(self._run, pre_post_state))
            self._ledger.append("ended", self.change, said)
            recorded = True
            if running:
                self._anchor()
        except OSError as error:
            told = f"{error.filename or self._estate.folder}: {error.strerror}"
        except StateError as error:
            told = error.message
        try:
            self.journal.end(self._run, recorded=recorded)
        except StateError as error:
            told = told or error.message
        return told or self.journal.broken

    def _anchor(self) -> None:
        """Record the head of the ledger in a place where it cannot be shortened together with the ledger.
        Raises StateError, OSError."""
        head = self._ledger.head()
        if head is not None:
            who = author_identity(self._estate.folder, self._estate.environment)
            self._backups.archive.anchor(head.writer, head.number, head.digest, who)
        self._backups.push()

    def close(self) -> None:
        """Safe to call again."""
        with suppress(OSError):
            self._room.unlink(missing_ok=True)
        if self._journal is not None:
            with suppress(sqlite3.Error):
                self._journal.close()
        with suppress(OSError):
            self._lock.release(done=True)


def outcomes_content(
    estate: Estate, run: str, outcomes: Sequence[Outcome], steps: Sequence[tuple[str, str, str]]
) -> Mapping[str, Any]:
    """Return the outcomes, and the steps that led to them, for storage: `oast.outcome/2`."""
    devices = [outcome_document(outcome) for outcome in outcomes]
    for device in devices:
        # The path of the estate on this machine is private.
        device["log"] = device["log"] and os.path.relpath(device["log"], estate.folder)
    return {"format": OUTCOME, "run": run, "devices": devices, "timeline": [list(step) for step in steps]}
