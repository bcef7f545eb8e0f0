import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import CueError
from kettle_core.program.afterwards import (
    Afterwards,
    Recorded,
    changes_program,
    cue_id,
    moved_cue,
    named_mark,
    nudged,
    with_cue,
    with_stretch,
    without_cue,
)
from kettle_core.program.cues import GoOn, Hide, Mark, Mute, Pause, Place, Show, ToScene, Unmute
from kettle_core.program.replay import replay
from kettle_core.scene.layout import Box
from kettle_studio.demo import demo_rig

S = 10**9
RIG = demo_rig()
BELOW, ABOVE = (layer.id for layer in RIG.scene("scene-1").layers[:2])
CUES = (ToScene(0, "scene-1"), Mark(2 * S, "again"), Pause(4 * S), GoOn(5 * S))
WAS = Recorded(RIG, CUES, ("display-1", "webcam-1", "headset"), 10 * S)
TIMES = st.integers(0, 10 * S)


def hidden_at(after, at_ns):
    """Whether the webcam is hidden at a time."""
    moments = replay(RIG, after.cues_now(CUES)).moments
    return "webcam-1" in [m for m in moments if m.at_ns <= at_ns][-1].state.hidden


class Marks(unittest.TestCase):
    def test_a_mark_is_added_named_moved_and_taken_out_and_then_nothing_was_changed(self):
        now = with_cue(Afterwards(), WAS, Mark(7 * S, "good", 8 * S))
        now = named_mark(now, WAS, "mark@7000000000", "very good")
        now = moved_cue(now, WAS, "mark@7000000000", 3 * S)
        self.assertEqual(now.cues[2], Mark(3 * S, "very good", 4 * S))
        now = without_cue(now, WAS, "mark@3000000000")
        self.assertEqual(now, Afterwards())

    def test_a_stretch_that_is_moved_to_the_end_ends_with_the_take(self):
        now = with_cue(Afterwards(), WAS, Mark(2 * S, "", 6 * S))
        now = moved_cue(now, WAS, "mark@2000000000", 8 * S)
        self.assertEqual(now.cues[-1], Mark(8 * S, "", 10 * S))

    def test_what_is_gone_or_lies_outside_is_refused_in_words(self):
        for change, words in (
            (lambda: without_cue(Afterwards(), WAS, "mark@1"), "is gone from the take"),
            (lambda: with_cue(Afterwards(), WAS, Mark(11 * S)), "lies outside of the take"),
            (lambda: without_cue(Afterwards(), WAS, "pause@4000000000"), "A pause stays"),
            (lambda: moved_cue(Afterwards(), WAS, "pause@4000000000", 1), "A pause stays"),
            (lambda: with_cue(Afterwards(), WAS, Hide(1, "nobody")), "nobody"),
            (lambda: named_mark(Afterwards(), WAS, "scene@0:scene-1", "x"), "Only marks"),
            (lambda: nudged(Afterwards(), WAS, "nobody", 1.0), "not in the take"),
            (lambda: nudged(Afterwards(), WAS, "headset", 5001.0), "at most 5000 ms"),
            (lambda: nudged(Afterwards(), WAS, "headset", float("nan")), "at most 5000 ms"),
        ):
            with self.subTest(words), self.assertRaisesRegex(CueError, words):
                change()

    def test_marks_leave_the_program_as_it_is_and_cues_and_nudges_do_not(self):
        marked = with_cue(Afterwards(), WAS, Mark(7 * S))
        self.assertFalse(changes_program(Afterwards(), marked, WAS))
        for other in (
            with_cue(Afterwards(), WAS, Mute(7 * S, "headset")),
            nudged(Afterwards(), WAS, "headset", -12.5),
        ):
            self.assertTrue(changes_program(marked, other, WAS))
        self.assertEqual(nudged(other, WAS, "headset", 0.0), Afterwards())


class Drags(unittest.TestCase):
    drag = tuple(Place(6 * S + n * S // 10, "scene-1", ABOVE, Box(n, 6, 70, 80)) for n in range(8))
    others = (
        Place(6 * S + S // 4, "scene-1", BELOW, Box(1, 2, 30, 40)),
        Mark(6 * S + S // 3, "good"),
        Place(7 * S + S // 2, "scene-1", ABOVE, Box(9, 9, 70, 80)),
    )

    def setUp(self):
        cues = (*CUES, *self.drag, *self.others)
        self.was = replace(WAS, cues=tuple(sorted(cues, key=lambda cue: cue.at_ns)))

    def steps(self, now):
        return [c for c in now.cues_now(self.was.cues) if c not in (*CUES, *self.others)]

    def test_one_is_taken_out_and_moved_as_a_whole_and_nothing_else(self):
        led = cue_id(self.drag[0])
        now = without_cue(Afterwards(), self.was, led)
        self.assertEqual(self.steps(now), [])
        self.assertEqual(len(now.cues), len(CUES) + len(self.others))
        now = moved_cue(Afterwards(), self.was, led, 3 * S)
        self.assertEqual(self.steps(now), [replace(c, at_ns=c.at_ns - 3 * S) for c in self.drag])
        self.assertEqual(len(now.cues), len(self.was.cues))
        # What a page from before calls a step of it is that step.
        now = without_cue(Afterwards(), self.was, cue_id(self.drag[3]))
        self.assertEqual(self.steps(now), [c for c in self.drag if c is not self.drag[3]])

    def test_one_that_is_moved_to_the_end_lies_there_as_it_ended(self):
        now = moved_cue(Afterwards(), self.was, cue_id(self.drag[0]), 10 * S - S // 4)
        times = [(c.at_ns - 10 * S) // (S // 100) for c in self.steps(now)]
        self.assertEqual(times, [-25, -15, -5, 0])
        self.assertEqual(self.steps(now)[-1].box, self.drag[-1].box)


class Stretches(unittest.TestCase):
    @given(st.lists(st.tuples(TIMES, TIMES), max_size=6), TIMES, TIMES, st.lists(TIMES, max_size=8))
    def test_within_it_is_so_and_outside_as_it_was(self, earlier, a, b, places):
        now = Afterwards()
        for start, end in map(sorted, [*earlier, (a, b)]):
            if start == end:
                continue
            before = now
            hide, show = Hide(start, "webcam-1"), Show(end, "webcam-1")
            now = with_stretch(now, WAS, hide, show)
            for at in [*places, start, end, (start + end) // 2]:
                wanted = True if start <= at < end else hidden_at(before, at)
                # At the very end of a take nothing is seen any more.
                if at < WAS.length_ns:
                    self.assertEqual(hidden_at(now, at), wanted, (start, end, at))

    def test_a_scene_for_a_stretch_comes_back_at_its_end(self):
        now = with_stretch(Afterwards(), WAS, ToScene(6 * S, "scene-2"), ToScene(8 * S, "scene-1"))
        scenes = [(c.at_ns // S, c.scene) for c in now.cues if isinstance(c, ToScene)]
        self.assertEqual(scenes, [(0, "scene-1"), (6, "scene-2"), (8, "scene-1")])
        with self.assertRaisesRegex(CueError, "before it begins"):
            with_stretch(now, WAS, Mute(5 * S, "headset"), Unmute(5 * S, "headset"))

    @given(TIMES, TIMES, TIMES)
    def test_a_layer_placed_for_a_stretch_lies_before_and_after_as_it_did(self, a, b, at):
        start, end = sorted((a, b))
        # At the very end of a take nothing is seen any more.
        if start == end or at == WAS.length_ns:
            return
        scene = RIG.scene("scene-1")
        first, second = scene.layers[:2]
        now = with_cue(Afterwards(), WAS, Place(3 * S, scene.id, second.id, Box(5, 6, 70, 80), 0))
        before = replay(RIG, now.cues)
        here, back = Box(0, 0, 640, 360), before.state_at(end).rig.scene(scene.id).layers[0]
        now = with_stretch(
            now,
            WAS,
            Place(start, scene.id, first.id, here, 2.0),
            Place(end, scene.id, first.id, back.box, back.turn),
        )
        layers = replay(RIG, now.cues).state_at(at).rig.scene(scene.id).layers
        wanted = before.state_at(at).rig.scene(scene.id).layers
        if start <= at < end:
            self.assertEqual((layers[0].box, layers[0].turn), (here, 2.0))
            layers, wanted = layers[1:], wanted[1:]
        self.assertEqual(layers, wanted)

    def test_two_layers_placed_at_one_moment_are_two_cues(self):
        scene = RIG.scene("scene-1")
        now = Afterwards()
        for layer in scene.layers[:2]:
            now = with_cue(now, WAS, Place(S, scene.id, layer.id, Box(1, 2, 30, 40)))
        self.assertEqual(sum(isinstance(c, Place) for c in now.cues), 2)

    def test_cues_of_one_kind_time_and_object_are_one(self):
        now = with_cue(Afterwards(), WAS, Hide(S, "webcam-1"))
        again = with_cue(now, WAS, Hide(S, "webcam-1"))
        self.assertEqual(now, again)
        self.assertEqual(len({cue_id(c) for c in now.cues}), len(now.cues))
        self.assertEqual(replace(now, cues=None), Afterwards())
