import unittest

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.program.close_up import CALM_SHARE, part_following, part_near
from kettle_core.scene.layout import Box

SIZE = (1920, 1080)
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
