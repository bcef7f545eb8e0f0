"""What is changed while a take is recorded, without an engine round it."""

import gc
import pickle
import tracemalloc
import unittest

from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.cueing import Cueing, TakeCues
from kettle_studio.demo import demo_rig

DRAGGED_EVERY_NS = NS_PER_S // 10


def held_bytes():
    gc.collect()
    return tracemalloc.get_traced_memory()[0]


class Dragging(unittest.TestCase):
    def setUp(self):
        self.rig = demo_rig()
        self.cueing = Cueing(self.rig)
        self.layer = self.rig.scenes[0].layers[-1]

    def drag(self, first, last):
        """A layer pulled along, as pages say it."""
        for number in range(first, last):
            box = {"left": 900 + number % 300, "top": 500, "width": 432, "height": 432}
            values = {"scene": "scene-1", "layer": self.layer.id, "box": box, "turn": 0.0}
            self.cueing.order("place", number * DRAGGED_EVERY_NS, values, {})

    def test_no_step_of_it_is_kept_for_ever(self):
        tracemalloc.start()
        self.addCleanup(tracemalloc.stop)
        self.drag(0, 800)
        before = held_bytes()
        self.drag(800, 2000)
        after = held_bytes()
        self.assertEqual(self.cueing.status(200 * NS_PER_S)["cues"], 2001)
        self.assertEqual(self.cueing.cues[-1].at_ns, 1999 * DRAGGED_EVERY_NS)
        # The newest take the place of older ones; a cue of its own has some 900 bytes.
        self.assertLess((after - before) / 1200, 100)

    def test_what_is_seen_is_what_was_placed_last(self):
        self.drag(0, 50)
        (layer,) = (
            x for x in self.cueing.status(5 * NS_PER_S)["layers"] if x["id"] == self.layer.id
        )
        self.assertEqual(layer["box"]["left"], 949)
        newest = self.cueing.following.moments[-1]
        self.assertEqual(newest.at_ns, 49 * DRAGGED_EVERY_NS)

    def test_who_is_told_each_cue_knows_what_they_have_come_to(self):
        known = TakeCues(0, tuple(self.cueing.following.moments))
        asked = [("pause", {}), ("go-on", {}), ("scene", {"scene": "scene-2"}), ("mark", {})]
        for number, (what, values) in enumerate(asked):
            self.drag(20 * number, 20 * number + 20)
            self.cueing.order(what, (20 * number + 19) * DRAGGED_EVERY_NS, values, {})
            for cue in list(self.cueing.cues)[-21:]:
                known = known.and_then(cue)
                # It is told as it is, not with the rig that it leads to.
                self.assertLess(len(pickle.dumps(cue)), 500)
            self.assertEqual(known.moments, tuple(self.cueing.following.moments))
