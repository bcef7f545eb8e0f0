"""What is changed while a take is recorded, without an engine round it."""

import tracemalloc
import unittest

from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.cueing import Cueing
from kettle_studio.demo import demo_rig

DRAGGED_EVERY_NS = NS_PER_S // 10


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

    def test_each_step_of_it_is_kept_as_its_cue_alone(self):
        self.drag(0, 600)
        tracemalloc.start()
        self.addCleanup(tracemalloc.stop)
        before, _ = tracemalloc.get_traced_memory()
        self.drag(600, 1800)
        after, _ = tracemalloc.get_traced_memory()
        self.assertEqual(len(self.cueing.cues), 1801)
        # A cue has a box and some numbers; what it makes of a whole rig is several times that.
        self.assertLess((after - before) / 1200, 1000)

    def test_what_is_seen_is_what_was_placed_last(self):
        self.drag(0, 50)
        (layer,) = (
            x for x in self.cueing.status(5 * NS_PER_S)["layers"] if x["id"] == self.layer.id
        )
        self.assertEqual(layer["box"]["left"], 949)
        newest = self.cueing.following.moments[-1]
        self.assertEqual(newest.at_ns, 49 * DRAGGED_EVERY_NS)
