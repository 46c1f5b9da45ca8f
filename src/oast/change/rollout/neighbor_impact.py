"""The devices that stand around those of a wave: what was true of them before the change has to stay so,
before it is confirmed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial

from oast.change.rollout.monitoring import MonitoringSessions
from oast.connect import Connector
from oast.errors import DeviceError
from oast.fleet import for_each
from oast.intent import Intent
from oast.readings import Readings
from oast.verify import NAMES, Check, CheckResult, evaluate

NAMED = 3


class NeighborImpact:
    """Looks at devices that the change does not touch, and at those that it does not touch yet. Whoever
    cannot be read before the change is not looked at any more."""

    def __init__(
        self,
        connector: Connector,
        intents: Iterable[Intent],
        near: Callable[[Iterable[str]], set[str]],
        checks_of: Callable[[str, Readings], Iterable[Check]],
        parallel: int,
    ) -> None:
        """`intents` are of all devices there are, `near` tells which stand around some, and `checks_of` makes
        the checks of one device of what was read of it before."""
        self._intents = {intent.device.name: intent for intent in intents}
        self._near = near
        self._checks_of = checks_of
        self._parallel = parallel
        self._outside: set[str] = set()
        self._checks: dict[str, list[Check]] = {}
        self._sessions = MonitoringSessions(connector)
        # Those that could not be read before, and why: nothing can be missed there.
        self.unmonitored: dict[str, DeviceError] = {}

    async def begin(self, waves: Sequence[Sequence[str]]) -> None:
        """Read those around `waves` of devices that are going to be changed; those that cannot be read are
        `unmonitored`."""
        changing = {name for wave in waves for name in wave}
        self._outside = self._near(changing) - changing
        besides: set[str] = set()
        begun: set[str] = set()
        for wave in waves:
            begun.update(wave)
            besides |= self._near(wave) - begun

        async def one(name: str) -> list[Check]:
            return list(
                self._checks_of(name, await self._sessions.read(self._intents[name], self._readings(name)))
            )

        def done(name: str, result: list[Check] | DeviceError) -> None:
            if isinstance(result, DeviceError):
                self.unmonitored[name] = result
            else:
                self._checks[name] = result

        await for_each(
            [name for name in self._intents if name in self._outside | besides], one, self._parallel, done
        )

    def _readings(self, name: str) -> list[str]:
        return [reading for reading in NAMES if reading in self._intents[name].platform.readings]

    async def look(self, wave: Sequence[str], later: Iterable[str]) -> list[CheckResult]:
        """What is not as it was around a wave, and around all when there are no `later` devices. A device
        that cannot be read any more is a result of its own."""
        found: list[CheckResult] = []
        later = set(later)
        names = self._near(wave) & (later | self._outside) if later else self._outside

        async def one(name: str) -> list[CheckResult]:
            checks = self._checks[name]
            readings = await self._sessions.read(
                self._intents[name], sorted({check.reading for check in checks})
            )
            hide = partial(self._sessions.hide, name)
            return [result for result in evaluate(checks, readings, hide) if not result.passed]

        def done(name: str, result: list[CheckResult] | DeviceError) -> None:
            if isinstance(result, DeviceError):
                check = Check(name, "the device answers, as before the change", "", {}, None, "an answer", ())
                found.append(CheckResult(check, result.message, passed=False))
            else:
                found.extend(result)

        await for_each(
            [name for name, checks in self._checks.items() if checks and name in names],
            one,
            self._parallel,
            done,
        )
        return _together(found)

    async def leave(self, names: Iterable[str]) -> None:
        """End the sessions with devices whose turn it is to be changed."""
        await self._sessions.release(names)

    async def close(self) -> None:
        """End the sessions. Safe to call again."""
        await self._sessions.close()


def _together(found: Sequence[CheckResult]) -> list[CheckResult]:
    """The same thing on several devices is one result, which names them."""
    groups: dict[tuple[str, str | None], list[CheckResult]] = {}
    for result in found:
        groups.setdefault((result.check.title, result.actual), []).append(result)
    made = []
    for (title, _), results in groups.items():
        names = sorted(result.check.device for result in results)
        more = f" and {len(names) - NAMED} more" if len(names) > NAMED else ""
        made.append(
            results[0]._replace(
                check=results[0].check._replace(title=f"{', '.join(names[:NAMED])}{more}: {title}")
            )
        )
    return made
