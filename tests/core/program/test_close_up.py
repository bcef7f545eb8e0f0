import unittest

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import CueError
from kettle_core.program.afterwards import Afterwards, Recorded, with_close_up
from kettle_core.program.close_up import (
    CALM_SHARE,
    REST_NS,
    close_up_cues,
    part_following,
    part_near,
)
from kettle_core.program.cues import CloseUp, ToScene
from kettle_core.scene.layout import Box
from kettle_studio.demo import demo_rig

S, SIZE, RIG = 10**9, (1920, 1080), demo_rig()
PLACES = st.tuples(st.integers(-50, 2000), st.integers(-50, 1200))


class CloseUps(unittest.TestCase):
    @given(PLACES, st.sampled_from([2.0, 3.0]))
    def test_the_part_has_the_pointer_and_lies_in_the_picture(self, at, times):
        part = part_near(SIZE, times, *at)
        self.assertTrue(Box(0, 0, *SIZE).holds(part))
        self.assertEqual((part.width, part.height), (round(1920 / times), round(1080 / times)))
        if 0 <= at[0] < 1920 and 0 <= at[1] < 1080:
            self.assertTrue(part.left <= at[0] <= part.right and part.top <= at[1] <= part.bottom)

    @given(PLACES, PLACES)
    def test_following_comes_to_rest(self, first, then):
        part = part_near(SIZE, 2, *first)
        moved = part_following(part, SIZE, *then)
        if moved is not None:
            self.assertTrue(Box(0, 0, *SIZE).holds(moved))
            self.assertIsNone(part_following(moved, SIZE, *then))

    def test_small_ways_of_the_pointer_move_nothing(self):
        part = part_near(SIZE, 2, 960, 540)
        within = part.width * CALM_SHARE / 2 - 1
        self.assertIsNone(part_following(part, SIZE, 960 + within, 540))
        moved = part_following(part, SIZE, 960 + within + 2, 540)
        self.assertEqual(moved, Box(part.left + round(within + 2), part.top, 960, 540))


class OverAStretch(unittest.TestCase):
    def test_it_goes_nearer_to_where_the_pointer_is_and_along_with_it_within_the_picture(self):
        way = [(n * S // 4, 100 + 40 * n, 500) for n in range(40)]
        still = close_up_cues("display-1", SIZE, 2, (2 * S, 8 * S), way, False, 400)
        self.assertEqual(still, [CloseUp(2 * S, "display-1", part_near(SIZE, 2, 420, 500), 400)])
        along = close_up_cues("display-1", SIZE, 2, (2 * S, 8 * S), way, True, 400)
        self.assertEqual(along[0], still[0])
        self.assertGreater(len(along), 1)
        for cue, before in zip(along[1:], along, strict=False):
            self.assertGreaterEqual(cue.at_ns - before.at_ns, REST_NS)
            self.assertLess(cue.at_ns, 8 * S)
            self.assertTrue(0 <= cue.part.left <= SIZE[0] - cue.part.width)
            self.assertEqual((cue.part.width, cue.part.height), (960, 540))
        middle = close_up_cues("display-1", SIZE, 3, (0, S), (), True, 0)
        self.assertEqual(middle[0].part, part_near(SIZE, 3, 960, 540))

    def test_it_takes_the_place_of_what_was_there_and_goes_back_at_its_end(self):
        was = Recorded(RIG, (ToScene(0, "scene-1"),), ("display-1",), 20 * S)
        part = part_near(SIZE, 2, 0, 0)
        now = with_close_up(Afterwards(), was, [CloseUp(2 * S, "display-1", part)], 8 * S)
        self.assertEqual([c.at_ns for c in now.cues], [0, 2 * S, 8 * S])
        self.assertIsNone(now.cues[-1].part)
        again = with_close_up(now, was, [CloseUp(S, "display-1", part)], 20 * S)
        self.assertEqual([c.at_ns for c in again.cues], [0, S])
        with self.assertRaisesRegex(CueError, "ends before it begins"):
            with_close_up(now, was, [CloseUp(S, "display-1", part)], S)
