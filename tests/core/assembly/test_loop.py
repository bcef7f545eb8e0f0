"""Music that goes on: the same wherever it is asked for, without a step where it goes back."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kettle_core.assembly.loop import STEP_SAMPLES, quiet_loop, read_looped

HZ = 48_000


def tune(samples, breaks):
    """A tone that is quiet at some places."""
    at = np.arange(samples)
    loud = np.ones(samples)
    for middle in breaks:
        loud *= 1 - 0.95 * np.exp(-(((at - middle) / 4000) ** 2))
    return np.stack([np.sin(at * 0.05) * loud, np.cos(at * 0.031) * loud]).astype(np.float32)


class Looping(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.tune = tune(12 * HZ, (2 * HZ, 10 * HZ))
        cls.loop = quiet_loop(np.sqrt((cls.tune**2).mean(0).reshape(-1, STEP_SAMPLES).mean(1)))

    def read(self, first, count):
        found = np.zeros((2, count), np.float32)
        begin, end = max(0, first), min(first + count, self.tune.shape[1])
        if begin < end:
            found[:, begin - first : end - first] = self.tune[:, begin:end]
        return found

    def test_it_goes_back_at_the_quietest_places(self):
        for found, wanted in zip(self.loop, (2 * HZ, 10 * HZ), strict=True):
            self.assertLess(abs(found - wanted), 0.1 * HZ)

    @given(st.integers(0, 40 * HZ), st.lists(st.integers(1, 3 * HZ), min_size=1, max_size=5))
    def test_parts_are_the_whole(self, first, counts):
        whole = read_looped(self.read, self.loop, first, sum(counts))
        at, parts = first, []
        for count in counts:
            parts.append(read_looped(self.read, self.loop, at, count))
            at += count
        np.testing.assert_array_equal(np.concatenate(parts, axis=1), whole)

    def test_there_is_no_step_and_no_silence_where_it_goes_back(self):
        made = read_looped(self.read, self.loop, 0, 30 * HZ)
        steps = np.abs(np.diff(made, axis=1)).max()
        self.assertLessEqual(steps, np.abs(np.diff(self.tune, axis=1)).max() * 1.01)
        np.testing.assert_array_equal(made[:, : 9 * HZ], self.tune[:, : 9 * HZ])
        length = self.loop[1] - self.loop[0]
        again = made[:, self.loop[1] : self.loop[1] + length // 2]
        there = self.tune[:, self.loop[0] : self.loop[0] + length // 2]
        np.testing.assert_array_equal(again, there)

    def test_what_is_short_goes_on_from_its_beginning(self):
        self.assertEqual(quiet_loop(np.ones(20)), (0, 20 * STEP_SAMPLES))
