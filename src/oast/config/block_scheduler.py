"""Which of the edits that could come next does: a section of the configuration is entered once where that is
possible."""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from typing import Any

from oast.config.tree import Path

Priority = tuple[bool, tuple[Any, ...], int]


class BlockScheduler:
    """Chooses the next command, so that each block of the configuration is entered once where that is
    possible.

    A block is left when nothing more can be done in it. The next is the first, in the grammar's order, whose
    commands wait for nothing outside; only where all wait for each other is one entered that must be entered
    again.
    """

    def __init__(self, section_of: Sequence[tuple[bool, Path]], constraints: Sequence[Sequence[int]]) -> None:
        self._section_of = section_of
        self._constraints = constraints
        self._ready: dict[tuple[bool, Path], list[Priority]] = {}
        self._firsts: list[Priority] = []
        self._complete: list[Priority] = []
        self._outside: dict[tuple[bool, Path], int] = dict.fromkeys(section_of, 0)
        self._open: tuple[bool, Path] | None = None
        self._taken: set[int] = set()
        for number, followers in enumerate(constraints):
            for follower in followers:
                if section_of[follower] != section_of[number]:
                    self._outside[section_of[follower]] += 1

    def put(self, priority: Priority) -> None:
        """This edit waits for nothing any more."""
        section = self._section_of[priority[-1]]
        heapq.heappush(self._ready.setdefault(section, []), priority)
        heapq.heappush(self._firsts, priority)
        if not self._outside[section]:
            heapq.heappush(self._complete, priority)

    def take(self) -> int | None:
        """The edit to be done now; None when all that are left wait for each other."""
        section = self._open if self._open is not None and self._ready.get(self._open) else self._next()
        if section is None:
            return None
        self._open = section
        number = heapq.heappop(self._ready[section])[-1]
        self._taken.add(number)
        for follower in self._constraints[number]:
            freed = self._section_of[follower]
            if freed != section:
                self._outside[freed] -= 1
                if not self._outside[freed]:
                    for priority in self._ready.get(freed, ()):
                        heapq.heappush(self._complete, priority)
        return number

    def _next(self) -> tuple[bool, Path] | None:
        complete, first = self._top(self._complete), self._top(self._firsts)
        if first is None:
            return None
        # What goes last comes last, whatever else could be done at once.
        chosen = complete if complete is not None and complete[0] == first[0] else first
        return self._section_of[chosen[-1]]

    def _top(self, heap: list[Priority]) -> Priority | None:
        while heap and heap[0][-1] in self._taken:
            heapq.heappop(heap)
        return heap[0] if heap else None
