"""What a transaction works with, and why one cannot go on."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from oast.change.backup import Backup
from oast.change.journal import DeviceJournal
from oast.change.outcome import Cause
from oast.config.indented import IndentedSyntax
from oast.connect.session import Session
from oast.connect.transcript import Transcript
from oast.errors import DeviceError
from oast.fleet.clock import Clock
from oast.fleet.events import OnEvent
from oast.verify.checks import CheckResult


class Opener(Protocol):
    """Opens sessions to the transaction's device."""

    async def __call__(self, transcript: Transcript, *, second: bool = False, proving: bool = False) -> Session:
        """A new session; with `second`, by the second way in; `proving`, as every later one will come in. Raises DeviceError."""

    @property
    def has_second(self) -> bool:
        """Whether the inventory names a second way in."""


class Moved(DeviceError):
    """The device has changed since it was compared: compare again."""


@dataclass(frozen=True)
class Lost:
    """Why a device's session is lost or out of step, so that its state is not known."""

    cause: Cause
    reason: str
    hint: str | None = None
    failed: tuple[CheckResult, ...] = ()


@dataclass(frozen=True)
class Means:
    """What a transaction works with. `timer_s` is how long the device may wait for a confirmation; `journal` is where every step is
    written down before it is taken."""

    syntax: IndentedSyntax
    opener: Opener
    backup: Backup
    log: Path
    timer_s: float
    on_event: OnEvent
    clock: Clock
    journal: DeviceJournal
