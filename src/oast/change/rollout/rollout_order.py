"""Which devices are delivered to together, and after which."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from oast.estate import AntiAffinity, BatchSize, Device, Selector


@dataclass(frozen=True)
class RolloutOrder:
    """`waves` come in order, then the devices that none of them takes; none has more with one attribute than
    `apart` allows, and none more than `largest` devices."""

    waves: tuple[Selector | BatchSize, ...] = ()
    apart: AntiAffinity | None = None
    largest: int | None = None

    def of(self, devices: Sequence[Device]) -> list[list[Device]]:
        """The devices of each wave, none of them empty. What is kept apart makes several waves of one."""
        left = list(devices)
        found: list[list[Device]] = []
        for wave in self.waves:
            taken = _taken(wave, left, len(devices))
            names = {device.name for device in taken}
            left = [device for device in left if device.name not in names]
            found.append(taken)
        found.append(left)
        return [part for group in found for divided in self._divided(group) for part in self._split(divided)]

    def _split(self, devices: Sequence[Device]) -> list[list[Device]]:
        """As few waves of at most `largest` devices as possible, of about the same size."""
        count = 1 if self.largest is None else math.ceil(len(devices) / self.largest)
        size, more = divmod(len(devices), max(1, count))
        ends = [number * size + min(number, more) for number in range(count + 1)]
        return [list(devices[start:end]) for start, end in pairwise(ends) if end > start]

    def _divided(self, devices: Sequence[Device]) -> list[list[Device]]:
        if self.apart is None:
            return [list(devices)]
        parts: list[list[Device]] = []
        counts: list[Counter[str]] = []
        for device in devices:
            value = device.attributes.get(self.apart.by)
            # Who has no such attribute is nobody's pair.
            number = (
                0
                if value is None
                else next(
                    (n for n, c in enumerate(counts) if c[str(value)] < self.apart.at_most), len(counts)
                )
            )
            if number == len(parts):
                parts.append([])
                counts.append(Counter())
            parts[number].append(device)
            if value is not None:
                counts[number][str(value)] += 1
        return parts


SINGLE_WAVE = RolloutOrder()
"""All of them in one wave."""


def _taken(wave: Selector | BatchSize, left: Sequence[Device], total: int) -> list[Device]:
    if isinstance(wave, Selector):
        return [device for device in left if wave.matches(device.known_by)]
    if wave.number is not None:
        return list(left[: wave.number])
    if wave.percent is not None:
        return list(left[: math.ceil(total * wave.percent / 100)])
    return list(left)


def wave_numbers(waves: Sequence[Sequence[Device]]) -> Mapping[str, int]:
    """By device, the number of its wave, from 0."""
    return {device.name: number for number, wave in enumerate(waves) for device in wave}
