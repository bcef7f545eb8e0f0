"""What cues make of a rig."""

import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.program.cues import (
    CloseUp,
    GoOn,
    Hide,
    Mark,
    Mute,
    Pause,
    Place,
    Show,
    Step,
    ToScene,
    Unmute,
)
from kettle_core.program.replay import closer, replay
from kettle_core.rig.spots import with_spot_saved
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer
from kettle_core.timing.time_map import Source
from kettle_studio.demo import demo_rig

TAKE = Source("take", "t")


def seen(state):
    return [x.input_id for x in state.resolved().layers]


class Following(unittest.TestCase):
    def setUp(self):
        self.rig = demo_rig()
        self.first, self.second = self.rig.scenes[0], self.rig.scenes[1]

    def follow(self, *cues):
        return replay(self.rig, cues)

    def test_without_cues_a_take_is_its_default_scene(self):
        found = self.follow()
        self.assertEqual(len(found.moments), 1)
        self.assertEqual(found.moments[0].state.scene_id, self.rig.default_scene.id)
        self.assertEqual(found.left_out, ())

    def test_hidden_and_muted_hold_in_all_scenes_until_they_are_undone(self):
        found = self.follow(
            Hide(10, "webcam-1"),
            Mute(20, "headset"),
            ToScene(30, self.second.id),
            Show(40, "webcam-1"),
            Unmute(50, "headset"),
        )
        states = [m.state for m in found.moments]
        self.assertIn("webcam-1", seen(states[0]))
        for state in states[1:4]:
            self.assertNotIn("webcam-1", seen(state))
        self.assertIn("webcam-1", seen(states[4]))
        heard = [[s.input_id for s in x.resolved().sounds] for x in states]
        self.assertEqual(
            ["headset" in ids for ids in heard], [True, True, False, False, False, True]
        )

    def test_a_scene_comes_in_by_its_own_change_over_or_the_cues(self):
        way = self.rig.change_over_to(self.second)
        found = self.follow(ToScene(5, self.second.id))
        self.assertEqual(found.moments[1].change_over, way)
        other = replace(way, kind="crossfade", length_ms=1234)
        found = self.follow(ToScene(5, self.second.id, other))
        self.assertEqual(found.moments[1].change_over, other)

    def test_what_is_there_already_makes_no_moment(self):
        found = self.follow(ToScene(5, self.rig.default_scene.id), Show(6, "webcam-1"))
        self.assertEqual(len(found.moments), 1)
        self.assertEqual(found.left_out, ())

    def test_a_place_is_one_layers_or_its_spots(self):
        layer = next(x for x in self.first.layers if x.input_id == "webcam-1")
        box = Box(40, 60, layer.box.width, layer.box.height)
        found = self.follow(Place(5, self.first.id, layer.id, box))
        rig = found.moments[-1].state.rig
        self.assertEqual(
            [x.box for x in rig.scene(self.first.id).layers if x.id == layer.id], [box]
        )
        self.assertEqual(rig.scene(self.second.id), self.second)
        free = replace(layer, spot="")
        with_spot, spot = with_spot_saved(self.rig, free, "Corner of its own")
        scenes = tuple(
            replace(
                s,
                layers=tuple(
                    replace(x, box=layer.box, turn=layer.turn, crop=layer.crop, spot=spot.id)
                    if x.input_id == "webcam-1"
                    else x
                    for x in s.layers
                ),
            )
            for s in with_spot.scenes
        )
        self.rig = replace(with_spot, scenes=scenes)
        moved = self.follow(Place(5, self.first.id, layer.id, box)).moments[-1].state.rig
        places = {x.box for s in moved.scenes for x in s.layers if x.input_id == "webcam-1"}
        self.assertEqual(places, {box})

    def test_what_is_unknown_or_impossible_is_told_and_left_out(self):
        layer = self.first.layers[0]
        found = self.follow(
            ToScene(1_500_000_000, "nowhere"),
            Hide(2, "headset"),
            Mute(3, "display-1"),
            Show(4, "ghost"),
            Place(5, self.first.id, "gone", Box(0, 0, 9, 9)),
            Place(6, self.first.id, layer.id, Box(0, 0, 0, 9)),
            CloseUp(7, "display-1", Box(0, 0, 99_999, 9)),
            GoOn(8),
            Pause(9),
            Pause(10),
        )
        self.assertEqual(len(found.moments), 1)
        self.assertEqual(len(found.left_out), 9)
        told = "\n".join(found.left_out)
        for words in (
            "“scene” at 1.500 s is left out. The rig has no scene “nowhere”",
            "is a sound; it can be muted",
            "is a picture; it can be hidden",
            "no input “ghost”",
            "no such layer",
            "at least 1 × 1 px",
            "the part lies outside",
            "It was not paused",
            "It was paused already",
        ):
            self.assertIn(words, told)

    def test_pauses_marks_and_steps_are_kept_with_their_times(self):
        cues = [Pause(30), Mark(5, "good"), GoOn(50), Step(7, "Grind"), Pause(90)]
        found = self.follow(*cues)
        self.assertEqual(found.paused, ((30, 50), (90, None)))
        self.assertEqual([m.text for m in found.marks], ["good"])
        self.assertEqual([s.step for s in found.steps], ["Grind"])
        taken = found.take_time(TAKE, 100)
        self.assertEqual(taken.length_ns, 70)
        self.assertEqual(taken.source_at(30), (TAKE, 50))
        self.assertEqual(taken.program_times(TAKE, 40), ())
        self.assertEqual(taken.program_times(TAKE, 95), ())


class CloseUps(unittest.TestCase):
    sides = st.integers(2, 2000)

    @given(st.integers(0, 500), st.integers(0, 500), sides, sides, sides, sides)
    def test_a_close_up_keeps_the_layers_shape_and_stays_on_its_picture(
        self, left, top, width, height, part_width, part_height
    ):
        layer = Layer("x", "d", Box(0, 0, 100, 100), Box(left, top, width, height))
        part = Box(left + width // 3, top + height // 3, part_width, part_height)
        near = closer(layer, part).crop
        self.assertTrue(layer.crop.holds(near))
        if near != layer.crop:
            self.assertLessEqual(abs(near.width * height / width - near.height), 1 + height / width)
            self.assertGreaterEqual(near.width, min(part.width, width) - 1)
            self.assertGreaterEqual(near.height, min(part.height, height) - 1)

    def test_it_glides_in_and_out_and_other_inputs_stay(self):
        rig = demo_rig()
        whole = rig.seen_in(rig.default_scene).layers
        display = next(x for x in whole if x.input_id == "display-1")
        crop = display.crop
        part = Box(crop.left + 100, crop.top + 100, crop.width // 2, crop.height // 2)
        found = replay(rig, [CloseUp(5, "display-1", part, 300), CloseUp(9, "display-1", None)])
        near, back = found.moments[1:]
        self.assertEqual((near.change_over.kind, near.change_over.length_ms), ("glide", 300))
        layers = {x.input_id: x for x in near.state.resolved().layers}
        self.assertEqual(layers["display-1"].crop, part)
        self.assertEqual(layers["display-1"].box, display.box)
        self.assertEqual(back.state.resolved().layers, whole)
        for layer in whole:
            if layer.input_id != "display-1":
                self.assertEqual(layers[layer.input_id], layer)
