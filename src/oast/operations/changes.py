"""Changes: what the ledger says of each, put together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from oast.archive import Backups
from oast.change import State
from oast.change.plan import StoredPlan, plan_from
from oast.change.record import (
    BREAK,
    Anchor,
    Audit,
    Entry,
    Finding,
    Ledger,
    LedgerSigner,
    Signers,
    author_identity,
)
from oast.errors import StateError, UsageError
from oast.estate import Estate

LAST = "last"
# What is shown of an entry in addition to its time and kind.
BEGAN, ENDED, RESUMED, PROPOSED, APPROVED, WITHDRAWN = (
    "begun",
    "ended",
    "resumed",
    "proposed",
    "approved",
    "withdrawn",
)
STAGED = "staged"


@dataclass(frozen=True)
class Change:
    """One change: its entries in the ledger, by time."""

    name: str
    entries: tuple[Entry, ...]

    def _first(self, *kinds: str) -> Mapping[str, Any]:
        return next((entry.said for entry in self.entries if entry.kind in kinds), {})

    def every(self, *kinds: str) -> list[Entry]:
        """Its entries of some kinds."""
        return [entry for entry in self.entries if entry.kind in kinds]

    @property
    def at(self) -> str:
        """When it was proposed or begun, in UTC."""
        return self.entries[0].at

    @property
    def author(self) -> str:
        return str(self._first(PROPOSED, BEGAN).get("author", ""))

    @property
    def reason(self) -> str:
        return str(self._first(PROPOSED, BEGAN).get("reason", ""))

    @property
    def ticket(self) -> str | None:
        return self._first(PROPOSED, BEGAN).get("ticket")

    @property
    def origin(self) -> str | None:
        """The related change, such as the one that it rolls back."""
        return self._first(PROPOSED, BEGAN).get("origin")

    @property
    def expect(self) -> tuple[str, ...]:
        """What is meant to be lost with it."""
        return tuple(map(str, self._first(PROPOSED, BEGAN).get("expect", ())))

    @property
    def devices(self) -> int:
        """On how many devices something was to be done."""
        return int(self._first(PROPOSED, BEGAN).get("devices", 0))

    @property
    def plan(self) -> str | None:
        """The digest under which is kept what it means to do."""
        return self._first(PROPOSED, BEGAN).get("plan")

    @property
    def staging(self) -> str | None:
        """Of a change that stages new devices, the digest under which is kept what they are given."""
        return self._first(PROPOSED).get("staging")

    @property
    def state(self) -> str:
        """The state of the change as text."""
        if self.every(BEGAN):
            ended = self.every(ENDED, RESUMED)
            if len(self.every(ENDED)) < len(self.every(BEGAN)) and not self.every(RESUMED):
                return "begun"
            states = ended[-1].said.get("states", {}) if ended else {}
            shown = (f"{number} {_shown_state(state)}" for state, number in sorted(states.items()))
            return ", ".join(shown) or "nothing done"
        if self.every(WITHDRAWN):
            return "withdrawn"
        if self.every(STAGED):
            return "staged"
        return "approved" if self.every(APPROVED) else "proposed"


@dataclass
class Changes:
    """The changes of an estate."""

    estate: Estate
    ledger: Ledger = field(init=False)

    def __post_init__(self) -> None:
        self.ledger = ledger_of(self.estate)

    def all(self) -> list[Change]:
        """Every change, the newest last. Raises StateError."""
        return _grouped(self.ledger.entries())

    def last(self, number: int | None) -> tuple[list[Change], bool]:
        """The last `number` of them (None: all), and whether there are more. Raises StateError."""
        if number is None:
            return self.all(), False
        entries, more = self.ledger.latest(number)
        return _grouped(entries), more

    def one(self, word: str) -> Change:
        """Return the change whose ID is, begins or ends with `word`; the newest for `last`. Raises UsageError
        when none or several match."""
        changes = self.all()
        if word == LAST and changes:
            return changes[-1]
        exact = [change for change in changes if change.name == word]
        found = exact or [
            change
            for change in changes
            if word and (change.name.startswith(word) or change.name.endswith(word))
        ]
        if not found:
            hint = f"the newest one is {changes[-1].name}" if changes else "there are no changes yet"
            raise UsageError(f"unknown change '{word}'", hint=hint)
        if len(found) > 1:
            raise UsageError(
                f"'{word}' matches {len(found)} changes", hint=f"the newest of them is {found[-1].name}"
            )
        return found[0]

    def outcomes(self, change: Change) -> list[dict[str, Any]]:
        """Return its outcomes: the content of each of its runs, in order. Raises StateError."""
        return [
            self.ledger.content(entry.said["outcome"])
            for entry in change.every(ENDED, RESUMED)
            if "outcome" in entry.said
        ]

    def readings(self, change: Change) -> list[dict[str, Any]]:
        """What was read before and after, of each of its runs (see `oast.change.device.pre_post_state`).
        Raises StateError."""
        return [
            self.ledger.content(entry.said["readings"])
            for entry in change.every(ENDED)
            if "readings" in entry.said
        ]


def _shown_state(recorded: str) -> str:
    """A device's state as the ledger has it, in the words of reports."""
    return State(recorded).shown if recorded in list(State) else recorded


def signers_of(estate: Estate) -> Signers:
    """Who may sign in an estate."""
    return Signers(estate.settings.delivery.allowed_signers, estate.environment)


def ledger_of(estate: Estate) -> Ledger:
    """The ledger of an estate, which signs as its settings say."""
    key = estate.settings.delivery.sign_with
    signer = (
        None
        if key is None
        else LedgerSigner(author_identity(estate.folder, estate.environment), key, signers_of(estate))
    )
    return Ledger(estate.folder, estate.working, estate.environment, signer)


def audit(estate: Estate, *, with_remote: bool = False) -> Audit:
    """Compare the ledger with itself, with what this copy has seen, and with the heads that the archive has
    recorded; `with_remote`, also with those in the archive's remote. Raises StateError, UsageError, OSError.
    """
    archive = Backups(estate).archive
    anchors = [Anchor(*head, where="a tag of the archive") for head in archive.anchors()]
    if with_remote:
        remote = estate.settings.archive.remote
        if remote is None:
            raise UsageError(
                "the archive has no remote to compare with", hint="set 'remote' under [archive] in oast.toml"
            )
        archive.prepare()
        anchors += [Anchor(*head, where="a tag of the archive's remote") for head in archive.anchors(remote)]
    return ledger_of(estate).audit(signers_of(estate), anchors)


def accept_break(estate: Estate, reason: str) -> list[Finding]:
    """Go on with a ledger that was cut off or altered; what that was. Raises UsageError,
    StateError, OSError."""
    if not reason.strip():
        raise UsageError(
            "accepting a break needs a reason", hint="explain what happened: --accept-break REASON"
        )
    return ledger_of(estate).accept_break(reason, author_identity(estate.folder, estate.environment))


def change_document(change: Change) -> dict[str, Any]:
    """A change as it is listed."""
    return {
        "change": change.name,
        "at": change.at,
        "state": change.state,
        "author": change.author,
        "reason": change.reason,
        "ticket": change.ticket,
        "devices": change.devices,
        "origin": change.origin,
    }


def _grouped(entries: Iterable[Entry]) -> list[Change]:
    found: dict[str, list[Entry]] = {}
    for entry in (entry for entry in entries if entry.kind != BREAK):
        found.setdefault(entry.change, []).append(entry)
    return [Change(name, tuple(about)) for name, about in found.items()]


def recorded_plan(changes: Changes, change: Change) -> StoredPlan:
    """What it means to do on every device. Raises StateError."""
    if change.plan is None:
        raise StateError(f"the plan of {change.name} is not in the ledger", hint="oast change audit")
    return plan_from(changes.ledger.content(change.plan))
