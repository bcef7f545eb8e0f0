"""The cut list's algebra: what is taken out comes back, what is parted joins, time stays whole."""

import unittest
from dataclasses import replace
from fractions import Fraction
from itertools import accumulate

from hypothesis import assume, example, given
from hypothesis import strategies as st

from kettle_core.assembly.cut_changes import (
    at_speed,
    copied,
    joined,
    moved,
    removed,
    split,
    take_back,
    take_out,
    trimmed,
    with_card,
    with_card_as,
    with_fades,
    with_piece_fades,
    with_take,
)
from kettle_core.assembly.cut_list import CutList, Known, Piece, Place, checked
from kettle_core.assembly.laid import time_map
from kettle_core.errors import CutError
from kettle_core.rig.rig import Card
from kettle_core.timing.time_map import Source

S = 10**9
ONE, TWO = "take-one", "take-two"
RATES = st.sampled_from([Fraction(30), Fraction(24000, 1001), Fraction(60), Fraction(25)])
NS = st.integers(0, 20 * S)


def known(fps=Fraction(30)):
    return Known({ONE: 20 * S, TWO: 8 * S}, fps)


def whole():
    return with_take(with_take(CutList(), known(), ONE), known(), TWO)


def places(cuts, number, at_ns):
    """A place in one of the pieces, wherever the number and the time lead."""
    piece = cuts.pieces[number % len(cuts.pieces)]
    return Place(piece.id, piece.from_ns + at_ns % (piece.until_ns - piece.from_ns + 1))


@st.composite
def cut_lists(draw, fps=Fraction(30)):
    """What comes of some changes."""
    cuts = whole()
    if draw(st.booleans()):
        card = Card("Fold it\nagain")
        cuts = with_card(cuts, known(), card, 3 * S, draw(st.sampled_from(["", "p1", "p2"])))
    for _ in range(draw(st.integers(0, 6))):
        a, b = (places(cuts, draw(st.integers(0, 50)), draw(NS)) for _ in range(2))
        how = draw(st.integers(0, 5))
        try:
            if how == 0:
                cuts = take_out(cuts, known(fps), a, b)
            elif how == 1:
                cuts = at_speed(cuts, known(fps), a, b, draw(st.sampled_from([50, 150, 400])), True)
            elif how == 2:
                cuts = split(cuts, known(fps), a)
            elif how == 5:
                cuts = with_piece_fades(cuts, a.piece, 200, 300)
            elif how == 3:
                cuts = copied(cuts, a.piece)
            else:
                cuts = moved(cuts, [a.piece], b.piece)
        except CutError:
            continue
    return cuts


def apart(cuts):
    """How many times as fast as the slowest piece the fastest one runs."""
    speeds = [p.speed for p in cuts.shown] or [1]
    return max(speeds) / min(speeds)


def seen(cuts, fps=Fraction(30)):
    """The stretches of takes that are seen, in their order."""
    return [(p.source, p.from_ns, p.until_ns, p.speed) for p in time_map(cuts, fps).pieces]


class Algebra(unittest.TestCase):
    @given(st.tuples(st.integers(0, 2 * S), *[st.integers(S // 15, 6 * S)] * 3), NS)
    def test_two_who_cut_the_same_list_at_once_get_both_their_cuts(self, lengths, other_ns):
        a, b, c, d = accumulate(lengths)
        cuts = whole()
        first, second = ((Place("p1", x), Place("p1", y)) for x, y in ((a, b), (c, d)))
        one = take_out(take_out(cuts, known(), *first), known(), *second)
        two = take_out(take_out(cuts, known(), *second), known(), *first)
        # A time halfway between two frames may go to either.
        for ours, theirs in zip(seen(one), seen(two), strict=True):
            for mine, other in zip(ours[1:3], theirs[1:3], strict=True):
                self.assertLessEqual(abs(mine - other), S // 30 + 2)
        parted = split(cuts, known(), Place("p2", other_ns % (8 * S)))
        self.assertEqual(
            seen(take_out(parted, known(), *first)), seen(take_out(cuts, known(), *first))
        )

    @given(cut_lists(), st.integers(0, 50), NS, st.integers(0, 50), NS)
    @example(
        CutList(
            (
                Piece("p1", ONE, 0, 283_333_333, percent=400),
                Piece("p4", ONE, 283_333_333, 20 * S, percent=150),
            )
        ),
        *(0, 4_450_000_010, 1, 0),
    )
    def test_what_is_taken_out_and_back_is_as_it_was(self, cuts, n, a_ns, m, b_ns):
        a, b = places(cuts, n, a_ns), places(cuts, m, b_ns)
        assume(all(not p.out for p in cuts.pieces))
        try:
            without = take_out(cuts, known(), a, b)
        except CutError:
            return
        checked(without, known())
        self.assertLess(without.length_ns, cuts.length_ns)
        # The same places, by the pieces that are there now.
        out = [p for p in without.pieces if p.out]
        ends = Place(out[0].id, out[0].from_ns), Place(out[-1].id, out[-1].until_ns)
        self.assertEqual(joined(cuts), _renamed(take_back(without, known(), *ends), cuts))

    @given(cut_lists(), st.integers(0, 50), NS)
    def test_what_is_parted_is_seen_as_before_and_joins_again(self, cuts, n, at_ns):
        parted = split(cuts, known(), places(cuts, n, at_ns))
        self.assertEqual(time_map(parted, Fraction(30)), time_map(cuts, Fraction(30)))
        self.assertEqual(joined(parted), joined(cuts))

    @example(
        (
            Fraction(30),
            CutList(
                (Piece("p1", ONE, 0, 66_666_667, percent=400), Piece("p2", ONE, 66_666_667, 3 * S))
            ),
        )
    )
    @given(RATES.flatmap(lambda fps: st.tuples(st.just(fps), cut_lists(fps))))
    def test_pieces_begin_and_end_on_frames_of_the_program_whatever_was_done(self, made):
        fps, cuts = made
        checked(cuts, known(fps))
        laid = time_map(cuts, fps)
        for piece in laid.pieces:
            self.assertEqual((piece.end_ns * fps / S).denominator, 1)
        # Rounding adds up to no more than half a frame a piece, as the piece after it counts it.
        off_ns = abs(laid.length_ns - cuts.length_ns)
        self.assertLessEqual(off_ns, len(cuts.pieces) * S / fps / 2 * apart(cuts))

    @given(cut_lists(), st.lists(st.integers(0, 50), min_size=1, max_size=4), st.integers(0, 50))
    def test_pieces_that_are_moved_are_all_still_there_and_in_their_order(self, cuts, some, n):
        ids = [cuts.pieces[x % len(cuts.pieces)].id for x in some]
        before = cuts.pieces[n % len(cuts.pieces)].id
        after = moved(cuts, ids, before)
        self.assertCountEqual(after.pieces, cuts.pieces)
        order = [p.id for p in after.pieces]
        if before not in ids:
            going = [p.id for p in cuts.pieces if p.id in ids]
            place = order.index(before)
            self.assertEqual(order[place - len(going) : place], going)
        self.assertEqual(moved(cuts, ids, "").pieces[-1].id in ids, True)


def _renamed(cuts, like):
    """Ids tell nothing of what is seen: as another list has them, where it has as many."""
    names = [p.id for p in joined(like).pieces]
    if len(names) != len(cuts.pieces):
        return cuts
    pairs = zip(names, cuts.pieces, strict=True)
    return replace(cuts, pieces=tuple(replace(p, id=name) for name, p in pairs))


class Changes(unittest.TestCase):
    def test_a_stretch_over_the_end_of_a_take_is_taken_out_of_both(self):
        cuts = take_out(whole(), known(), Place("p2", S), Place("p1", 18 * S))
        expected = [(Source("take", ONE), 0, 18 * S, 1), (Source("take", TWO), S, 8 * S, 1)]
        self.assertEqual(seen(cuts), expected)
        self.assertEqual(cuts.length_ns, 25 * S)
        faster = at_speed(cuts, known(), Place("p1", 2 * S), Place("p1", 6 * S), 400, False)
        self.assertEqual(faster.length_ns, 22 * S)
        self.assertEqual([p.percent for p in faster.pieces[:3]], [100, 400, 100])
        slow = at_speed(faster, known(), Place("p1", 0), Place("p1", S), 50, True)
        self.assertEqual(slow.length_ns, 23 * S)

    def test_cuts_lie_on_the_frames_next_to_where_they_were_wanted(self):
        cuts = take_out(whole(), known(), Place("p1", 1_010_000_000), Place("p1", 2_020_000_000))
        ends = [(p.from_ns, p.until_ns) for p in cuts.pieces[:3]]
        self.assertEqual(ends[0], (0, S))
        self.assertEqual(ends[1][1], round(61 * S / 30))

    def test_a_piece_is_trimmed_copied_and_removed(self):
        cuts = trimmed(whole(), known(), "p2", S, 3 * S)
        twice = copied(cuts, "p2")
        self.assertEqual([p.id for p in twice.pieces], ["p1", "p2", "p3"])
        self.assertEqual(twice.length_ns, 24 * S)
        self.assertEqual(removed(twice, "p3"), cuts)

    def test_a_card_is_a_piece_until_its_last_one_is_removed(self):
        cuts = with_card(whole(), known(), Card("One"), 4 * S, "p2")
        self.assertEqual(seen(cuts)[1], (Source("card", "card1"), 0, 4 * S, 1))
        longer = with_card_as(cuts, known(), "p3", Card("Two"), 6 * S)
        self.assertEqual((longer.card("card1"), longer.length_ns), (Card("Two"), 34 * S))
        twice = with_card(longer, known(), Card("Three"), S, "")
        self.assertEqual([c.id for c in twice.cards], ["card1", "card2"])
        self.assertEqual([c.id for c in removed(twice, "p3").cards], ["card2"])
        self.assertEqual(with_fades(cuts, 500, 0).fade_in_ms, 500)

    def test_what_cannot_be_is_refused_in_words(self):
        cuts = whole()
        a, b = Place("p1", S), Place("p1", 2 * S)
        for change, words in (
            (lambda: take_out(cuts, known(), a, a), "Nothing lies between"),
            (lambda: take_out(cuts, known(), a, Place("p9", 0)), "is gone from the cut list"),
            (lambda: at_speed(cuts, known(), a, b, 0, False), "0.1 to 64 ×, got 0"),
            (lambda: at_speed(cuts, known(), a, b, 10**8, False), "got 1e\\+06"),
            (lambda: trimmed(cuts, known(), "p2", 0, 9 * S), "within its take"),
            (lambda: trimmed(cuts, known(), "p2", 3 * S, 3 * S), "begins before it ends"),
            (lambda: with_take(cuts, known(), "gone"), "not in this tutorial"),
            (lambda: with_card(cuts, known(), Card("x"), 601 * S, ""), "of a take of 600.000 s"),
            (lambda: with_card_as(cuts, known(), "p1", Card("x"), S), "not of a card"),
            (lambda: with_fades(cuts, 0, 10_001), "0 to 10000 ms"),
            (lambda: checked(CutList((*cuts.pieces, cuts.pieces[0])), known()), "like another one"),
        ):
            with self.subTest(words), self.assertRaisesRegex(CutError, words):
                change()
        most = CutList(tuple(Piece(f"p{n}", ONE, 0, S) for n in range(10_000)))
        with self.assertRaisesRegex(CutError, "at most 10000 pieces"):
            copied(most, "p5")
