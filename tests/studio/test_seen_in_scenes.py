"""What the scenes' tools find in the studio's own pictures: text heights, a plain backdrop."""

import unittest
from dataclasses import replace

import numpy as np
from PIL import Image, ImageDraw

from kettle_core.picture.colour_key import is_greyish, key_matte, without_spill
from kettle_core.picture.compose import draw_matte
from kettle_core.picture.picture import picture_from_i420
from kettle_core.picture.reading import reading_sizes, smallest_text_px, text_lines
from kettle_core.rig.rig import Looks
from kettle_core.rig.used_picture import as_used
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ColourKey, Layer, Mask, Scene
from kettle_core.scene.scene_plan import plan_scene
from kettle_studio import presenter, quirefold
from kettle_studio.canvas import font
from kettle_studio.driver import Studio

WORDS = ("gutter 4.5 mm, creep 0.3 mm a leaf", "sewing station, kettle stitch", "Trim 3 mm")


def tall_px(size):
    box = font(size).getbbox("d")
    return box[3] - box[1]


class ReadingSize(unittest.TestCase):
    def test_text_of_known_height_is_measured_within_a_pixel(self):
        for size in (9, 10, 12, 14, 17, 22, 30, 44):
            for ink, ground in ((20, 235), (225, 50)):
                image = Image.new("L", (1000, 320), ground)
                draw = ImageDraw.Draw(image)
                for row, words in enumerate(WORDS):
                    draw.text((20, 20 + row * 2 * size), words, font=font(size), fill=ink)
                with self.subTest(size=size, ink=ink):
                    found = smallest_text_px(np.asarray(image))
                    self.assertAlmostEqual(found, tall_px(size), delta=1)

    def test_the_smallest_print_of_quirefold_is_found_upright_or_upside_down(self):
        buffer = quirefold.draw_document(quirefold.resting_document())
        luma = picture_from_i420(buffer).y
        self.assertAlmostEqual(smallest_text_px(luma), tall_px(12), delta=1)
        over = np.ascontiguousarray(luma[::-1, ::-1])
        self.assertAlmostEqual(smallest_text_px(over), tall_px(12), delta=1)

    def test_a_picture_without_text_has_none(self):
        frame = picture_from_i420(presenter.PresenterPainter(720).draw(1.0, 1))
        lines = text_lines(frame.y)
        self.assertIsNone(smallest_text_px(np.full((200, 300), 90, np.uint8)))
        self.assertLess(len(lines), 3)

    def test_seen_smaller_it_is_judged_smaller(self):
        found = reading_sizes(8, 0.5, 1080)
        self.assertEqual([s.height_px for s in found], [8, 4, 8 / 3, 16 / 9])
        self.assertEqual([s.verdict for s in reading_sizes(11, 1, 1080)],
                         ["reads well", "reads well", "small", "too small"])  # fmt: skip


class PlainBackdrop(unittest.TestCase):
    """The desk webcam before a green cloth: the cloth goes, Odile stays."""

    @classmethod
    def setUpClass(cls):
        studio = Studio(2)
        studio.switch_surrounding("webcam-1", "cloth", True)
        info = next(d for d in studio.list_devices() if d.id == "webcam-1")
        mode = next(m for m in info.modes if m.height == 720)
        device = studio.open_device("webcam-1", mode, 0)
        raw = picture_from_i420(device.read().data)
        cls.picture = as_used(raw, Looks(turn=180))
        cls.key = ColourKey("#" + "".join(f"{v:02x}" for v in presenter.CLOTH_RGB))

    def shares(self, key):
        """How much is kept of the cloth, of the head and of the desk."""
        matte = key_matte(key, self.picture.u, self.picture.v)
        return (
            matte[20:120, 20:180].mean(),
            matte[120:170, 300:340].mean(),
            matte[330:350, 20:200].mean(),
        )

    def test_the_cloth_is_taken_out_and_nothing_else(self):
        cloth, head, desk = self.shares(self.key)
        self.assertLess(cloth, 0.01)
        self.assertGreater(head, 0.99)
        self.assertGreater(desk, 0.99)
        nothing = replace(self.key, tolerance=0, softness=100)
        self.assertGreater(self.shares(nothing)[2], self.shares(replace(nothing, tolerance=60))[2])

    def test_the_matte_is_drawn_in_the_layers_place(self):
        crop = Box(0, 0, 1280, 720)
        layer = Layer("w", "w", Box(320, 180, 640, 360), crop, mask=Mask(), colour_key=self.key)
        plan = plan_scene(Scene("s", "S", (layer,), ()), (1280, 720))
        matte = picture_from_i420(draw_matte(plan, "w", {"w": self.picture}))
        self.assertEqual(matte.y[100, 100], 16)
        self.assertLess(matte.y[200, 340], 20)
        self.assertGreater(matte.y[320, 640], 230)

    def test_spill_is_taken_away_from_what_is_tinted_only(self):
        tinted = np.full((2, 2), 120, np.uint8), np.full((2, 2), 112, np.uint8)
        cleaned = without_spill(self.key, *tinted)
        away = [
            np.hypot(*(p.astype(float).mean() - 128 for p in pair)) for pair in (tinted, cleaned)
        ]
        self.assertLess(away[1], 0.5 * away[0])
        skin = np.full((2, 2), 110, np.uint8), np.full((2, 2), 150, np.uint8)
        for before, after in zip(skin, without_spill(self.key, *skin), strict=True):
            np.testing.assert_array_equal(before, after)

    def test_a_grey_key_is_told(self):
        self.assertTrue(is_greyish("#808080"))
        self.assertFalse(is_greyish(self.key.colour))
