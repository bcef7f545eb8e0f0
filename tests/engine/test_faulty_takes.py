"""Faults of devices at times of a take on the virtual clock, against the same take without them."""

import shutil
import unittest
from dataclasses import replace

import numpy as np

from kettle_core.program.cues import GoOn, Mark, Pause
from kettle_engine.recording.take import Happening, record_take
from kettle_media.take.align import align_take, open_sound
from kettle_media.take.cues import read_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio
from tests.fixtures import ROOT

S, RATE = 10**9, 48_000
LENGTH_S, FROM_S, TO_S = 12, 3, 4.5
# A ms of sound; where a device was away its clock is laid by fewer stamps.
WITHIN = RATE // 1000


def sounds_rig():
    """The demo rig's sounds alone."""
    rig = demo_rig()
    inputs = (replace(i, on=i.id in ("headset", "system")) for i in rig.inputs)
    return replace(rig, inputs=tuple(inputs))


class FaultyTakes(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.whole = cls.taken("no fault", ())

    @staticmethod
    def taken(name, faults, cues=()):
        studio = Studio(7, wander_ppm=10.0)

        def happening(at_s, fault, on):
            if fault == "clock":
                return Happening(round(at_s * S), lambda: studio.jump_clock("headset"))
            return Happening(round(at_s * S), lambda: studio.set_fault("headset", fault, on))

        path = ROOT / f"faulty-{name.replace(' ', '-')}"
        shutil.rmtree(path, ignore_errors=True)
        happenings = [happening(*fault) for fault in faults]
        record_take(studio, sounds_rig(), path, LENGTH_S * S, cues=cues, happenings=happenings)
        return TakeFolder(path)

    def heard(self, folder, name, from_s, to_s):
        """A sound on record time, its clock corrected."""
        info = folder.read_info()
        sound, raw = open_sound(folder, info.track(name), align_take(folder, info))
        found = sound.read(round(from_s * RATE), round((to_s - from_s) * RATE))[0]
        raw.close()
        return found

    def late(self, folder, name, from_s=8.0, to_s=11.0):
        """By how many samples a sound is later than in the take without a fault."""
        ours, whole = (self.heard(f, name, from_s, to_s) for f in (folder, self.whole))
        spectrum = np.fft.rfft(ours, 1 << 19) * np.conj(np.fft.rfft(whole, 1 << 19))
        lags = np.fft.irfft(spectrum)
        best = int(np.argmax(lags))
        return best if best < lags.size // 2 else best - lags.size

    def test_after_each_fault_the_sound_lies_where_it_lay_without_it(self):
        for fault in ("unplugged", "losing", "stalling", "stamps", "uneven", "clock"):
            with self.subTest(fault):
                on_off = [(FROM_S, fault, True), (TO_S, fault, False)]
                folder = self.taken(fault, on_off[: 1 if fault == "clock" else 2])
                for name in ("headset", "system"):
                    self.assertLessEqual(abs(self.late(folder, name)), WITHIN, name)

    def test_what_was_lost_is_told_with_its_time(self):
        folder = self.taken("away", [(FROM_S, "unplugged", True), (TO_S, "unplugged", False)])
        found = inspect_take(folder)
        missing = [t for t in found["troubles"] if t["what"] == "missing"]
        self.assertEqual([t["input"] for t in missing], ["headset"])
        self.assertAlmostEqual(missing[0]["missing_ns"] / S, TO_S - FROM_S, delta=0.5)
        self.assertRegex(" ".join(found["notes"]), r"Headset: 1\.\d s are missing before 0:0[45]")
        silent = self.heard(folder, "headset", FROM_S + 0.3, TO_S - 0.1)
        self.assertEqual(np.abs(silent).max(), 0)

    def test_a_fault_within_a_pause_and_cues_round_it(self):
        cues = (Mark(2 * S, "before"), Pause(round(2.2 * S)), GoOn(round(9 * S)), Mark(10 * S))
        faults = [(7.5, "unplugged", True), (8.2, "unplugged", False)]
        folder = self.taken("in a pause", faults, cues)
        self.assertEqual(tuple(read_cues(folder)[0]), cues)
        self.assertEqual(folder.read_info().notes, ())
        for name in ("headset", "system"):
            self.assertLessEqual(abs(self.late(folder, name, 9.2, 11.8)), WITHIN, name)
