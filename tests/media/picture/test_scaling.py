"""The library's area scaling beside the composer's own."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.picture.compose import Composer, compose_frame
from kettle_core.picture.picture import Picture
from kettle_core.picture.resample import MOST_SHRUNK, Line, Resampler
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer, Mask, Scene
from kettle_core.scene.scene_plan import plan_scene
from kettle_media.picture.scaling import Shrinker

LENGTHS = st.tuples(st.integers(8, 300), st.floats(1.0, MOST_SHRUNK)).map(
    lambda x: (x[0], max(2, round(x[0] / x[1])))
)


def noise(seed, rows, columns):
    rng = np.random.default_rng(seed)
    return rng.integers(0, 256, (rows, columns), np.uint8)


class Shrinking(unittest.TestCase):
    @settings(max_examples=200)
    @given(LENGTHS, LENGTHS, st.booleans(), st.integers(0, 99))
    def test_it_is_within_1_of_the_mean_of_what_is_covered(self, across, down, flipped, seed):
        (columns, width), (rows, height) = across, down
        plane = noise(seed, rows, columns)
        step = -columns / width if flipped else columns / width
        lines = (
            Line(height, 0.0, rows / height, 0, rows),
            Line(width, float(columns) if flipped else 0.0, step, 0, columns),
        )
        exact = Resampler(*lines).sample(plane).astype(int)
        fast = Resampler(*lines, Shrinker()).sample(plane).astype(int)
        self.assertLessEqual(np.abs(fast - exact).max(), 1)

    @settings(max_examples=100)
    @given(LENGTHS, LENGTHS, st.booleans(), st.booleans(), st.integers(0, 3))
    def test_a_layer_is_within_1_of_it_wherever_it_lies(self, across, down, lent, mirrored, left):
        self.is_within_1(across, down, lent, mirrored, left)

    @settings(max_examples=100)
    @given(st.integers(2, int(MOST_SHRUNK)), st.integers(2, 40), st.integers(2, 40), st.booleans())
    def test_so_is_one_that_is_shrunk_by_a_whole_factor(self, by, width, height, lent):
        self.is_within_1((by * width, width), (by * height, height), lent)

    def is_within_1(self, across, down, lent, mirrored=False, left=0):
        (columns, width), (rows, height) = across, down
        crop, box = Box(2, 4, 2 * columns, 2 * rows), Box(left, 2, 2 * width, 2 * height)
        whole = (2 * columns + 6, 2 * rows + 8)
        planes = [noise(n, whole[1] // n, whole[0] // n) for n in (1, 2, 2)]
        for plane in planes:
            plane.flags.writeable = lent
        layer = Layer("a", "cam", box, crop, mirrored=mirrored)
        plan = plan_scene(Scene("s", "S", (layer,), ()), (640, 640))
        exact, fast = (
            compose_frame(plan, {"cam": Picture(*planes)}, s).astype(int)
            for s in (None, Shrinker())
        )
        self.assertLessEqual(np.abs(exact - fast).max(), 1)

    def test_a_scene_is_composed_alike_and_a_layer_cut_by_the_frame_exactly_so(self):
        picture = Picture(noise(1, 360, 640), noise(2, 180, 320), noise(3, 180, 320))
        for box, most in ((Box(80, 40, 128, 128), 1), (Box(-40, -20, 128, 128), 0)):
            layer = Layer("a", "cam", box, Box(140, 0, 360, 360), mask=Mask("circle", border_px=3))
            plan = plan_scene(Scene("s", "S", (layer,), ()), (320, 240))
            frames = [Composer(plan, None, s).compose({"cam": picture}) for s in (None, Shrinker())]
            away = np.abs(frames[0].astype(int) - frames[1].astype(int))
            self.assertLessEqual(away.max(), most)
