import unittest
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import TimingError
from kettle_core.timing.pauses import KEPT_NS, Pauses
from kettle_core.timing.time_map import Source, closed

GAPS = st.lists(st.integers(1, 20 * 10**9), min_size=2, max_size=6)


def paused(gaps):
    """Pauses that begin and end after each of some gaps."""
    pauses, now = Pauses(), 0
    for number, gap in enumerate(gaps):
        now += gap
        (pauses.end if number % 2 else pauses.begin)(now)
    return pauses, now


class Pausing(unittest.TestCase):
    @given(GAPS, st.integers(0, 10**11), st.integers(1, 4 * 10**7))
    def test_what_take_time_has_is_always_written(self, gaps, at_ns, length_ns):
        pauses, _ = paused(gaps)
        away = [(s, 10**12 if e is None else e) for s, e in pauses.stretches]
        take_time = closed(Source("take", "x"), 10**12, away)
        if pauses.leave_out(at_ns, at_ns + length_ns):
            for place in (at_ns, at_ns + length_ns - 1):
                self.assertEqual(take_time.program_times(Source("take", "x"), place), ())

    @given(GAPS, st.integers(0, 10**11), st.integers(0, 10**11))
    def test_what_lies_outside_is_what_no_pause_leaves_out(self, gaps, from_ns, length_ns):
        pauses, _ = paused(gaps)
        until_ns = from_ns + length_ns
        ends = sorted({from_ns, until_ns, *(
            max(from_ns, min(until_ns, at))
            for start, end in pauses.unwritten for at in (start, end or until_ns)
        )})  # fmt: skip
        pieces = pairwise(ends)
        written = sum(b - a for a, b in pieces if not any(
            start <= a and (end is None or b <= end) for start, end in pauses.unwritten
        ))  # fmt: skip
        self.assertEqual(pauses.outside_ns(from_ns, until_ns), written)

    @given(GAPS)
    def test_the_beginning_of_a_pause_is_written_the_rest_is_not(self, gaps):
        pauses, _ = paused(gaps)
        for start, end in pauses.stretches:
            until = start + KEPT_NS
            self.assertFalse(pauses.leave_out(until - 1, until))
            if end is None or end > until:
                self.assertTrue(pauses.leave_out(until, until + 1))
            if end is not None and end > until:
                self.assertFalse(pauses.leave_out(end - 1, end + 1))

    def test_a_pause_within_a_pause_and_an_end_of_none_are_refused(self):
        pauses = Pauses()
        with self.assertRaisesRegex(TimingError, "no pause"):
            pauses.end(1)
        pauses.begin(1)
        with self.assertRaisesRegex(TimingError, "already"):
            pauses.begin(2)
        self.assertEqual(pauses.stretches, ((1, None),))
