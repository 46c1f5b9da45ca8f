"""What a transaction works with, and why one cannot go on."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from pathlib import Path
from typing import Protocol

from oast.change import Cause, RollbackReason
from oast.change.record import Backup, DeviceJournal, Journal
from oast.config import IndentedSyntax
from oast.connect import Connector, Session, SessionAddresses, Transcript
from oast.errors import DeviceError
from oast.estate import DeliverySettings
from oast.fleet import Clock, OnEvent
from oast.intent import Intent
from oast.verify import CheckResult


class ManagementAddress(Enum):
    """At which of a device's addresses a session is opened."""

    ANY = "any"
    """At the inventory's address or, while nothing answers there, at the previous one."""
    INVENTORY = "inventory"
    PREVIOUS = "previous"
    ALTERNATE = "alternate"


class SessionFactory(Protocol):
    """Opens sessions to the transaction's device."""

    async def __call__(
        self, transcript: Transcript, *, at: ManagementAddress = ManagementAddress.ANY, proving: bool = False
    ) -> Session:
        """A new session; `proving`, as every later one will log in. Raises DeviceError."""

    @property
    def has_alternate(self) -> bool:
        """Whether the inventory names an alternate management address."""

    def alternate_route(self, session: Session, interface: str | None = None) -> SessionAddresses:
        """How Oast reaches the device over a `session` at the alternate address; `interface` is the one that
        a reading shows with it."""


class DeviceChangedSinceDiff(DeviceError):
    """The device has changed since it was compared: compare again."""


@dataclass(frozen=True)
class LossOfContact:
    """Why a device's session is lost or out of step, so that its state is not known."""

    cause: Cause
    reason: str
    hint: str | None = None
    failed: tuple[CheckResult, ...] = ()
    why: RollbackReason = RollbackReason.SESSION_LOST


@dataclass(frozen=True)
class RunContext:
    """What every step of one run works with."""

    connector: Connector
    """Opens sessions to devices."""
    syntax_of: Callable[[Intent], IndentedSyntax]
    """The syntax of an intent's platform."""
    on_event: OnEvent
    """Receives the progress."""
    clock: Clock
    journal: Journal
    """Where every step is written down before it is taken."""
    settings: DeliverySettings
    """How the run delivers: oast.toml with what the caller overrides."""
    working: Path
    """The estate's working folder. Backups and transcripts go below it, in folders named after `run`."""
    run: str
    """The ID of the run."""
    stop_waiting: asyncio.Event = field(default_factory=asyncio.Event)
    """When it is set, a run that was cancelled rolls nothing back any more, and leaves the devices to their
    timers."""

    def log_of(self, device: str) -> Path:
        """The transcript of a device's session."""
        return self.working / "log" / self.run / f"{device}.log"


@dataclass(frozen=True)
class TransactionContext:
    """What a transaction works with. `timer_s` is how long the device may wait for a confirmation; `journal`
    is where every step is written down before it is taken."""

    syntax: IndentedSyntax
    opener: SessionFactory
    backup: Backup
    log: Path
    timer_s: float
    on_event: OnEvent
    clock: Clock
    journal: DeviceJournal
