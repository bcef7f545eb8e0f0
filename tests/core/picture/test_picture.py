import unittest

import numpy as np

from kettle_core.errors import PictureError
from kettle_core.picture.compose import compose_frame
from kettle_core.picture.picture import (
    Picture,
    blank_i420,
    crop_picture,
    picture_from_i420,
    picture_to_i420,
    picture_to_jpeg,
    picture_to_rgb,
    rgb_to_picture,
    scale_picture,
    turn_picture,
)
from kettle_core.rig.changes import with_crosspoint, with_format
from kettle_core.rig.format import Format
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer, Mask, Scene
from kettle_core.scene.scene_plan import plan_scene
from kettle_core.timing.ticks import frame_at
from kettle_studio.demo import demo_rig

# ITU-R BT.709-6: 100 % colour bars in 8-bit limited range (Y, Cb, Cr).
BARS = {
    (255, 255, 255): (235, 128, 128),
    (255, 0, 0): (63, 102, 240),
    (0, 255, 0): (173, 42, 26),
    (0, 0, 255): (32, 240, 118),
    (0, 0, 0): (16, 128, 128),
}


def plain(width, height, rgb):
    return picture_from_i420(blank_i420(width, height, rgb))


class Colours(unittest.TestCase):
    def test_colour_bars_have_the_values_of_the_standard(self):
        for rgb, yuv in BARS.items():
            picture = plain(4, 4, rgb)
            found = [int(p[0, 0]) for p in (picture.y, picture.u, picture.v)]
            np.testing.assert_allclose(found, yuv, atol=1)
            np.testing.assert_allclose(picture_to_rgb(picture)[1, 1], rgb, atol=3)

    def test_odd_sizes_are_refused(self):
        with self.assertRaisesRegex(PictureError, "even"):
            rgb_to_picture(np.zeros((3, 4, 3), np.uint8))


def _centre(plane, axis):
    """Where a plane's departure from grey lies on average, along an axis."""
    weight = np.abs(plane.astype(float) - 128)
    places = np.arange(plane.shape[axis]).reshape((-1, 1) if axis == 0 else (1, -1))
    return (weight * places).sum() / weight.sum()


class Turning(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(8)
        self.picture = picture_from_i420(rng.integers(16, 235, (60, 24), dtype=np.uint8))

    def planes(self, picture):
        return [p.tolist() for p in (picture.y, picture.u, picture.v)]

    def test_turns_and_mirrors_find_their_way_back(self):
        for turn in (0, 90, 180, 270):
            once = turn_picture(self.picture, turn, mirrored=False)
            size = (24, 40) if turn in (0, 180) else (40, 24)
            self.assertEqual((once.width, once.height), size)
            back = turn_picture(once, (360 - turn) % 360, mirrored=False)
            self.assertEqual(back.y.tolist(), self.picture.y.tolist())
        twice = turn_picture(turn_picture(self.picture, 0, True), 0, True)
        self.assertEqual(twice.y.tolist(), self.picture.y.tolist())
        clockwise = turn_picture(self.picture, 90, mirrored=False)
        self.assertEqual(clockwise.y[0, -1], self.picture.y[0, 0])
        with self.assertRaisesRegex(PictureError, "got 45°"):
            turn_picture(self.picture, 45, mirrored=False)

    def test_colour_stays_beside_its_luma_when_a_picture_is_turned(self):
        rgb = np.zeros((32, 48, 3), np.uint8)
        rgb[8:20, 12:30] = (255, 40, 0)
        for turn, mirrored in ((90, False), (180, False), (270, True), (0, True)):
            turned = turn_picture(rgb_to_picture(rgb), turn, mirrored)
            wanted = np.rot90(rgb, -turn // 90)
            wanted = wanted[:, ::-1] if mirrored else wanted
            truth = rgb_to_picture(np.ascontiguousarray(wanted))
            np.testing.assert_array_equal(turned.y, truth.y)
            # The centre of the colour may not move, whatever half samples blur its edges.
            for plane, true in ((turned.v, truth.v), (turned.u, truth.u)):
                for axis in (0, 1):
                    ways = [_centre(p, axis) for p in (plane, true)]
                    self.assertAlmostEqual(*ways, delta=0.02)

    def test_a_part_turned_upside_down_goes_into_one_buffer(self):
        part = turn_picture(crop_picture(self.picture, Box(4, 6, 12, 20)), 180, mirrored=False)
        again = picture_from_i420(picture_to_i420(part))
        self.assertEqual(self.planes(again), self.planes(part))
        self.assertEqual(again.y[0, 0], self.picture.y[25, 15])

    def test_a_half_clear_picture_lets_through_what_lies_under_it(self):
        white = plain(64, 64, (255, 255, 255))
        cover = np.full((64, 64), 128, np.uint8)
        cover[:, 32:] = 0
        logo = Picture(white.y, white.u, white.v, cover)
        whole = Box(0, 0, 64, 64)
        for shape in ("rectangle", "circle"):
            drawn = (
                Layer("under", "under", whole, whole),
                Layer("logo", "logo", whole, whole, mask=Mask(shape)),
            )
            plan = plan_scene(Scene("s", "S", drawn, ()), (64, 64))
            black = plain(64, 64, (0, 0, 0))
            frame = picture_from_i420(compose_frame(plan, {"under": black, "logo": logo}))
            self.assertAlmostEqual(int(frame.y[32, 16]), (16 + 235) / 2, delta=2)
            self.assertEqual(int(frame.y[32, 50]), 16)
            corner = 126 if shape == "rectangle" else 16
            self.assertAlmostEqual(int(frame.y[1, 1]), corner, delta=2)

    def test_a_clear_picture_alone_shows_the_backdrop(self):
        cover = np.zeros((64, 64), np.uint8)
        white = plain(64, 64, (255, 255, 255))
        layer = Layer("card", "card", Box(0, 0, 64, 64), Box(0, 0, 64, 64))
        plan = plan_scene(Scene("s", "S", (layer,), ()), (64, 64))
        card = Picture(white.y, white.u, white.v, cover)
        frame = picture_from_i420(compose_frame(plan, {"card": card}))
        backdrop = picture_from_i420(compose_frame(plan, {}))
        np.testing.assert_array_equal(frame.y, backdrop.y)


class Scaling(unittest.TestCase):
    def test_one_to_one_changes_nothing(self):
        rng = np.random.default_rng(2)
        picture = picture_from_i420(rng.integers(16, 235, (60, 40), dtype=np.uint8))
        same = scale_picture(picture, Box(4, 2, 20, 30), 20, 30)
        np.testing.assert_array_equal(same.y, picture.y[2:32, 4:24])
        np.testing.assert_array_equal(same.u, picture.u[1:16, 2:12])

    def test_shrinking_keeps_the_mean(self):
        rng = np.random.default_rng(3)
        picture = picture_from_i420(rng.integers(16, 235, (120, 80), dtype=np.uint8))
        small = scale_picture(picture, Box(0, 0, 80, 80), 20, 20)
        self.assertAlmostEqual(small.y.mean(), picture.y.mean(), delta=0.6)


class Composing(unittest.TestCase):
    def setUp(self):
        self.rig = demo_rig()
        self.pictures = {
            "display-1": plain(1920, 1080, (40, 200, 40)),
            "webcam-1": plain(1280, 720, (200, 40, 40)),
        }

    def compose(self, rig):
        plan = plan_scene(rig.scenes[0], rig.format.frame_size)
        return picture_from_i420(compose_frame(plan, self.pictures))

    def test_the_webcam_is_a_circle_over_the_display(self):
        frame = self.compose(self.rig)
        box = self.rig.scenes[0].layers[1].box
        centre = (box.top + box.height // 2, box.left + box.width // 2)
        self.assertEqual(frame.y[centre], self.pictures["webcam-1"].y[0, 0])
        for row, column in ((box.top, box.left), (box.bottom - 1, box.right - 1), (0, 0)):
            self.assertEqual(frame.y[row, column], self.pictures["display-1"].y[0, 0])
        seen = (frame.y != self.pictures["display-1"].y[0, 0]).sum()
        self.assertAlmostEqual(seen / (np.pi / 4 * box.width * box.height), 1, delta=0.01)

    def test_what_is_not_shown_or_not_there_is_left_out(self):
        hidden = with_crosspoint(self.rig, "webcam-1", "seen", "scene-1", False)
        self.assertEqual(len(np.unique(self.compose(hidden).y)), 1)
        del self.pictures["display-1"]
        frame = self.compose(self.rig)
        self.assertEqual(frame.y.shape, (1080, 1920))

    def test_a_frame_of_another_shape_has_a_backdrop(self):
        tall = with_format(self.rig, Format(1280, 960))
        frame = self.compose(tall)
        self.assertEqual((frame.width, frame.height), (1280, 960))
        self.assertNotEqual(frame.y[959, 20], frame.y[480, 20])

    def test_the_nearest_captured_frame_is_shown(self):
        captured = np.array([100.0, 133.0, 166.0])
        wanted = np.array([0, 100, 117, 150, 900])
        self.assertEqual(frame_at(captured, wanted, 16).tolist(), [0, 0, 1, 2, 2])

    def test_a_jpeg_is_a_jpeg(self):
        self.assertEqual(picture_to_jpeg(plain(64, 36, (9, 9, 9)), 80)[:2], b"\xff\xd8")
