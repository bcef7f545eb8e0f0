"""Where pieces lie: what was kept is seen, whatever the speeds beside it."""

import unittest
from fractions import Fraction

from hypothesis import example, given
from hypothesis import strategies as st

from kettle_bench.truth.cutting import RATES, slowly_laid
from kettle_core.assembly.cut_changes import at_speed
from kettle_core.assembly.cut_list import CutList, Known, Piece, Place
from kettle_core.assembly.excerpt import excerpt
from kettle_core.assembly.laid import check_is_seen, laid, time_map, too_short
from kettle_core.errors import CutError
from kettle_core.timing.time_map import Source

S, MS = 10**9, 10**6
HALF = Fraction(1, 2)
SPEEDS = (10, 50, 99, 100, 100, 101, 150, 400, 1600, 6400)


@st.composite
def rows(draw):
    """Pieces of one take, many of which go on from the one before."""
    pieces, at = [], draw(st.integers(0, 2 * S))
    for number in range(draw(st.integers(1, 7))):
        if draw(st.booleans()):
            at = draw(st.integers(0, 20 * S))
        until = at + draw(st.one_of(st.integers(1, 80 * MS), st.integers(1, 9 * S)))
        percent, out = draw(st.sampled_from(SPEEDS)), draw(st.integers(0, 4)) == 0
        pieces.append(Piece(f"p{number}", "t", at, until, out, percent))
        at = until
    return CutList(tuple(pieces))


class LaidPieces(unittest.TestCase):
    @given(rows(), st.sampled_from(RATES))
    def test_as_a_slow_model_lays_them(self, cuts, fps):
        there = [one for one in laid(cuts, fps) if not one.piece.out]
        frames = [(o.start_ns * fps / S, o.end_ns * fps / S, o.from_ns, o.until_ns) for o in there]
        slow = slowly_laid(cuts.shown, fps)
        self.assertEqual(frames, [(row.first, row.end, row.from_ns, row.until_ns) for row in slow])

    @example(
        CutList((Piece("a", "t", 0, 6 * S), Piece("b", "t", 6 * S, 8950 * MS, percent=1600),
                 Piece("c", "t", 8950 * MS, 12 * S))), Fraction(30)
    )  # fmt: skip
    @given(rows(), st.sampled_from(RATES))
    def test_what_is_kept_as_it_was_is_seen_to_half_a_frame_at_its_own_speed(self, cuts, fps):
        half_ns = HALF * S / fps
        for one in laid(cuts, fps):
            if one.piece.out or one.piece.percent != 100:
                continue
            self.assertEqual(one.speed, 1)
            self.assertLessEqual(abs(one.from_ns - one.piece.from_ns), half_ns)
            self.assertLessEqual(abs(one.until_ns - one.piece.until_ns), half_ns)

    def test_a_click_after_a_fast_stretch_and_speeds_of_what_is_too_short(self):
        fast = Piece("b", "t", 9 * S, 10 * S, percent=6400)
        cuts = CutList((Piece("a", "t", 0, 9 * S), fast, Piece("c", "t", 10 * S, 11 * S)))
        clicks = time_map(cuts, Fraction(30)).program_times(Source("take", "t"), 10 * S)
        self.assertEqual(clicks, (9 * S,))
        self.assertEqual([p.speed for p in time_map(cuts, Fraction(30)).pieces], [1, 1])
        self.assertIn(
            "A piece is shorter than half a frame", too_short(CutList(), cuts, Fraction(30))
        )
        self.assertEqual(too_short(cuts, cuts, Fraction(30)), "")

    def test_a_speed_at_which_nothing_were_left_is_refused_with_the_most_that_can_be(self):
        known = Known({"t": 20 * S})
        cuts = CutList((Piece("a", "t", 0, 20 * S),))
        ends = Place("a", 9 * S), Place("a", 10 * S)
        with self.assertRaisesRegex(CutError, "1.00 s would be shorter .* at most 30 ×"):
            at_speed(cuts, known, *ends, 6400, False)
        made = at_speed(cuts, known, *ends, 3000, False)
        self.assertEqual([p.percent for p in made.pieces], [100, 3000, 100])
        with self.assertRaisesRegex(CutError, "No piece of the cut list is as long as half a"):
            check_is_seen(CutList((Piece("a", "t", 0, MS),)), Fraction(30))

    @given(rows(), st.sampled_from(RATES), st.data())
    def test_an_excerpt_is_as_long_as_what_it_is_of(self, cuts, fps, data):
        whole = time_map(cuts, fps).length_ns * fps / S
        if not whole:
            return
        first = data.draw(st.integers(0, int(whole) - 1))
        last = data.draw(st.integers(first + 1, int(whole)))
        ns = [round(frame * S / fps) for frame in (first, last)]
        made = time_map(excerpt(cuts, fps, *ns), fps)
        self.assertLessEqual(abs(made.length_ns * fps / S - (last - first)), 1)
