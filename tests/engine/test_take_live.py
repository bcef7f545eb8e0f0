"""A take in place of devices: what is seen and heard at the play head is what was recorded."""

import unittest
from dataclasses import replace

import numpy as np

from kettle_core.program.cues import GoOn, Pause, ToScene
from kettle_core.sound.tone import Tone
from kettle_engine.viewing.take_live import TakeLive
from kettle_media.program.sources import TakeSources
from kettle_media.take.align import align_take
from kettle_media.take.cues import write_cues
from tests.fixtures import copied_take

S = 10**9
HZ = 48_000


class AtThePlayHead(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = copied_take("shown")
        write_cues(cls.folder, (ToScene(0, "scene-1"), Pause(S), GoOn(2 * S)))
        cls.live = TakeLive(cls.folder)
        cls.addClassCleanup(cls.live.close)
        info = cls.folder.read_info()
        cls.take = TakeSources(cls.folder, info, align_take(cls.folder, info))
        cls.addClassCleanup(cls.take.close)

    def test_pictures_are_those_of_the_take_pauses_closed(self):
        for at_s, record_s in ((0.5, 0.5), (1.5, 2.5), (0.2, 0.2), (99, 3.999)):
            self.live.go(at_s, playing=False)
            newest = self.live.newest("webcam-1")
            wanted = self.take.pictures(["webcam-1"], record_s * S)["webcam-1"]
            np.testing.assert_array_equal(newest.picture.y, wanted.y)
            self.assertIs(self.live.newest("webcam-1"), newest)

    def test_sounds_are_those_before_it_or_the_first_ones(self):
        self.live.go(3.0, playing=False)
        heard = self.live.meter("headset").last(1.0)
        # There are no twelve seconds before it: all of the take is heard.
        wanted = self.take.sound("headset", Tone(), 3 * HZ, HZ)
        np.testing.assert_allclose(heard[:, :-4800], wanted[:, : heard.shape[1] - 4800], atol=2e-2)

    def test_a_changed_rig_shows_what_was_recorded_and_nothing_else(self):
        rig = self.folder.read_info().rig_values
        all_on = replace(rig, inputs=tuple(replace(i, on=True) for i in rig.inputs))
        self.live.set_rig(all_on, (), "take")
        self.assertNotIn("laptop", self.live.inputs)
        self.assertEqual(self.live.meter("headset").input.mode.sample_rate_hz, HZ)
        self.assertIsNone(self.live.newest("tablet"))
        self.live.set_rig(rig, (), "take")
