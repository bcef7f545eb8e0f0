"""The composer against its definition in floats, over random scenes."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.compose import BACKDROP_RGB, Composer, compose_frame, plan_scene
from kettle_core.layout import Box
from kettle_core.picture import Picture, blank_i420, picture_from_i420
from kettle_core.rig import Format
from kettle_core.scene import Layer, Mask, Scene
from tests.core import float_reference

BORDER = "#ffffff"


def noise(seed, width, height):
    rng = np.random.default_rng(seed)
    return Picture(
        rng.integers(16, 236, (height, width), dtype=np.uint8),
        rng.integers(16, 241, (height // 2, width // 2), dtype=np.uint8),
        rng.integers(16, 241, (height // 2, width // 2), dtype=np.uint8),
    )


PICTURES = {"wide": noise(1, 48, 28), "tall": noise(2, 20, 34)}


def picture_values(rgb):
    pixel = picture_from_i420(blank_i420(2, 2, rgb))
    return pixel.y[0, 0], pixel.u[0, 0], pixel.v[0, 0]


@st.composite
def layers(draw, name):
    source = PICTURES[draw(st.sampled_from(sorted(PICTURES)))]
    input_id = next(n for n, p in PICTURES.items() if p is source)
    left = draw(st.integers(0, source.width - 6))
    top = draw(st.integers(0, source.height - 6))
    crop = Box(
        left,
        top,
        draw(st.integers(4, source.width - left)),
        draw(st.integers(4, source.height - top)),
    )
    size = draw(st.sampled_from(("same", "any")))
    width = crop.width if size == "same" else draw(st.integers(3, 60))
    height = crop.height if size == "same" else draw(st.integers(3, 60))
    box = Box(draw(st.integers(-20, 40)), draw(st.integers(-20, 30)), width, height)
    turn = draw(st.sampled_from((0, 0, 90, 180, 270, 7.5, 33, 200.1)))
    mask = Mask(
        draw(st.sampled_from(("rectangle", "rectangle", "circle", "ellipse"))),
        draw(st.sampled_from((0, 0, 5))),
        "",
        draw(st.sampled_from((0, 0, 4))),
        draw(st.sampled_from((0, 0, 3))),
        BORDER,
    )
    opacity = draw(st.sampled_from((100, 100, 62)))
    return Layer(name, input_id, box, crop, turn, draw(st.booleans()), opacity, mask)


class ReferenceTests(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(st.tuples(layers("a"), layers("b")), st.sampled_from(((44, 30), (32, 40))))
    def test_every_pixel_is_within_2_of_the_definition(self, made, size):
        scene = Scene("s", "S", made, ())
        plan = plan_scene(scene, Format(*size))
        frame = picture_from_i420(compose_frame(plan, PICTURES))
        wanted = float_reference.compose(
            made, PICTURES, *size, picture_values(BACKDROP_RGB), picture_values((255, 255, 255))
        )
        squares = []
        for plane, truth in zip((frame.y, frame.u, frame.v), wanted, strict=True):
            away = np.abs(plane.astype(float) - truth)
            self.assertLessEqual(away.max(), 2.0)
            squares.append((away**2).ravel())
        psnr_db = 10 * np.log10(255**2 / max(np.concatenate(squares).mean(), 1e-9))
        self.assertGreater(psnr_db, 50)
