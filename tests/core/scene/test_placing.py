"""Layers in the frame: points there and back, snapping, aligning, cropping."""

import unittest
from dataclasses import replace
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import PictureError
from kettle_core.scene.layout import Box
from kettle_core.scene.placing import (
    aligned,
    at_one_to_one,
    bounds_of,
    corners,
    distributed,
    middle_of,
    outside_in_words,
    recropped,
    resized,
    same_size,
    scale_in_words,
    scale_of,
    turned,
)
from kettle_core.scene.scene import Layer

FRAME = Box(0, 0, 1920, 1080)
boxes = st.builds(
    Box,
    st.integers(-900, 1900),
    st.integers(-900, 1900),
    st.integers(8, 2000),
    st.integers(8, 1200),
)
turns = st.sampled_from((0.0, 90.0, 180.0, 270.0)) | st.floats(0, 359.9)


@st.composite
def layers(draw, name="a"):
    crop = Box(draw(st.integers(0, 400)), draw(st.integers(0, 400)), 800, 450)
    return Layer(name, "i", draw(boxes), crop, draw(turns), draw(st.booleans()))


class Geometry(unittest.TestCase):
    @given(st.tuples(st.floats(-2000, 4000), st.floats(-2000, 4000)), boxes, turns)
    def test_a_turned_point_comes_back(self, point, box, turn):
        there = turned(point, middle_of(box), turn)
        back = turned(there, middle_of(box), -turn)
        for a, b in zip(point, back, strict=True):
            self.assertAlmostEqual(a, b, places=6)

    @given(boxes, turns)
    def test_bounds_hold_all_corners_and_right_angles_keep_the_size(self, box, turn):
        b = bounds_of(box, turn)
        for x, y in corners(box, turn):
            self.assertTrue(b.left - 1e-6 <= x <= b.right + 1e-6)
            self.assertTrue(b.top - 1e-6 <= y <= b.bottom + 1e-6)
        if turn % 180 == 0:
            self.assertEqual((b.left, b.right), (box.left, box.right))
        if turn % 180 == 90:
            self.assertEqual((b.right - b.left, b.bottom - b.top), (box.height, box.width))

    @given(layers(), st.integers(-60, 60), st.integers(-60, 60))
    def test_cropping_and_uncropping_comes_back_and_keeps_the_scale(self, layer, left, width):
        crop = layer.crop
        other = Box(crop.left + left, crop.top, crop.width + width, crop.height - 40)
        if scale_of(layer)[0] * other.width < 20 or scale_of(layer)[1] * other.height < 20:
            return
        cut = recropped(layer, other)
        for a, b in zip(scale_of(cut), scale_of(layer), strict=True):
            self.assertAlmostEqual(a, b, delta=0.05 * b)
        back = recropped(cut, crop)
        for a, b in zip(middle_of(back.box), middle_of(layer.box), strict=True):
            self.assertAlmostEqual(a, b, delta=3)

    @given(st.lists(layers(), min_size=3, max_size=5))
    def test_equal_gaps_are_equal_and_the_ends_stay(self, made):
        made = [replace(x, id=f"l{n}", turn=0.0) for n, x in enumerate(made)]
        order = [x.id for x in sorted(made, key=lambda x: (x.box.left, x.box.right))]
        placed = {x.id: x for x in distributed(made, across=True)}
        for end in (order[0], order[-1]):
            self.assertIn(placed[end], made)
        gaps = [placed[b].box.left - placed[a].box.right for a, b in pairwise(order)]
        self.assertLessEqual(max(gaps) - min(gaps), 2)


class Together(unittest.TestCase):
    def setUp(self):
        crop = Box(0, 0, 200, 100)
        self.a = Layer("a", "i", Box(100, 40, 200, 100), crop)
        self.b = Layer("b", "i", Box(500, 300, 100, 50), crop, 90.0)

    def test_layers_align_by_what_is_seen_of_them(self):
        left = aligned((self.a, self.b), "left", FRAME)
        self.assertEqual([bounds_of(x.box, x.turn).left for x in left], [100, 100])
        middle = aligned((self.a, self.b), "middle", FRAME)
        rows = {bounds_of(x.box, x.turn).places[1][1] for x in middle}
        self.assertLessEqual(max(rows) - min(rows), 1)
        alone = aligned((self.a,), "centre", FRAME)
        self.assertEqual(alone[0].box.left, 860)

    def test_the_same_width_keeps_each_aspect_ratio(self):
        wide = same_size((self.a, self.b), "width")
        self.assertEqual([(x.box.width, x.box.height) for x in wide], [(200, 100)] * 2)

    def test_two_layers_have_no_equal_gaps(self):
        with self.assertRaisesRegex(PictureError, "three layers"):
            distributed((self.a, self.b), across=True)

    def test_the_scale_is_said_as_what_it_does(self):
        self.assertEqual(scale_in_words(self.a), ("1:1", "crisp"))
        self.assertEqual(scale_in_words(self.b)[0], "50 %")
        self.assertIn("distorted", scale_in_words(resized(self.a, 200, 80))[1])
        self.assertIn("soft", scale_in_words(resized(self.a, 300, 150))[1])
        self.assertEqual(scale_in_words(at_one_to_one(self.b))[0], "1:1")

    def test_what_lies_outside_is_told_by_its_sides(self):
        self.assertEqual(outside_in_words(self.a, FRAME), "")
        over = replace(self.a, box=Box(-30, 1000, 200, 100))
        self.assertIn("30 px at the left, 20 px at the bottom", outside_in_words(over, FRAME))
        gone = replace(self.a, box=Box(1920, 0, 200, 100))
        self.assertIn("wholly outside", outside_in_words(gone, FRAME))
