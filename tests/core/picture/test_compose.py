"""The composer against its definition in floats, over random scenes."""

import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.picture.compose import BACKDROP_RGB, Composer, compose_frame
from kettle_core.picture.picture import Picture, blank_i420, picture_from_i420
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer, Mask, Scene
from kettle_core.scene.scene_plan import plan_scene
from tests.core.picture import float_reference

BORDER = "#ffffff"


def noise(seed, width, height):
    rng = np.random.default_rng(seed)
    return Picture(
        rng.integers(16, 236, (height, width), dtype=np.uint8),
        rng.integers(16, 241, (height // 2, width // 2), dtype=np.uint8),
        rng.integers(16, 241, (height // 2, width // 2), dtype=np.uint8),
    )


WHITE = picture_from_i420(blank_i420(40, 40, (255, 255, 255)))
PICTURES = {"wide": noise(1, 48, 28), "tall": noise(2, 20, 34), "white": WHITE}


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
    @settings(max_examples=30)
    @given(st.tuples(layers("a"), layers("b")), st.sampled_from(((44, 30), (32, 40))))
    def test_every_pixel_is_within_2_of_the_definition(self, made, size):
        self.check(made, size)

    def test_the_tips_of_a_narrow_ellipse_are_so_too(self):
        for box in (Box(8, 4, 4, 27), Box(8, 4, 31, 5), Box(-1, -12, 3, 40)):
            self.check([layer("white", box, mask=Mask("ellipse"))], (60, 44))

    def check(self, made, size):
        scene = Scene("s", "S", made, ())
        plan = plan_scene(scene, size)
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


def layer(name, box, input_id=None, **values):
    source = PICTURES[input_id or name]
    crop = values.pop("crop", Box(0, 0, source.width, source.height))
    return Layer(name, input_id or name, box, crop, **values)


def composed(layers, width=64, height=48, pictures=PICTURES, stills=None):
    plan = plan_scene(Scene("s", "S", tuple(layers), ()), (width, height), stills)
    return picture_from_i420(compose_frame(plan, pictures))


class MemoryTests(unittest.TestCase):
    """What is kept between frames changes no pixel."""

    def setUp(self):
        self.layers = (
            layer("wide", Box(-3, 1, 70, 40)),
            layer(
                "tall", Box(20, 6, 30, 30), turn=20, mask=Mask("circle", border_px=2, shadow_px=3)
            ),
            layer("logo", Box(41, 3, 20, 12), "wide", opacity=40),
        )
        self.plan = plan_scene(Scene("s", "S", self.layers, ()), (64, 48))

    def test_an_unchanged_frame_is_the_same_one_and_a_changed_one_is_new(self):
        composer = Composer(self.plan)
        first = composer.compose(PICTURES)
        self.assertIs(composer.compose(dict(PICTURES)), first)
        before = first.copy()
        other = composer.compose({**PICTURES, "tall": noise(9, 20, 34)})
        self.assertIsNot(other, first)
        np.testing.assert_array_equal(first, before)

    def test_any_order_of_changes_gives_what_a_fresh_composer_gives(self):
        composer = Composer(self.plan)
        rng = np.random.default_rng(4)
        pictures = dict(PICTURES)
        for step in range(120):
            name = ("wide", "tall")[int(rng.integers(2))]
            if step % 7 == 6:
                pictures.pop(name, None)
            else:
                size = (48, 28) if name == "wide" else (20, 34)
                pictures[name] = noise(100 + step, *size)
            kept = composer.compose(pictures)
            np.testing.assert_array_equal(kept, Composer(self.plan).compose(pictures))

    def test_a_composer_that_takes_over_moved_layers_draws_what_a_fresh_one_does(self):
        composer = Composer(self.plan)
        composer.compose(PICTURES)
        rng = np.random.default_rng(6)
        layers = list(self.layers)
        for _ in range(30):
            n = int(rng.integers(3))
            box = layers[n].box
            step = rng.integers(-6, 7, 2)
            box = Box(box.left + int(step[0]), box.top + int(step[1]), box.width, box.height)
            layers[n] = replace(layers[n], box=box)
            plan = plan_scene(Scene("s", "S", tuple(layers), ()), (64, 48))
            composer = Composer(plan, composer)
            np.testing.assert_array_equal(
                composer.compose(PICTURES), Composer(plan).compose(PICTURES)
            )


class FrameTests(unittest.TestCase):
    def test_one_to_one_copies_every_sample(self):
        frame = composed([layer("wide", Box(8, 10, 48, 28))])
        source = PICTURES["wide"]
        np.testing.assert_array_equal(frame.y[10:38, 8:56], source.y)
        np.testing.assert_array_equal(frame.u[5:19, 4:28], source.u)

    def test_frames_from_the_smallest_to_the_largest_are_filled(self):
        for width, height in ((320, 240), (854, 480), (1080, 1920), (3840, 2160)):
            frame = composed(
                [
                    layer("wide", Box(0, 0, width, height)),
                    layer("tall", Box(width - 101, height - 151, 101, 151), turn=11),
                ],
                width,
                height,
            )
            self.assertEqual((frame.width, frame.height), (width, height))
            self.assertGreater(len(np.unique(frame.y[::7, ::7])), 50)

    def test_layers_outside_the_frame_are_no_error(self):
        empty = composed([])
        for box in (Box(-500, 0, 48, 28), Box(64, 48, 9, 9), Box(0, -28, 48, 28)):
            np.testing.assert_array_equal(composed([layer("wide", box)]).y, empty.y)

    def test_a_picture_masks_where_it_is_white_and_a_square_one_is_fitted_into_a_wide_layer(self):
        still = np.zeros((20, 20), np.uint8)
        still[:, 10:] = 255
        mask = Mask("picture", still="m")
        wide = layer("wide", Box(8, 10, 48, 28), mask=mask)
        frame, empty = composed([wide], stills={"m": still}), composed([])
        changed = frame.y != empty.y
        # Fitted: 28 × 28 px in the middle, of which the right half is white.
        self.assertFalse(changed[:, :31].any())
        self.assertFalse(changed[:, 47:].any())
        self.assertGreater(changed[12:36, 34:44].mean(), 0.95)
        without = composed([wide])
        np.testing.assert_array_equal(without.y[10:38, 8:56], PICTURES["wide"].y)

    def test_a_shadow_darkens_around_the_layer_and_nothing_under_it(self):
        white = picture_from_i420(blank_i420(64, 48, (255, 255, 255)))
        pictures = {**PICTURES, "white": white}
        ground = Layer("g", "white", Box(0, 0, 64, 48), Box(0, 0, 64, 48))
        shadowed = Layer(
            "t", "white", Box(22, 14, 20, 16), Box(0, 0, 20, 16), mask=Mask(shadow_px=6)
        )
        frame = composed([ground, shadowed], pictures=pictures)
        self.assertEqual(frame.y[20, 30], 235)
        self.assertLess(frame.y[31, 30], 200)
        self.assertLess(frame.y[31, 30], frame.y[12, 30])
        self.assertEqual(frame.y[2, 2], 235)

    def test_a_border_has_its_colour_and_width(self):
        red = layer("wide", Box(8, 10, 48, 28), mask=Mask(border_px=4, border_colour="#ff0000"))
        frame = composed([red])
        value = picture_values((255, 0, 0))
        np.testing.assert_array_equal(frame.y[10:14, 8:56], value[0])
        np.testing.assert_array_equal(frame.y[14:34, 12:52], PICTURES["wide"].y[4:24, 4:44])
        self.assertEqual(frame.v[6, 15], value[2])
