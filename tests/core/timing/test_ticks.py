import unittest
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.timing.ticks import frame_count, frame_to_ns

RATES = st.sampled_from([Fraction(r) for r in ("15", "24000/1001", "25", "30000/1001", "30", "60")])
MS, NS = Fraction(1, 1000), Fraction(1, 10**9)


class Conversion(unittest.TestCase):
    @given(st.integers(0, 10**7), RATES)
    def test_a_duration_holds_the_frames_that_start_in_it(self, frames, fps):
        exact_ns = frame_to_ns(frames, fps)
        self.assertIn(frame_count(exact_ns, fps) - frames, (0, 1))
        self.assertLess(frame_to_ns(frames, fps), frame_to_ns(frames + 1, fps))
