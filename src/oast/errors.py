"""The error family: one root, one branch for each thing a person can do about it.

Which exit code belongs to which branch is known to `oast.cli` alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from oast.records import Place, Problem


class OastError(Exception):
    """Root of every error Oast raises on purpose; `message` is a whole sentence for a person."""

    def __init__(self, message: str, *, place: Place | None = None, hint: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.place = place
        self.hint = hint

    def problems(self) -> Sequence[Problem]:
        """What is wrong, one record for each thing to mend."""
        return (Problem(self.message, self.place, self.hint),)


class UsageError(OastError):
    """The command line asks for something that does not exist: change the command."""


class EstateError(OastError):
    """What the engineer wrote is not right: change the files of the estate. May carry many problems."""

    def __init__(
        self,
        message: str,
        *,
        place: Place | None = None,
        hint: str | None = None,
        problems: Sequence[Problem] = (),
    ) -> None:
        super().__init__(message, place=place, hint=hint)
        self._problems = tuple(problems)

    @classmethod
    def of(cls, problems: Sequence[Problem]) -> EstateError:
        """One error for all `problems` (at least one)."""
        first = problems[0]
        return cls(first.message, place=first.place, hint=first.hint, problems=problems)

    def problems(self) -> Sequence[Problem]:
        return self._problems or super().problems()


class ErrorCollector:
    """Collects mistakes in parts that can be read independently, so that all are reported together."""

    def __init__(self) -> None:
        self.found: list[Problem] = []
        self.warnings: list[Problem] = []
        """Problems that stop nothing."""

    @contextmanager
    def collected(self) -> Iterator[None]:
        """An EstateError inside ends this part only, and is kept."""
        try:
            yield
        except EstateError as error:
            self.found.extend(error.problems())

    def raise_any(self) -> None:
        """Raises EstateError with everything that was found, if anything was."""
        if self.found:
            raise EstateError.of(self.found)


class DeviceError(OastError):
    """Root of what can go wrong with one device while the others go on."""


class ConnectionFailed(DeviceError):
    """The device could not be reached, or the session to it was lost: look at the network and the device."""


class RollbackPending(ConnectionFailed):
    """The device runs something else than it did before the change, and may yet roll back on its own: ask
    again when its timer is over."""


class RollbackLeftover(DeviceError):
    """The device runs what it ran before the change, and something of the rollback remains on it: remove that
    on the device."""


class DeviceTimeout(ConnectionFailed):
    """The device stopped answering within its deadline; `last` is the end of what it sent, secrets masked."""

    last: str = ""


class AuthenticationFailed(DeviceError):
    """The device did not accept the credentials: look at user, password or key."""


class HostKeyError(DeviceError):
    """The device's host key is unknown or has changed: compare fingerprints, then trust it on purpose."""


class DeviceRefused(DeviceError):
    """The device answered with an error: look at the statement it refused."""

    def __init__(
        self, message: str, *, statement: str, answer: str, number: int | None = None, hint: str | None = None
    ) -> None:
        super().__init__(message, hint=hint)
        self.statement = statement
        self.answer = answer
        self.number = number


class ProtocolError(DeviceError):
    """The device said something the platform definition does not expect: look at the transcript."""


class InternalDeviceError(DeviceError):
    """An internal error in one device's part: it ends that part alone. The transcript holds the place in the
    code."""

    def __init__(self, error: Exception) -> None:
        hint = "report it with the transcript of this device; the other devices were finished"
        super().__init__(f"internal error in Oast: {type(error).__name__}", hint=hint)


class StateError(OastError):
    """The working data or another run is in the way: wait, or look at what is named."""


class ApprovalError(OastError):
    """The change was not approved, or differs from what was approved."""
