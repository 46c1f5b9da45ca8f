"""The public Python interface: an estate, opened; what it can be asked, and what can be done with it. The
page: docs/python.md."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from pathlib import Path

from oast.change.plan import ApplyMode, Mode
from oast.change.rollout import new_run_id
from oast.connect import Connector, Session
from oast.errors import UsageError
from oast.estate import SETTINGS_FILE, Device, Estate, load_estate
from oast.fleet import OnEvent, ignore_event
from oast.operations import deliver
from oast.operations.ask import parse_query
from oast.operations.deliver import Plan
from oast.operations.intent_context import prepare_intents, render
from oast.operations.lint import LintResult, lint_estate
from oast.operations.verify import Verification, checks_for, verify_network
from oast.readings import Record, read_readings

NOTHING: Mapping[str, str] = {}


class OpenSession:
    """A session with one device. It ends with the context it was opened in."""

    def __init__(self, session: Session) -> None:
        self._session = session

    async def read(self, reading: str, to: str | None = None) -> list[Record]:
        """The records of one reading of the device's platform; of a ping or a trace, to the address `to`.
        Raises UsageError when it has no such reading, DeviceError."""
        platform = self._session.platform
        if reading not in platform.readings:
            raise UsageError(
                f"the platform '{platform.name}' has no reading '{reading}'",
                hint=", ".join(platform.readings),
            )
        name = parse_query(reading, to)
        return (await read_readings(self._session, platform, [name]))[name]

    async def running(self) -> str:
        """The text of the running configuration, secrets and all. Raises DeviceError."""
        return await self._session.read_running()


class OpenEstate:
    """An estate that was read whole. Opening it writes nothing, and no device is touched."""

    def __init__(self, estate: Estate, environment: Mapping[str, str]) -> None:
        self._estate = estate
        self._environment = environment

    @property
    def folder(self) -> Path:
        """Where the estate is."""
        return self._estate.folder

    @property
    def devices(self) -> Mapping[str, Device]:
        """Every device of the inventory by name."""
        return self._estate.devices

    def pick(self, on: str | None = None) -> list[str]:
        """The names of the devices that a selector picks. Raises EstateError when it picks none."""
        return [device.name for device in self._estate.pick(on)]

    def lint(self, on: str | None = None, sections: Sequence[str] = ()) -> LintResult:
        """Every mistake that can be found without a device."""
        return lint_estate(self.folder, self._environment, on=on, sections=sections)

    def render(self, on: str | None = None, sections: Sequence[str] = ()) -> dict[str, str]:
        """The intended text of each device; secrets are fingerprints. Raises EstateError."""
        prepared = render(self._estate, on, sections)
        return {
            intent.device.name: prepared.syntax_of(intent).masked(intent.tree) for intent in prepared.intents
        }

    async def compare(
        self,
        on: str | None = None,
        sections: Sequence[str] = (),
        *,
        mode: Mode = "replace",
        remove_unknown: bool = False,
        parallel: int | None = None,
        timeout_s: float | None = None,
        on_event: OnEvent = ignore_event,
    ) -> Plan:
        """Read the devices and work out what would change. Deliver the plan, or close it. Raises
        EstateError."""
        prepared = prepare_intents(self._estate, on, sections)
        return await deliver.compare(
            prepared,
            ApplyMode(mode, remove_unknown),
            parallel=parallel,
            timeout_s=timeout_s,
            for_delivery=True,
            on_event=on_event,
        )

    async def verify(
        self,
        on: str | None = None,
        sections: Sequence[str] = (),
        *,
        wait_s: float = 0.0,
        on_event: OnEvent = ignore_event,
    ) -> Verification:
        """Check what must be true of the devices. Raises EstateError."""
        prepared = prepare_intents(self._estate, on, sections)
        return await verify_network(
            prepared, checks_for(prepared, sections), wait_s=wait_s, on_event=on_event
        )

    @asynccontextmanager
    async def session(self, name: str, *, timeout_s: float | None = None) -> AsyncIterator[OpenSession]:
        """A session with the device `name` for the time of the context. Raises EstateError, DeviceError."""
        device = self._estate.device(name)
        platform = prepare_intents(self._estate, f"name={name}").builder.platform(device)
        log = self._estate.working / "log" / new_run_id() / f"{name}.log"
        async with Connector(self._estate, [device], timeout_s).session(device, platform, log) as session:
            yield OpenSession(session)


def open_estate(path: str | Path, environment: Mapping[str, str] = NOTHING) -> OpenEstate:
    """Read the estate in the folder `path`; secrets come from `environment` (os.environ, for example) and
    from where oast.toml says.

    Raises UsageError when there is no estate, EstateError with all mistakes in it.
    """
    folder = Path(path)
    if not (folder / SETTINGS_FILE).is_file():
        raise UsageError(f"{folder} is not an estate: it has no {SETTINGS_FILE}")
    return OpenEstate(load_estate(folder, environment), environment)
