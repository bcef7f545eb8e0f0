"""Quiet stretches of cut lists: only they get shorter, by as much as is said."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.assembly.cut_list import CutList, Known, Piece, checked
from kettle_core.assembly.quiet import Shortening, shortened
from kettle_core.errors import CutError
from tests.core.assembly.test_cut_list import ONE, TWO, S, cut_lists, known, whole

FRAME_NS = S / 30
STRETCHES = st.lists(st.integers(0, 80), min_size=2, max_size=10, unique=True).map(
    lambda ends: [
        (a * S // 4, b * S // 4)
        for a, b in zip(sorted(ends)[::2], sorted(ends)[1::2], strict=False)
    ]
)


def changed(before, after):
    """What is seen otherwise of each take: (take, from, until) of what is out or faster now."""
    was = {(p.take, p.from_ns, p.until_ns) for p in before.pieces if p.out or p.percent != 100}
    now = [p for p in after.pieces if p.out or p.percent != 100]
    return [p for p in now if (p.take, p.from_ns, p.until_ns) not in was]


class Quiet(unittest.TestCase):
    @given(cut_lists(), STRETCHES, STRETCHES, st.sampled_from([0, 300, 1000]), st.booleans())
    def test_nothing_but_quiet_is_changed_and_kept_stretches_are_not(
        self, cuts, quiet, kept, rest_ms, faster
    ):
        how = Shortening(rest_ms * 10**6, 400 if faster else 0, stretched=True)
        after = shortened(cuts, known(), {ONE: quiet}, {ONE: kept}, how)
        checked(after, known())
        self.assertLessEqual(after.length_ns, cuts.length_ns)
        for piece in changed(cuts, after):
            self.assertEqual(piece.take, ONE)
            inside = [
                (a, b) for a, b in quiet
                if a + how.rest_ns / 2 - FRAME_NS <= piece.from_ns
                and piece.until_ns <= b - how.rest_ns / 2 + FRAME_NS
            ]  # fmt: skip
            self.assertTrue(inside, piece)
            over = [k for k in kept if k[0] + FRAME_NS < piece.until_ns - FRAME_NS
                    and k[1] - FRAME_NS > piece.from_ns + FRAME_NS]  # fmt: skip
            self.assertEqual(over, [])
        # Doing it again finds nothing more but frames.
        again = shortened(after, known(), {ONE: quiet}, {ONE: kept}, how)
        self.assertLessEqual(after.length_ns - again.length_ns, len(quiet) * 3 * FRAME_NS)

    def test_pauses_are_as_long_as_is_left_of_them(self):
        quiet = {ONE: [(2 * S, 5 * S), (10 * S, 10 * S + S // 5)], TWO: [(7 * S, 8 * S)]}
        out = shortened(whole(), known(), quiet, {}, Shortening(600_000_000))
        # 3 s become 0.6; 0.2 s are left alone; a second at the end becomes 0.6.
        self.assertEqual(out.length_ns, 28 * S - 2_400_000_000 - 400_000_000)
        fast = shortened(whole(), known(), quiet, {}, Shortening(600_000_000, 400))
        self.assertEqual(fast.length_ns, 28 * S - 1_800_000_000 - 300_000_000)
        self.assertEqual({p.sound for p in fast.pieces}, {"off"})

    def test_what_was_cut_by_hand_stays_as_it_is(self):
        by_hand = CutList((Piece("a", ONE, 0, 4 * S, percent=200), Piece("b", ONE, 4 * S, 9 * S)))
        after = shortened(by_hand, known(), {ONE: [(0, 20 * S)]}, {}, Shortening(0))
        self.assertEqual([p.out for p in after.pieces], [False, True])

    def test_what_cannot_be_is_refused(self):
        for how, words in (
            (Shortening(-1), "0 to 10000 ms"),
            (Shortening(11 * S), "0 to 10000 ms"),
            (Shortening(0, 7000), "0.1 to 64 ×, got 70"),
        ):
            with self.assertRaisesRegex(CutError, words):
                shortened(whole(), Known({ONE: 20 * S, TWO: 8 * S}), {}, {}, how)
