"""Which devices are open: those of a rig, and for a while those that a page looks at."""

import unittest
from dataclasses import replace

from kettle_core.scene.layout import Box
from kettle_engine.inputs import SPARES_FOR_NS, InputSet
from kettle_engine.protocol import WHOLE, spare_id
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

NOBODY = frozenset()


class Open(unittest.TestCase):
    def setUp(self):
        self.devices, self.rig, self.set = Studio().list_devices(), demo_rig(), InputSet()

    def ids(self):
        return {i.id for i in self.set.all}

    def test_a_rig_has_what_is_on_and_nothing_else(self):
        off = replace(self.rig.inputs[0], on=False)
        self.set.open(replace(self.rig, inputs=(off, *self.rig.inputs[1:])), "demo", None)
        self.assertTrue(self.set.fill(self.devices, NOBODY))
        self.assertEqual(self.ids(), {i.id for i in self.rig.inputs[1:] if i.on})
        self.assertFalse(self.set.fill(self.devices, NOBODY))

    def test_spares_are_what_the_rig_does_not_use_unrecorded_until_they_lapse(self):
        self.set.open(self.rig, "demo", 1000)
        self.set.fill(self.devices, NOBODY)
        used = {i.device for i in self.rig.inputs if i.is_captured}
        spares = {spare_id(d.id) for d in self.devices if d.id not in used and not d.busy}
        self.assertTrue(spares)
        self.assertEqual(self.ids(), {i.id for i in self.rig.inputs if i.on} | spares)
        self.assertFalse(any(i.recorded for i in self.set.all if i.id in spares))
        self.assertFalse(self.set.lapse(1000 + SPARES_FOR_NS))
        self.assertTrue(self.set.lapse(1001 + SPARES_FOR_NS))
        self.assertFalse(self.set.lapse(1002 + SPARES_FOR_NS))
        self.set.fill(self.devices, NOBODY)
        self.assertTrue(self.ids().isdisjoint(spares))

    def test_where_a_region_is_drawn_the_whole_picture_is_open_beside_it(self):
        first = self.rig.inputs[0]
        region = replace(first, looks=replace(first.looks, crop=Box(0, 0, 640, 360)))
        self.set.open(replace(self.rig, inputs=(region, *self.rig.inputs[1:])), "demo", None)
        self.set.fill(self.devices, frozenset({WHOLE + first.id, WHOLE + "nobody"}))
        whole = next(i for i in self.set.all if i.id == WHOLE + first.id)
        self.assertEqual((whole.looks.crop, whole.recorded), (None, False))
        self.set.fill(self.devices, NOBODY)
        self.assertNotIn(WHOLE + first.id, self.ids())

    def test_a_rig_that_only_shows_otherwise_has_the_same_devices(self):
        self.set.open(self.rig, "demo", None)
        self.assertTrue(self.set.has_devices_of(replace(self.rig, name="Renamed", scenes=())))
        turned = replace(self.rig.inputs[0], looks=replace(self.rig.inputs[0].looks, turn=90))
        other = replace(self.rig, inputs=(turned, *self.rig.inputs[1:]))
        self.assertFalse(self.set.has_devices_of(other))
