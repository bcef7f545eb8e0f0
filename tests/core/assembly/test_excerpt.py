"""A part of a program shows what the whole shows there, frame by frame."""

import unittest
from fractions import Fraction

from hypothesis import assume, given
from hypothesis import strategies as st

from kettle_core.assembly.excerpt import excerpt
from kettle_core.assembly.laid import laid, time_map
from tests.core.assembly.test_cut_list import S, cut_lists

FPS = Fraction(30)


def frames(cuts):
    return int(time_map(cuts, FPS).length_ns * FPS / S) if cuts.shown else 0


class Excerpts(unittest.TestCase):
    @given(cut_lists(), st.integers(0, 2000), st.integers(1, 2000))
    def test_each_frame_is_that_of_the_whole(self, cuts, first, count):
        total = frames(cuts)
        assume(total > 1)
        first %= total - 1
        end = min(total, first + count)
        part = excerpt(cuts, FPS, round(first * S / FPS), round(end * S / FPS))
        # A piece's end may round to one frame more or less where it was cut at another frame.
        self.assertAlmostEqual(frames(part), end - first, delta=1)
        whole, seen = time_map(cuts, FPS), time_map(part, FPS)
        for number in range(0, min(frames(part), end - first), 7):
            source, at = seen.source_at(number * S / FPS)
            wanted, there = whole.source_at((first + number) * S / FPS)
            if source == wanted:
                # A frame of the program more or less, as above, is up to four of the source.
                self.assertLessEqual(abs(at - there), 4 * S / FPS)

    @given(cut_lists())
    def test_all_of_it_is_the_list_itself(self, cuts):
        self.assertIs(excerpt(cuts, FPS, 0, 0), cuts)
        rows = laid(cuts, FPS)
        self.assertIs(excerpt(cuts, FPS, 0, int(rows[-1].end_ns) + S), cuts)

    @given(cut_lists(), st.integers(1, 20 * S))
    def test_fades_stay_with_the_ends_that_they_belong_to(self, cuts, at_ns):
        rows = [one for one in laid(cuts, FPS) if one.end_ns > one.start_ns]
        assume(rows and at_ns < rows[-1].end_ns)
        after = excerpt(cuts, FPS, at_ns, 0).pieces
        self.assertEqual(after[-1].fade_out_ms, rows[-1].piece.fade_out_ms)
        parts = [one for one in rows if one.start_ns < at_ns < one.end_ns]
        if parts:
            self.assertEqual(after[0].fade_in_ms, 0)
