"""Odd inputs and hostile devices in a small number, always the same ones; `make fuzz` tries many others."""

from __future__ import annotations

import unittest

import fuzzing
import hostile

INPUTS = 110
SESSIONS = 14
SEED = 2026


class FuzzTest(unittest.TestCase):
    def test_no_input_ends_in_anything_but_a_result_or_an_error_in_words(self) -> None:
        self.assertEqual(fuzzing.run(INPUTS, SEED), [])

    def test_of_hostile_devices_the_truth_is_told(self) -> None:
        self.assertEqual(hostile.sessions(SESSIONS, SEED), [])

    def test_what_is_looked_for_would_be_found(self) -> None:
        """A target that fails, hangs or writes where it should not is told."""

        def broken(data: bytes) -> None:
            raise IndexError("x")

        self.assertIn("IndexError", fuzzing.tried(fuzzing.Target("broken", ["a"], broken), b"a") or "")
