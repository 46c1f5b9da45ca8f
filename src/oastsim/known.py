"""What is given of a network: its devices, its cables, and what each device is configured to be; and what
time it is."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

from oastsim.facts import Facts, Filters
from oastsim.network import DevicePlan

End = tuple[str, str]


@dataclass
class Known:
    """`facts`, `filters` and `alive` change; `links` hold both ends of every cable. `outside` are the names
    of hosts that are not devices. `clock` returns seconds."""

    devices: Mapping[str, DevicePlan]
    links: Mapping[End, End]
    clock: Callable[[], float]
    convergence_s: float
    outside: frozenset[str] = frozenset()
    facts: dict[str, Facts] = field(default_factory=dict)
    alive: dict[str, bool] = field(default_factory=dict)
    # Those that run and are configured to speak BGP.
    speakers: set[str] = field(default_factory=set)
    # Counts everything that may change where packets go; results stay valid as long as it is the same.
    generation: int = 0
    # When that was: whatever holds now has held since then.
    changed_at_s: float = 0.0
    # Counts, for each device, what has changed of it or of what is plugged into it.
    touched: dict[str, int] = field(default_factory=dict)
    _filters: dict[str, Callable[[], Filters]] = field(default_factory=dict)
    _read: dict[str, Filters] = field(default_factory=dict)
    _moments: list[tuple[float, str]] = field(default_factory=list)

    def put(self, name: str, facts: Facts, filters: Callable[[], Filters], *, alive: bool) -> None:
        """What a device is configured to be from now on."""
        self.facts[name] = facts
        self._filters[name] = filters
        self._read.pop(name, None)
        self.alive[name] = alive
        (self.speakers.add if alive and facts.bgp is not None else self.speakers.discard)(name)
        self.changed()

    def changed(self, touched: Iterable[str] = ()) -> None:
        """Note a change of the `touched` devices: former results may not be valid."""
        self.generation += 1
        self.changed_at_s = self.clock()
        for name in touched:
            self.touched[name] = self.touched.get(name, 0) + 1

    def filters(self, name: str) -> Filters:
        """What a device lets through now."""
        if name not in self._read:
            self._read[name] = self._filters[name]()
        return self._read[name]

    def filtered(self, name: str) -> None:
        """What a device lets through may be something else now."""
        self._read.pop(name, None)
        self.changed()

    def later(self, at_s: float, device: str) -> None:
        """Something will change by itself at `at_s`."""
        heapq.heappush(self._moments, (at_s, device))

    def due(self) -> set[str]:
        """The devices of which something has changed by itself since one asked last."""
        found: set[str] = set()
        now = self.clock()
        while self._moments and self._moments[0][0] <= now:
            at_s, device = heapq.heappop(self._moments)
            self.changed_at_s = max(self.changed_at_s, at_s)
            found.add(device)
        if found:
            self.generation += 1
        return found

    def progress(self, since_s: float) -> float:
        """How far something has come together that began at `since_s`: 1 and more is all the way."""
        return (self.clock() - since_s) / self.convergence_s if self.convergence_s else 1.0
