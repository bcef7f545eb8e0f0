import unittest
from dataclasses import replace
from fractions import Fraction

from kettle_core.errors import RigError
from kettle_core.rig.changes import (
    fit_to_devices,
    with_crosspoint,
    with_input,
    with_input_at,
    with_new_input,
    without_input,
)
from kettle_core.rig.devices import DeviceInfo, Mode
from kettle_core.rig.first_rig import rig_of_devices
from kettle_core.rig.rig import Input, Looks, input_of_device
from kettle_core.rig.whole import check_rig
from kettle_core.scene.layout import Box
from kettle_media.rig_document import rig_from_dict, rig_to_dict
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio


def holds_together(case, rig):
    case.assertEqual(rig_from_dict(rig_to_dict(rig)), rig)


class Changes(unittest.TestCase):
    def setUp(self):
        self.rig = demo_rig()
        self.devices = {d.id: d for d in Studio().list_devices()}

    def test_layers_follow_a_region_a_turn_and_another_mode(self):
        display, webcam = self.rig.input("display-1"), self.rig.input("webcam-1")
        region = replace(display, looks=Looks(crop=Box(100, 100, 1000, 500)))
        rig = with_input(self.rig, region)
        layer = rig.scenes[0].layers[0]
        self.assertEqual(layer.crop, Box(0, 0, 1000, 500))
        self.assertEqual((layer.box.width, layer.box.height), (1920, 960))
        small = Mode(640, 360, Fraction(60))
        rig = with_input(rig, replace(webcam, mode=small, looks=Looks(turn=90)))
        self.assertEqual(rig.input("webcam-1").size, (360, 640))
        self.assertEqual(rig.scenes[0].layers[1].crop, Box(0, 140, 360, 360))
        self.assertEqual(rig.scenes[0].layers[1].box, self.rig.scenes[0].layers[1].box)
        holds_together(self, rig)

    def test_inputs_of_one_device_run_in_one_mode(self):
        display = self.rig.input("display-1")
        rig = with_new_input(self.rig, replace(display, name="Corner"))
        self.assertEqual(rig.inputs[-1].id, "display-1-2")
        fast = Mode(1920, 1080, Fraction(60))
        rig = with_input(rig, replace(rig.inputs[-1], mode=fast))
        self.assertEqual(rig.input("display-1").mode, fast)
        other = replace(rig.inputs[0], mode=replace(fast, fps=Fraction(30)))
        with self.assertRaisesRegex(RigError, "one mode"):
            check_rig(replace(rig, inputs=(other, *rig.inputs[1:])))

    def test_a_new_input_is_given_a_place_by_its_crosspoint(self):
        mail = input_of_device(self.devices["display-2/mail"], "mail")
        logo = Input("logo", "Mark", "picture", "", Mode(300, 200), False, still="a" * 64)
        rig = with_new_input(with_new_input(self.rig, mail), logo)
        for name in ("mail", "logo", "tablet"):
            rig = with_crosspoint(rig, name, "seen", "scene-1", True)
        holds_together(self, rig)
        boxes = [x.box for x in rig.scenes[0].layers]
        self.assertEqual(len(set(boxes)), 5)
        self.assertLess(boxes[-2].height, 200)
        with self.assertRaisesRegex(RigError, "no crosspoint “recorded”"):
            with_crosspoint(rig, "logo", "recorded", "", True)

    def test_delete_order_and_off(self):
        rig = without_input(self.rig, "webcam-1")
        self.assertNotIn("webcam-1", [x.input_id for s in rig.scenes for x in s.layers])
        holds_together(self, rig)
        order = [i.id for i in with_input_at(self.rig, "headset", 0).inputs]
        self.assertEqual(order[:2], ["headset", "display-1"])
        self.assertEqual(with_input_at(self.rig, "title", 99), self.rig)
        off = with_input(self.rig, replace(self.rig.input("headset"), on=False))
        self.assertIsNone(off.voice_in(off.scenes[0]))
        self.assertFalse(off.input("headset").has_track)
        seen = off.seen_in(off.scenes[0])
        self.assertEqual([s.input_id for s in seen.sounds], ["system"])
        only = replace(self.rig, inputs=self.rig.inputs[:1], scenes=())
        with self.assertRaisesRegex(RigError, "only input"):
            without_input(only, "display-1")

    def test_a_rig_of_what_is_plugged_in_has_one_of_each_on_at_its_largest_mode(self):
        rig = rig_of_devices("New", Studio().list_devices())
        on = [i.id for i in rig.inputs if i.on]
        self.assertEqual(on, ["display-1", "tablet", "webcam-1", "headset", "system"])
        self.assertEqual(rig.input("webcam-1").mode, Mode(1920, 1080, Fraction(30)))
        self.assertIn("webcam-1-sound", [i.id for i in rig.inputs])
        holds_together(self, rig)


class Carried(unittest.TestCase):
    def test_missing_devices_are_replaced_kept_off_and_told(self):
        rig = demo_rig()
        modes = (Mode(1280, 720, Fraction(30)), Mode(640, 480, Fraction(30)))
        stereo = Mode(sample_rate_hz=44100, channels=2)
        here = [
            DeviceInfo("cam-9", "Attic webcam", "webcam", modes),
            DeviceInfo("headset", "Headset", "microphone", (stereo,)),
            DeviceInfo("display-1", "Display", "display", (Mode(1920, 1080, Fraction(30)),)),
        ]  # fmt: skip
        fitted, told = fit_to_devices(rig, here)
        holds_together(self, fitted)
        webcam = fitted.input("webcam-1")
        self.assertEqual((webcam.device, webcam.mode), ("cam-9", modes[0]))
        self.assertEqual(fitted.input("headset").mode.sample_rate_hz, 44100)
        self.assertFalse(fitted.input("tablet").on)
        sentences = {s.input_id: s.sentence for s in told}
        self.assertIn("Attic webcam was put in its place", sentences["webcam-1"])
        self.assertIn("used at 44.1 kHz stereo", sentences["headset"])
        self.assertIn("kept, but off", sentences["webcam-2"])
        self.assertNotIn("display-1", sentences)
        self.assertEqual(fit_to_devices(rig, Studio().list_devices()), (rig, []))
