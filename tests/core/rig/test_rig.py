import unittest
from dataclasses import replace
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import PictureError, RigError
from kettle_core.rig.changes import with_crosspoint, with_format
from kettle_core.rig.format import FRAME_RATES, FRAME_SIZES, Format
from kettle_core.rig.whole import check_rig
from kettle_core.scene.layout import Box, crop_to_aspect, fit_inside
from kettle_studio.demo import demo_rig

SIZES = st.integers(16, 4000)


class Boxes(unittest.TestCase):
    @given(SIZES, SIZES, SIZES, SIZES)
    def test_a_fitted_box_is_inside_and_even_and_touches_two_sides(self, width, height, w, h):
        space = Box(0, 0, 2 * w, 2 * h)
        box = fit_inside(width, height, space)
        self.assertTrue(space.holds(box))
        self.assertEqual([v % 2 for v in (box.left, box.top, box.width, box.height)], [0] * 4)
        full = box.width >= space.width - 2 or box.height >= space.height - 2
        self.assertTrue(full)

    def test_a_webcam_is_cropped_to_its_middle_square(self):
        self.assertEqual(crop_to_aspect(1280, 720, 1, 1), Box(280, 0, 720, 720))

    def test_a_picture_without_size_is_refused(self):
        with self.assertRaisesRegex(PictureError, "1 × 1 px"):
            fit_inside(0, 5, Box(0, 0, 10, 10))


class Whole(unittest.TestCase):
    def test_every_format_keeps_the_layers_in_the_frame(self):
        for width, height in FRAME_SIZES:
            for rate in FRAME_RATES:
                changed = with_format(demo_rig(), Format(width, height, Fraction(rate)))
                check_rig(changed)
                webcam = changed.scenes[0].layers[1].box
                self.assertLessEqual(abs(webcam.width - webcam.height), 2)

    def test_a_crosspoint_goes_over_and_back_and_keeps_its_place(self):
        rig = demo_rig()
        for what, name in (("seen", "webcam-1"), ("heard", "headset"), ("recorded", "headset")):
            with self.subTest(what=what):
                off = with_crosspoint(rig, name, what, "scene-1", False)
                self.assertNotEqual(off, rig)
                self.assertEqual(with_crosspoint(off, name, what, "scene-1", False), off)
                self.assertEqual(with_crosspoint(off, name, what, "scene-1", True), rig)
        with self.assertRaisesRegex(RigError, "no crosspoint “seen” for “Headset”"):
            with_crosspoint(rig, "headset", "seen", "scene-1", True)

    def test_a_scene_without_a_heard_microphone_has_no_voice(self):
        rig = demo_rig()
        self.assertEqual(rig.voice_in(rig.scenes[0]).name, "Headset")
        silent = with_crosspoint(rig, "headset", "heard", "scene-1", False)
        self.assertIsNone(silent.voice_in(silent.scenes[0]))
        unknown = replace(rig, scenes=())
        with self.assertRaisesRegex(RigError, "at least one scene"):
            check_rig(unknown)
