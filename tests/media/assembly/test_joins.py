"""Sound crosses over where it is quiet, near to the cut, and stays in step with the pictures."""

import unittest
from fractions import Fraction
from itertools import pairwise

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kettle_core.program.plan import Script, make_plan
from kettle_core.program.replay import replay
from kettle_core.rig.format import Format
from kettle_core.timing.time_map import Source, lay
from kettle_media.assembly.joins import Voice, quiet_joins, voice_of
from kettle_media.survey.survey import STEP_NS, survey_take
from kettle_studio.demo import demo_rig
from tests.fixtures import copied_take

S, MS = 10**9, 10**6
TAKE = Source("take", "one")
RIG = demo_rig()


def voice(*quiet_ms):
    """Loud but for some ms, of 20 s."""
    rms = np.full(20 * S // STEP_NS, 0.2)
    for first, until in quiet_ms:
        rms[first * MS // STEP_NS : until * MS // STEP_NS] = 0.001
    return Voice(rms)


def cut(*parts):
    return lay([(TAKE, a * MS, b * MS, 1) for a, b in parts])


class Joins(unittest.TestCase):
    def test_it_moves_to_where_both_are_quiet_and_stays_where_that_is_no_better(self):
        pieces = cut((0, 5000), (8000, 12_000)).pieces
        quiet = {TAKE: voice((5010, 5050), (8010, 8050))}
        moved = quiet_joins(pieces, quiet)
        self.assertIn(moved[0], range(15 * 48, 45 * 48))
        earlier = {TAKE: voice((4960, 4990), (7960, 7990))}
        self.assertLess(quiet_joins(pieces, earlier)[0], 0)
        for loud in (voice(), voice((5100, 5200), (8100, 8200)), voice((4000, 9000))):
            self.assertEqual(quiet_joins(pieces, {TAKE: loud}), {})
        self.assertEqual(quiet_joins(pieces, {}), {})

    @given(st.integers(-1920, 1920), st.integers(-1920, 1920))
    def test_what_is_heard_stays_in_step_and_crosses_over_in_10_ms(self, first, second):
        laid = cut((0, 3000), (5000, 8000), (1000, 3000))
        scripts = {TAKE: Script(RIG, replay(RIG, ()))}
        plan = make_plan(scripts, laid, Format(), {0: first, 1: second})
        heard = [line for line in plan.lines if line.input_id == plan.lines[0].input_id]
        for line, piece, begins, ends in zip(
            heard, laid.pieces, (0, first, second), (first, second, 0), strict=True
        ):
            seen_from = int(piece.start_ns * 48_000 / S)
            self.assertEqual(
                line.source_sample(seen_from + 9600 - line.first_sample),
                int(piece.from_ns * 48_000 / S) + 9600,
            )
            joined = 240 if piece.start_ns else 0
            self.assertEqual(line.first_sample, seen_from + begins - joined)
            last = 240 if piece.end_ns < laid.length_ns else 0
            self.assertEqual(line.end_sample, int(piece.end_ns * 48_000 / S) + ends + last)
            places = [at for at, _ in line.points]
            self.assertEqual(places, sorted(places))
        for one, other in pairwise(heard):
            both = one.gains(other.first_sample, 480) + other.gains(other.first_sample, 480)
            np.testing.assert_allclose(both, both[0], rtol=1e-3)

    def test_a_take_that_was_looked_at_tells_how_loud_its_voice_is(self):
        folder = copied_take("heard-joins")
        info = folder.read_info()
        self.assertIsNone(voice_of(folder, info))
        survey_take(folder)
        found = voice_of(folder, info)
        self.assertAlmostEqual(len(found.rms) * STEP_NS / S, 4, delta=0.02)
        self.assertGreater(found.rms.max(), 20 * np.quantile(found.rms, 0.1))
        self.assertEqual(float(Fraction(found.around(10**12))), 0)
