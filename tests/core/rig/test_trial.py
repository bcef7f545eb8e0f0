"""A trial's ladder and what is proposed from its points."""

import unittest
from dataclasses import replace
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.picture.quality import Quality
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import LEAST_KBPS, MOST_CRF, Rate, TrackFormat
from kettle_core.rig.trial import (
    TrialPoint,
    head_room,
    in_words,
    ladder,
    measured,
    propose,
    speeds_ms,
)

MODE = Mode(1280, 720, Fraction(30))
TRACK = TrackFormat(Rate("quality", 18))
RATES = st.builds(
    Rate, st.sampled_from(["quality", "ceiling", "constant"]), st.integers(1, 45),
    st.one_of(st.just(0), st.integers(50, 200_000)),
)  # fmt: skip


def point(crf, kbps, fine, room=2.0):
    quality = Quality(fine, fine, fine, 40.0, 38.0)
    return TrialPoint(replace(TRACK, rate=Rate("quality", crf)), kbps, 90.0, room, quality)


class Ladders(unittest.TestCase):
    @given(RATES)
    def test_the_present_setting_is_in_it_and_all_can_be_encoded(self, rate):
        track = replace(TRACK, rate=rate)
        steps = ladder(track, MODE)
        self.assertIn(track, steps)
        self.assertEqual(len(set(steps)), len(steps))
        self.assertLessEqual(len(steps), 6)
        for step in steps:
            self.assertTrue(1 <= step.rate.crf <= MOST_CRF)
            self.assertTrue(not step.rate.kbps or step.rate.kbps >= LEAST_KBPS)
            self.assertEqual((step.speed, step.scale), (track.speed, track.scale))

    def test_under_a_ceiling_quality_alone_is_tried_too(self):
        steps = ladder(replace(TRACK, rate=Rate("ceiling", 20, 4000)), MODE)
        points = [
            TrialPoint(s, 100.0 * n, 50.0, 1.0, Quality(1, 1, 1, 50, 50))
            for n, s in enumerate(steps)
        ]
        (free,) = measured(MODE, points)
        self.assertEqual((free.crf, free.kbps), (20, 500.0))


class Speeds(unittest.TestCase):
    def test_more_work_takes_longer_and_the_tried_speed_what_was_measured(self):
        tried = point(18, 600, 0.99)
        for is_screen in (True, False):
            costs = speeds_ms(tried, is_screen)
            self.assertAlmostEqual(costs[tried.track.speed], 1000 / tried.fps)
            self.assertEqual(list(costs.values()), sorted(costs.values()))


class Proposals(unittest.TestCase):
    def test_the_cheapest_that_keeps_fine_detail_and_leaves_room(self):
        points = [
            point(30, 200, 0.95), point(26, 300, 0.985, room=0.1),
            point(22, 400, 0.981), point(18, 600, 0.995),
        ]  # fmt: skip
        found = propose("Main display", TRACK, points)
        self.assertEqual(found.number, 2)
        for words in ("Main display: CRF 22", "0.981 of 1", "0.40 Mbit/s", "200 % head-room"):
            self.assertIn(words, found.sentence)

    def test_the_present_one_is_called_that(self):
        found = propose("Tablet", TRACK, [point(22, 400, 0.9), point(18, 600, 0.99)])
        self.assertEqual(found.number, 1)
        self.assertIn("the present setting is the cheapest", found.sentence)

    def test_where_none_is_good_or_none_is_fast_it_says_so_and_proposes_nothing(self):
        found = propose("Webcam", TRACK, [point(22, 400, 0.9), point(18, 600, 0.93)])
        self.assertEqual(found.number, -1)
        self.assertIn("the most is 0.930", found.sentence)
        slow = propose("Webcam", TRACK, [point(18, 600, 0.99, room=0.12)])
        self.assertEqual(slow.number, -1)
        self.assertIn("too slow for any of them, 12 % head-room", slow.sentence)

    def test_another_control_is_not_proposed(self):
        free = replace(point(20, 100, 0.999), track=replace(TRACK, rate=Rate("quality", 20)))
        present = replace(TRACK, rate=Rate("constant", 20, 3000))
        self.assertEqual(propose("Webcam", present, [free]).number, -1)

    @given(st.lists(st.floats(0.01, 3), min_size=1, max_size=6), st.integers(1, 8))
    def test_more_cores_never_leave_less_room(self, loads, cores):
        self.assertLessEqual(head_room(loads, cores), head_room(loads, cores + 1))

    def test_rates_in_words(self):
        self.assertEqual(in_words(Rate("constant", 20, 0)), "constant the usual bitrate")
