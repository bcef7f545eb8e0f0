import unittest

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import PictureError
from kettle_core.scene.layout import Box
from kettle_core.scene.region import (
    PRESETS,
    SIDES,
    SMALLEST_PX,
    aspect_in_words,
    place_region,
    preset_region,
    resize_region,
    turn_box,
    unturn_box,
)

DISPLAYS = st.tuples(st.integers(200, 4000), st.integers(200, 4000))
ANY = st.integers(-6000, 9000)
BOXES = st.builds(Box, ANY, ANY, ANY, ANY)


class Regions(unittest.TestCase):
    def check(self, box, width, height):
        self.assertEqual([v % 2 for v in vars(box).values()], [0] * 4)
        self.assertTrue(Box(0, 0, width, height).holds(box), box)
        self.assertGreaterEqual(min(box.width, box.height), min(SMALLEST_PX, width - 1))

    @given(BOXES, DISPLAYS)
    def test_whatever_is_typed_a_region_is_even_and_on_the_display(self, box, display):
        placed = place_region(box, *display)
        self.check(placed, *display)
        self.assertEqual(place_region(placed, *display), placed)

    @given(BOXES, DISPLAYS, st.sampled_from(SIDES), ANY, st.booleans())
    def test_a_pulled_side_leaves_the_opposite_one_where_it_is(self, box, display, side, by, keep):
        before = place_region(box, *display)
        after = resize_region(before, side, by, *display, keep_aspect=keep)
        self.check_even_and_inside(after, *display)
        edges = {"left": "right", "right": "left", "top": "bottom", "bottom": "top"}
        opposite = edges[side]
        self.assertEqual(getattr(after, opposite), getattr(before, opposite))

    def check_even_and_inside(self, box, width, height):
        self.assertEqual([v % 2 for v in vars(box).values()], [0] * 4)
        self.assertTrue(Box(0, 0, width, height).holds(box), box)

    @given(BOXES, DISPLAYS, st.sampled_from(SIDES), st.integers(-800, 800))
    def test_the_aspect_is_kept_to_the_pixel_when_asked(self, box, display, side, by):
        before = place_region(box, *display)
        after = resize_region(before, side, by, *display, keep_aspect=True)
        exact = after.width * before.height / before.width
        # One step of rounding of either side is all that may be off.
        step = 2 * max(1.0, before.height / before.width)
        self.assertLessEqual(abs(after.height - exact), step + 1e-9)

    @given(BOXES, DISPLAYS, st.sampled_from((0, 90, 180, 270)), st.booleans())
    def test_a_box_of_a_turned_picture_finds_its_way_back(self, box, display, turn, mirrored):
        before = place_region(box, *display)
        seen = turn_box(before, *display, turn, mirrored)
        width, height = display if turn in (0, 180) else display[::-1]
        self.assertTrue(Box(0, 0, width, height).holds(seen))
        self.assertEqual(unturn_box(seen, *display, turn, mirrored), before)

    def test_a_preset_lies_about_the_middle_and_is_refused_where_it_does_not_fit(self):
        around = Box(100, 100, 400, 300)
        self.assertEqual(preset_region(PRESETS[1], around, 1920, 1080), Box(0, 0, 1280, 720))
        with self.assertRaisesRegex(PictureError, "1920 × 1080 px does not fit"):
            preset_region(PRESETS[0], around, 1280, 720)
        with self.assertRaisesRegex(PictureError, "left, top, right, bottom"):
            resize_region(around, "middle", 2, 1280, 720)

    def test_the_aspect_is_said_as_people_say_it(self):
        for size, words in (((1280, 720), "16:9"), ((640, 480), "4:3"), ((1000, 618), "1.62:1"),
                            ((618, 1000), "1:1.62"), ((30, 22), "15:11")):  # fmt: skip
            self.assertEqual(aspect_in_words(*size), words)
