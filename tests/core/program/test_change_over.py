"""Change-overs, frame by frame."""

import unittest
from dataclasses import replace

import numpy as np

from kettle_core.picture.compose import compose_frame
from kettle_core.picture.picture import blank_i420, picture_from_i420
from kettle_core.program.change_over import ProgramComposer, eased, glided
from kettle_core.program.replay import Resolved
from kettle_core.rig.format import Format
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver, Layer
from kettle_core.scene.scene_plan import plan_scene
from kettle_studio.demo import demo_rig


def colour(rgb, width=64, height=36):
    return picture_from_i420(blank_i420(width, height, rgb))


class ChangeOvers(unittest.TestCase):
    def setUp(self):
        rig = demo_rig()
        crop = Box(0, 0, 64, 36)
        first = (
            Layer("d", "display-1", Box(0, 0, 64, 36), crop),
            Layer("w", "webcam-1", Box(4, 4, 16, 10), crop),
        )
        second = (
            Layer("b", "webcam-2", Box(0, 0, 64, 36), crop),
            Layer("w", "webcam-1", Box(40, 20, 16, 10), crop, turn=90),
        )
        scenes = (
            replace(rig.scenes[0], layers=first),
            replace(rig.scenes[1], layers=second, change_over=ChangeOver("crossfade", 400)),
            rig.scenes[2],
        )
        self.rig = replace(rig, scenes=scenes, format=Format(64, 36))
        self.pictures = {
            "display-1": colour((255, 255, 255)),
            "webcam-2": colour((0, 0, 0)),
            "webcam-1": colour((255, 0, 0)),
        }

    def scene_frame(self, number):
        plan = plan_scene(self.rig.scenes[number], self.rig.format.frame_size)
        return compose_frame(plan, self.pictures)

    def frame(self, kind, at_ms):
        before, after = (Resolved.of(self.rig, s) for s in self.rig.scenes[:2])
        composer = ProgramComposer(self.rig.format.frame_size)
        way = ChangeOver(kind, 400)
        return composer.compose(after, self.pictures, before, way, at_ms / 400)

    def test_a_crossfade_begins_with_the_old_scene_is_half_and_half_and_ends_with_the_new(self):
        old, new = self.scene_frame(0).astype(float), self.scene_frame(1).astype(float)
        np.testing.assert_array_equal(self.frame("crossfade", 0), old)
        np.testing.assert_allclose(self.frame("crossfade", 200), (old + new) / 2, atol=1)
        last = self.frame("crossfade", 399.9).astype(float)
        np.testing.assert_allclose(last, new, atol=1)

    def test_a_glide_moves_what_is_in_both_and_fades_the_rest(self):
        np.testing.assert_array_equal(self.frame("glide", 0), self.scene_frame(0))
        np.testing.assert_allclose(
            self.frame("glide", 399.99).astype(int), self.scene_frame(1), atol=2
        )
        middle = picture_from_i420(self.frame("glide", 200))
        # Half way it lies in the middle of both places, wholly red, half turned.
        red = self.pictures["webcam-1"].y[0, 0]
        self.assertEqual(middle.y[17, 30], red)
        self.assertNotEqual(middle.y[8, 8], red)
        self.assertAlmostEqual(int(middle.y[30, 4]), (235 + 16) / 2, delta=1)
        plans = [plan_scene(s, self.rig.format.frame_size) for s in self.rig.scenes[:2]]
        for way in glided(*plans, 0.5):
            layer = way.layers[1]
            self.assertEqual(layer.middle, (30.0, 17.0))
            self.assertEqual(layer.turn, 45)

    def test_a_turn_takes_the_short_way(self):
        plans = [plan_scene(s, self.rig.format.frame_size) for s in self.rig.scenes[:2]]
        plans = [
            replace(p, layers=(p.layers[0], replace(p.layers[1], turn=t)))
            for p, t in zip(plans, (350.0, 10.0), strict=True)
        ]
        self.assertEqual(glided(*plans, 0.5)[0].layers[1].turn, 0)

    def test_easing_is_still_at_both_ends(self):
        self.assertEqual((eased(0), eased(0.5), eased(1)), (0, 0.5, 1))
        self.assertLess(eased(0.01), 0.001)

    def test_a_slow_close_up_goes_evenly_and_not_by_whole_pixels(self):
        picture = blank_i420(64, 36, (0, 0, 0))
        # Four steps of light a px, so that a px more or less is seen.
        picture[:36] = np.minimum(16 + 4 * np.arange(64), 235)[None, :]
        pictures = {"display-1": picture_from_i420(picture)}
        whole = Layer("d", "display-1", Box(0, 0, 64, 36), Box(0, 0, 64, 36))
        near = replace(whole, crop=Box(4, 2, 56, 32))
        before, after = Resolved("a", (whole,)), Resolved("a", (near,))
        way = ChangeOver("glide", 400)
        composer = ProgramComposer((64, 36))
        for share in np.linspace(0, 1, 21):
            frame = composer.compose(after, pictures, before, way, float(share))
            left = 4 * eased(float(share))
            scale = (64 - 8 * eased(float(share))) / 64
            for column in (10, 30):
                seen = 16 + 4 * (left + (column + 0.5) * scale - 0.5)
                self.assertAlmostEqual(int(frame[18, column]), seen, delta=1)
