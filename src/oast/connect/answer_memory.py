"""What all sessions of this process hold of answers that are not complete yet, together."""

from __future__ import annotations

from weakref import WeakKeyDictionary

AT_MOST_BYTES = 64_000_000


class TooMuchHeld(Exception):
    """All unfinished answers together take too much, and this session holds the most."""


class AnswerMemory:
    """Counts the bytes of unfinished answers by session. When all together exceed `at_most`, the session with
    the largest is given up, so that devices with ordinary answers do not fail because of it."""

    def __init__(self, at_most: int = AT_MOST_BYTES) -> None:
        self.at_most = at_most
        self.total = 0
        self._held: WeakKeyDictionary[object, int] = WeakKeyDictionary()
        self._given_up: WeakKeyDictionary[object, bool] = WeakKeyDictionary()

    def hold(self, session: object, size: int) -> None:
        """From now on, `session` holds `size` bytes. Raises TooMuchHeld where it is given up."""
        self.total += size - self._held.get(session, 0)
        self._held[session] = size
        if self.total > self.at_most:
            # Sessions that are gone without having released anything are not counted any more.
            self.total = sum(self._held.values())
            if self.total > self.at_most:
                self._given_up[max(self._held, key=lambda one: self._held[one])] = True
        if session in self._given_up:
            self.release(session)
            raise TooMuchHeld

    def release(self, session: object) -> None:
        """`session` holds nothing any more."""
        self.total -= self._held.pop(session, 0)
        self._given_up.pop(session, None)


ANSWERS = AnswerMemory()
