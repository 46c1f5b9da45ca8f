"""What all simulated devices have in common: a place in the network, files, faults, sessions, users."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from oastsim.facts import Facts, Filters
from oastsim.faults import Fault
from oastsim.network import Account, DevicePlan
from oastsim.state import NetworkState
from oastsim.terminal import Terminal

if TYPE_CHECKING:
    from oastsim.roundel.service import Service


class SimulatedDevice(ABC):
    """One device of any system. Its files are in `folder`.

    What it runs lasts over a stop of the simulator, as if it had slept; a timer that was armed when the
    simulator stopped has gone off by the next start.
    """

    def __init__(self, plan: DevicePlan, folder: Path, state: NetworkState) -> None:
        self.plan = plan
        self.name = plan.name
        self.state = state
        self.folder = folder
        self.fault = Fault()
        self.sessions: set[Callable[[], None]] = set()
        self.connections: set[Callable[[], None]] = set()
        # Called when its management addresses may have changed.
        self.on_addresses: Callable[[], object] = object
        self._facts: Facts | None = None
        self._started = state.now()
        # When it was last asked, by the event loop's clock.
        self.last_asked = 0.0

    @classmethod
    @abstractmethod
    def first(cls, text: str, ports: frozenset[str]) -> tuple[str, Facts]:
        """A box's first configuration, in the form in which boxes of this system are given one: as text that
        a device starts with, and what it says. Raises ValueError for one that such a box cannot take."""

    @abstractmethod
    def start(self, accounts: tuple[Account, ...], privilege_password: str) -> None:
        """Load what was kept, or the first configuration with `accounts`. Raises ValueError when it does not
        fit."""

    def restart(self) -> None:
        """All sessions end, and the device begins again with its startup."""
        for abort in list(self.connections):
            abort()
        self._started = self.state.now()
        self.load_startup()

    @property
    def uptime_s(self) -> float:
        """The seconds since it has started."""
        return self.state.now() - self._started

    @abstractmethod
    def load_startup(self) -> None:
        """What the device starts with is what it runs; no timer waits."""

    @abstractmethod
    def keep(self) -> None:
        """Write the configurations to disk, each whole."""

    @abstractmethod
    def terminal(self, user: str, height: int) -> Terminal:
        """A command line for `user`."""

    def service(self, user: str) -> Service | None:
        """A NETCONF session for `user`; None where the device has none."""
        return None

    @abstractmethod
    def password_fits(self, name: str, password: str) -> bool:
        """Whether the user may come in with it."""

    @abstractmethod
    def keys_of(self, name: str) -> list[str]:
        """The user's public keys, as lines of an authorized_keys file (RFC 4253, section 6.6)."""

    @abstractmethod
    def filters(self) -> Filters:
        """What is let through, as it is configured now."""

    @abstractmethod
    def waits_s(self) -> int | None:
        """The seconds of the timer that runs, if one does."""

    @abstractmethod
    def settle(self) -> None:
        """Let the network know what has changed since the last time."""

    @abstractmethod
    def accounts(self) -> list[tuple[str, str | None]]:
        """Who may come in, and with which role, where it has roles."""

    @property
    @abstractmethod
    def hostname(self) -> str:
        """As it is configured."""

    def tell(self, facts: Facts) -> None:
        """The network learns what the device is configured to be; sessions that wait for their path look
        again."""
        if facts == self._facts:
            self.state.filtered(self.name)
            return
        self._facts = facts
        self.state.update(self.name, facts, self.filters)
        self.on_addresses()
        for wake in list(self.sessions):
            wake()

    @property
    def reachable(self) -> bool:
        """Whether sessions can come in at one of its management addresses."""
        return self.state.reachable(self.name)

    def reachable_at(self, address: str | None) -> bool:
        """Whether sessions can come in at this address; None stands for any."""
        return self.state.reachable(self.name, address)

    @property
    def management_addresses(self) -> list[str]:
        """The addresses through which sessions may come in, as it is configured now."""
        return self.state.management_addresses(self.name)

    def read(self, name: str) -> str | None:
        """A file of the device."""
        path = self.folder / name
        return path.read_text(encoding="utf-8") if path.exists() else None

    def write(self, files: Mapping[str, str | None]) -> None:
        """Files of the device, each whole; None removes one."""
        self.folder.mkdir(parents=True, exist_ok=True)
        for name, text in files.items():
            path = self.folder / name
            if text is None:
                path.unlink(missing_ok=True)
            else:
                temporary = path.with_suffix(".new")
                temporary.write_text(text, encoding="utf-8")
                temporary.replace(path)

    def status(self) -> dict[str, object]:
        """A summary for the simulator's own status listing."""
        return {
            "system": self.plan.system,
            "hostname": self.hostname,
            "management": next(
                (a for a in self.management_addresses if self.reachable_at(a)), self.plan.management
            ),
            "reachable": self.reachable,
            "timer": self.waits_s(),
            "fault": type(self.fault).__name__.lower() if type(self.fault) is not Fault else None,
            "sessions": len(self.sessions),
        }
