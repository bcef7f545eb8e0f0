import unittest

import numpy as np
from PIL import Image

from kettle_core.picture.picture import blank_i420, picture_from_i420
from kettle_studio.canvas import SPARE_BUFFERS, FramePool, ScreenPainter
from kettle_studio.sprites import lay_sprite, make_sprite


def small():
    return np.zeros((6, 4), np.uint8)


class Pool(unittest.TestCase):
    def test_a_buffer_is_given_again_only_when_nobody_holds_it_or_a_view(self):
        pool = FramePool()
        first = pool.take(small)
        view = first.reshape(-1)[3:7]
        number = id(first)
        del first
        second = pool.take(small)
        self.assertNotEqual(id(second), number)
        del view
        self.assertEqual(id(pool.take(small)), number)

    def test_spare_buffers_are_let_go(self):
        pool = FramePool()
        held = [pool.take(small) for _ in range(30)]
        self.assertEqual(len({id(b) for b in held}), 30)
        del held
        pool.take(small)
        self.assertEqual(len(pool._buffers), SPARE_BUFFERS)


class Screens(unittest.TestCase):
    def test_whatever_was_shown_before_a_frame_shows_its_content_and_pointer_only(self):
        def content(key):
            return blank_i420(200, 120, (40 * key, 90, 90))

        painter = ScreenPainter(content)
        rng = np.random.default_rng(4)
        for _ in range(60):
            key, at = int(rng.integers(1, 5)), tuple(int(v) for v in rng.integers(-20, 240, 2))
            at = (abs(at[0]), abs(at[1]))
            shown = painter.draw(key, at)
            fresh = ScreenPainter(content).draw(key, at)
            np.testing.assert_array_equal(shown, fresh)


class Sprites(unittest.TestCase):
    def test_a_sprite_lies_on_pixels_and_moves_by_them(self):
        image = Image.new("RGBA", (40, 40), (255, 255, 255, 0))
        image.paste((255, 255, 255, 255), (8, 8, 32, 32))
        sprite = make_sprite(image, 20, 20)

        def middle(dx, dy):
            frame = picture_from_i420(blank_i420(120, 120, (0, 0, 0)))
            lay_sprite(frame, sprite, dx, dy)
            light = frame.y.astype(float) - 16
            x = (light.sum(axis=0) * np.arange(120)).sum() / light.sum()
            y = (light.sum(axis=1) * np.arange(120)).sum() / light.sum()
            return x, y

        home = middle(0, 0)
        for dx, dy in ((1, 0), (0, 3), (-4, 7), (13, -12)):
            x, y = middle(dx, dy)
            self.assertAlmostEqual(x - home[0], dx, delta=0.06)
            self.assertAlmostEqual(y - home[1], dy, delta=0.06)
