import unittest
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import TimingError
from kettle_core.timing.time_map import Piece, Source, TimeMap, closed, lay, to_ns

TAKES = [Source("take", name) for name in "ab"]
LENGTH_NS = 10**10
SPEEDS = st.sampled_from([Fraction(1), Fraction(3, 2), Fraction(4), Fraction(1, 3)])
TIMES = st.integers(0, LENGTH_NS)
CUTS = st.lists(
    st.builds(
        lambda source, a, b, speed: (source, min(a, b), max(a, b), speed),
        st.sampled_from(TAKES),
        TIMES,
        TIMES,
        SPEEDS,
    ),
    max_size=8,
)
PAUSES = st.lists(st.tuples(TIMES, TIMES).map(lambda p: (min(p), max(p))), max_size=6)


class Laying(unittest.TestCase):
    @given(CUTS)
    def test_pieces_follow_without_gap_or_overlap_and_last_as_long_as_asked(self, cuts):
        found = lay(cuts)
        ends = [Fraction(0), *(p.end_ns for p in found.pieces)]
        self.assertEqual([p.start_ns for p in found.pieces], ends[:-1])
        wanted = sum(((until - start) / speed for _, start, until, speed in cuts), Fraction(0))
        self.assertEqual(found.length_ns, wanted)
        for before, after in zip(found.pieces, found.pieces[1:], strict=False):
            self.assertFalse(before.goes_on_with(after))

    @given(CUTS, st.fractions(0, 1, max_denominator=1000))
    def test_program_times_lead_back_to_every_place_that_is_seen(self, cuts, share):
        found = lay(cuts)
        if not found.pieces:
            return
        at = found.length_ns * min(share, Fraction(999, 1000))
        source, place = found.source_at(at)
        times = found.program_times(source, place)
        self.assertIn(at, times)
        self.assertEqual(sorted(set(times)), list(times))
        for time in times:
            self.assertEqual(found.source_at(time), (source, place))

    def test_a_place_that_was_taken_out_has_no_time_and_one_used_twice_has_two(self):
        take = TAKES[0]
        found = lay([(take, 0, 10, 1), (take, 20, 30, 2), (take, 5, 10, 1)])
        self.assertEqual(found.program_times(take, 15), ())
        self.assertEqual(found.program_times(take, 7), (7, 17))
        self.assertEqual(found.program_times(take, 24), (12,))
        self.assertEqual(found.program_times(take, 30), ())

    @given(PAUSES, TIMES, TIMES)
    def test_a_stretch_is_seen_without_its_pauses_and_begins_where_it_is_seen_first(
        self, away, a, b
    ):
        take, (a, b) = TAKES[0], sorted((a, b))
        found = closed(take, LENGTH_NS, away)
        seen = found.program_stretches(take, a, b)
        hidden = closed(take, LENGTH_NS, [*away, (0, a), (b, LENGTH_NS)]).length_ns
        self.assertEqual(sum(end - start for start, end in seen), hidden)
        # Pauses are closed: what is left of one take lies in one piece.
        self.assertLessEqual(len(seen), 1)
        if seen:
            self.assertEqual(found.program_time_from(take, a), seen[0][0])

    def test_what_cannot_be_laid_is_refused(self):
        take = TAKES[0]
        for cut in ((take, 5, 4, 1), (take, 0, 9, 0), (take, 0, 9, -1), (take, 0, 9, 129)):
            with self.subTest(cut=cut), self.assertRaisesRegex(TimingError, "can't be laid"):
                lay([cut])
        with self.assertRaisesRegex(TimingError, "follow each other"):
            TimeMap((Piece(Fraction(1), Fraction(2), take, Fraction(0)),))
        with self.assertRaisesRegex(TimingError, "outside"):
            lay([(take, 0, 9, 1)]).source_at(9)

    def test_stamps_are_the_nearest_ns_half_to_even(self):
        self.assertEqual([to_ns(Fraction(n, 2)) for n in (1, 3, 5, -1)], [0, 2, 2, 0])


class Composing(unittest.TestCase):
    @given(CUTS, PAUSES, PAUSES, st.fractions(0, 1, max_denominator=997))
    def test_a_composed_map_leads_where_both_lead_one_after_the_other(self, cuts, a, b, share):
        inner = {
            take: closed(Source("file", take.id), LENGTH_NS, pauses)
            for take, pauses in zip(TAKES, (a, b), strict=True)
        }
        fitting = [
            (s, min(f, inner[s].length_ns), min(u, inner[s].length_ns), v) for s, f, u, v in cuts
        ]
        outer = lay(fitting)
        both = outer.through(inner)
        self.assertEqual(both.length_ns, outer.length_ns)
        if outer.pieces:
            at = outer.length_ns * min(share, Fraction(996, 997))
            source, place = outer.source_at(at)
            self.assertEqual(both.source_at(at), inner[source].source_at(place))
        self.assertEqual(both.through({}), both)

    def test_a_piece_beyond_its_take_is_refused_by_its_name(self):
        outer = lay([(TAKES[0], 0, 100, 1)])
        with self.assertRaisesRegex(TimingError, "take a"):
            outer.through({TAKES[0]: closed(TAKES[0], 99, [])})

    @given(PAUSES)
    def test_closed_pauses_are_never_seen_and_all_else_once(self, pauses):
        found = closed(TAKES[0], LENGTH_NS, pauses)
        for at in {0, LENGTH_NS - 1, *(t for p in pauses for t in p)} - {LENGTH_NS}:
            away = any(start <= at < end for start, end in pauses)
            self.assertEqual(len(found.program_times(TAKES[0], at)), 0 if away else 1)
