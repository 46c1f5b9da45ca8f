"""The lock of a run: one holds it at a time, whenever the one before goes."""

from __future__ import annotations

import fcntl
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from oast.change.record.locks import RunLock
from oast.errors import StateError


class RunLockTest(unittest.TestCase):
    def setUp(self) -> None:
        self.working = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))

    def lock(self) -> RunLock:
        made = RunLock(self.working, "watch")
        self.addCleanup(made.release, done=True)
        return made

    def test_one_holds_it_until_it_is_released(self) -> None:
        first, second = self.lock(), self.lock()
        self.assertTrue(first.try_acquire())
        self.assertFalse(second.try_acquire())
        with self.assertRaisesRegex(StateError, "another process holds"):
            second.acquire()
        self.assertTrue(second.is_held())
        first.release(done=True)
        self.assertTrue(second.try_acquire())

    def test_whoever_has_opened_the_file_when_it_is_taken_away_and_made_anew_is_not_a_second_holder(
        self,
    ) -> None:
        first, second, third = self.lock(), self.lock(), self.lock()
        self.assertTrue(first.try_acquire())
        flock, taken = fcntl.flock, []

        def late(handle: int, how: int) -> None:
            if not taken:
                taken.append(True)
                first.release(done=True)
                taken.append(third.try_acquire())
            flock(handle, how)

        with mock.patch("oast.change.record.locks.fcntl.flock", late):
            self.assertFalse(second.try_acquire())
        self.assertEqual(taken, [True, True])
        self.assertTrue(second.is_held())


if __name__ == "__main__":
    unittest.main()
