import copy
import unittest
from dataclasses import replace
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import PictureError, RigError
from kettle_core.rig.changes import with_crosspoint, with_format
from kettle_core.rig.data import rig_from_dict, rig_to_dict
from kettle_core.rig.rig import FRAME_RATES, FRAME_SIZES, Format
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


class RigData(unittest.TestCase):
    def test_a_rig_written_and_read_is_equal(self):
        rig = demo_rig()
        self.assertEqual(rig_from_dict(rig_to_dict(rig)), rig)

    def test_damage_is_named_by_its_field(self):
        cases = (
            (("format", "fps"), "29.97", "frame rates"),
            (("format", "frame_width"), 1921, "even"),
            (("inputs", 0, "id"), "../etc", "a-z"),
            (("inputs", 0, "mode"), [], "object"),
            (("scenes", 0, "layers", 1, "box"), [1600, 600, 0, 900], "at least 1 × 1 px"),
            (("scenes", 0, "layers", 1, "crop"), [0, 0, 4000, 720], "outside its picture"),
            (("scenes", 0, "sounds", 0, "gain_db"), float("inf"), "from -60 to 30"),
            (("scenes", 0, "sounds", 0, "input"), "display-1", "cannot be heard"),
            (("scenes",), [], "at least one scene"),
            (("inputs", 5, "tone", "suppression"), 101, "from 0 to 100"),
            (("inputs", 5, "tone", "engine"), "magic", "thorough, light"),
            (("inputs", 5, "tone", "pan"), float("nan"), "from -1 to 1"),
            (("inputs", 5, "tone", "downmix"), "both", "stereo, sum, mid"),
            (("ducking", "attack_ms"), 0, "from 10 to 1000"),
            (("stems", 0, "channels"), 6, "from 1 to 2"),
            (("stems", 0, "sends", 0, "input"), "tablet", "cannot go to a stem"),
            (("stems", 0, "sends", 0, "input"), "gone", "no input"),
            (("stems", 1, "id"), "voice", "same id"),
            (("version",), 7, "whole number"),
        )
        for path, value, sentence in cases:
            with self.subTest(path=path):
                data = copy.deepcopy(rig_to_dict(demo_rig()))
                place = data
                for key in path[:-1]:
                    place = place[key]
                place[path[-1]] = value
                with self.assertRaisesRegex(RigError, sentence) as caught:
                    rig_from_dict(data)
                self.assertTrue(caught.exception.field)

    def test_every_format_keeps_the_layers_in_the_frame(self):
        for width, height in FRAME_SIZES:
            for rate in FRAME_RATES:
                changed = with_format(demo_rig(), Format(width, height, Fraction(rate)))
                self.assertEqual(rig_from_dict(rig_to_dict(changed)), changed)
                webcam = changed.scenes[0].layers[1].box
                self.assertLessEqual(abs(webcam.width - webcam.height), 2)

    def test_a_crosspoint_goes_over_and_back_and_keeps_its_place(self):
        rig = demo_rig()
        for what, name in (("seen", "webcam-1"), ("heard", "headset"), ("recorded", "headset")):
            with self.subTest(what=what):
                once = with_crosspoint(rig, name, what, "scene-1")
                self.assertNotEqual(once, rig)
                self.assertEqual(with_crosspoint(once, name, what, "scene-1"), rig)
        with self.assertRaisesRegex(RigError, "no crosspoint “seen” for “Headset”"):
            with_crosspoint(rig, "headset", "seen", "scene-1")

    def test_a_scene_without_a_heard_microphone_has_no_voice(self):
        rig = demo_rig()
        self.assertEqual(rig.voice_in(rig.scenes[0]).name, "Headset")
        silent = with_crosspoint(rig, "headset", "heard", "scene-1")
        self.assertIsNone(silent.voice_in(silent.scenes[0]))
        unknown = replace(rig, scenes=())
        with self.assertRaisesRegex(RigError, "at least one scene"):
            rig_from_dict(rig_to_dict(unknown))
