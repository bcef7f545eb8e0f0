import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import TimingError
from kettle_core.timing.ticks import NS_PER_S, frame_at, frame_to_ns

RATES = st.sampled_from([Fraction(r) for r in ("15", "24000/1001", "25", "30000/1001", "30", "60")])


class Frames(unittest.TestCase):
    @given(st.integers(0, 10**7), RATES)
    def test_a_frame_begins_within_half_a_ns_of_its_exact_time(self, number, fps):
        self.assertLessEqual(
            abs(frame_to_ns(number, fps) - number * NS_PER_S / fps), Fraction(1, 2)
        )
        self.assertLess(frame_to_ns(number, fps), frame_to_ns(number + 1, fps))

    def test_a_rate_of_nought_is_refused(self):
        with self.assertRaisesRegex(TimingError, "above 0 fps"):
            frame_to_ns(1, Fraction(0))

    @given(
        st.lists(st.integers(0, 10**6), min_size=1, max_size=30, unique=True).map(sorted),
        st.lists(st.integers(-(10**5), 2 * 10**6), max_size=10),
        st.integers(0, 1000),
    )
    def test_the_frame_at_a_time_is_the_latest_that_is_not_too_late(self, captured, wanted, late):
        found = frame_at(np.array(captured), np.array(wanted, np.int64), late)
        for at, place in zip(wanted, found, strict=True):
            there = [n for n, c in enumerate(captured) if c <= at + late]
            self.assertEqual(place, there[-1] if there else 0)
