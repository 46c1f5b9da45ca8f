"""Monitoring of devices that are not being delivered to: sessions with them, and checks of earlier waves."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, Iterator, Sequence

from oast.change.device import DeviceTransaction
from oast.change.rollout.wave import EarlierWaveCheck
from oast.connect import Connector, Session, close_sessions
from oast.errors import DeviceError
from oast.intent import Intent
from oast.readings import Readings, read_readings
from oast.verify import Check


class MonitoringSessions:
    """Sessions with monitored devices: each is opened when it is first needed, and anew after an error."""

    def __init__(self, connector: Connector) -> None:
        self._connector = connector
        self._sessions: dict[str, Session] = {}

    async def read(self, intent: Intent, readings: Sequence[str]) -> Readings:
        """Read a device. Raises DeviceError; its session is closed then."""
        name = intent.device.name
        session = self._sessions.get(name)
        if session is None:
            session = self._sessions[name] = await self._connector.open(intent.device, intent.platform)
        try:
            return await read_readings(session, intent.platform, readings)
        except DeviceError:
            await self.release([name])
            raise

    def hide(self, name: str, text: str) -> str:
        """`text` from a device that was read, without the secrets of its session."""
        return self._sessions[name].transcript.masking.hide(text)

    async def release(self, names: Iterable[str]) -> None:
        """Close the sessions with some devices, in bounded time."""
        await close_sessions([one for name in names if (one := self._sessions.pop(name, None)) is not None])

    async def close(self) -> None:
        """Close all sessions, in bounded time. Safe to call again."""
        await self.release(list(self._sessions))


class EarlierWaveMonitor:
    """Checks devices of earlier waves during a wave: those with checks that depend on one of its devices."""

    def __init__(
        self,
        connector: Connector,
        delivered: Sequence[DeviceTransaction],
        names: set[str],
        later: frozenset[str],
    ) -> None:
        """`names` are the devices of the wave, `later` those of the waves after it."""
        self._sessions = MonitoringSessions(connector)
        self.checks = []
        for transaction in delivered:
            own = (check for check in transaction.checks if check.peer in names)
            checks = (*own, *_deferred(transaction, names, later))
            if checks:
                readings = self._readings_of(transaction, checks)
                self.checks.append(
                    EarlierWaveCheck(
                        transaction.name, checks, readings, transaction.is_excused, transaction.hide
                    )
                )

    def _readings_of(
        self, transaction: DeviceTransaction, checks: Sequence[Check]
    ) -> Callable[[], Awaitable[Readings]]:
        names = sorted({check.reading for check in checks})
        return lambda: self._sessions.read(transaction.comparison.intent, names)

    async def close(self) -> None:
        """Close the sessions."""
        await self._sessions.close()


def _deferred(transaction: DeviceTransaction, names: set[str], later: frozenset[str]) -> Iterator[Check]:
    """Its checks that waited for these devices and for none that is still to come; the first of them answers
    for each."""
    for check, peers in transaction.deferred:
        here = sorted(peers & names)
        if here and not peers & later:
            yield check._replace(peer=here[0])
