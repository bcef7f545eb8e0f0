"""A long take with clocks that wander, and devices with bad stamps, against the studio's truth."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np
from scipy.signal import correlate

from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig
from kettle_core.scene.scene import Scene, SceneSound
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.recording.take import record_take
from kettle_media.program.take_program import compose_take
from kettle_media.take.align import align_take, open_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from kettle_media.take.times import read_times
from kettle_studio import sounds
from kettle_studio.driver import Studio
from tests.fixtures import ROOT, studio_input

RATE_HZ = 48_000
MINUTES = 3


def sound_rig(*names):
    items = tuple(studio_input(name) for name in names)
    scene = Scene("scene-1", "Voice", (), (SceneSound(names[0]),))
    return Rig("Long", items, (scene,), Format(320, 180, Fraction(15)))


def lag_ms(heard, table, start_s, at_s, length_s=2.0):
    """How late a stretch of a sound is against the studio's truth."""
    first = round(at_s * RATE_HZ)
    places = round((start_s + at_s) * RATE_HZ) + np.arange(round(length_s * RATE_HZ))
    truth = table[places % table.size]
    reach = RATE_HZ // 50
    found = correlate(heard[first - reach : first + truth.size + reach], truth, "valid", "fft")
    return (int(np.argmax(np.abs(found))) - reach) / RATE_HZ * 1000


class Wandering(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = TakeFolder(ROOT / "wandering")
        cls.studio = Studio(4, wander_ppm=42.0, wander_s=156.0)
        rig = sound_rig("headset", "system")
        record_take(cls.studio, rig, cls.folder.path, MINUTES * 60 * NS_PER_S)
        cls.info = cls.folder.read_info()
        cls.sync = align_take(cls.folder, cls.info)

    def test_sounds_are_in_step_with_the_truth_anywhere(self):
        start_s = self.info.start_master_ns / NS_PER_S
        tables = {"headset": sounds.sound_of(sounds.headset())[0],
                  "system": sounds.sound_of(sounds.system(False)).mean(axis=0)}  # fmt: skip
        for name, table in tables.items():
            made, raw = open_sound(self.folder, self.info.track(name), self.sync)
            heard = made.read(0, MINUTES * 60 * RATE_HZ).mean(axis=0)
            raw.close()
            lags = [lag_ms(heard, table, start_s, s) for s in range(5, MINUTES * 60 - 5, 23)]
            self.assertLess(np.abs(lags).max(), 1.0, name)
            self.assertLess(np.ptp(lags), 0.8, name)

    def test_no_block_is_off_by_more_than_is_said(self):
        for name in ("headset", "system"):
            rows = read_times(self.folder.times_path(self.info.track(name)))
            clock = self.studio.clock_of(name)
            true = np.array([clock.device_to_master_ns(x) for x in rows["device_ns"][::50]])
            captured = self.sync.captured_ns[name][::50] + self.info.start_master_ns
            off_ms = np.abs(captured - true) / 1e6
            self.assertLess(off_ms.max(), self.sync.of(name).bound_ms, name)

    def test_any_place_is_the_same_as_reading_on(self):
        rng = np.random.default_rng(6)
        for name in ("headset", "system"):
            made, raw = open_sound(self.folder, self.info.track(name), self.sync)
            whole = made.read(0, 45 * RATE_HZ)
            jumping, other = open_sound(self.folder, self.info.track(name), self.sync)
            for first in rng.integers(0, 44 * RATE_HZ, 6):
                wanted = whole[:, first : first + RATE_HZ]
                np.testing.assert_array_equal(jumping.read(int(first), RATE_HZ), wanted)
            raw.close()
            other.close()

    def test_the_report_tells_pieces_evidence_and_a_bound(self):
        for track in self.sync.tracks:
            self.assertGreater(track.most_ppm - track.least_ppm, 20)
            self.assertLess(abs(track.offset_ms - track.true_offset_ms), 1.5)
            self.assertLess(track.bound_ms, 2.0)
        evidence = self.sync.of("system").evidence
        self.assertEqual(len(evidence), 5)
        self.assertGreater(evidence[-1].at_s, 0.9 * MINUTES * 60 - 20)

    def test_what_was_measured_is_read_by_all_who_ask_again(self):
        before = (self.folder.path / "sync.json").stat().st_mtime_ns
        again = align_take(self.folder, self.info)
        self.assertEqual(again.tracks, self.sync.tracks)
        self.assertEqual((self.folder.path / "sync.json").stat().st_mtime_ns, before)


class AcrossARoom(unittest.TestCase):
    def test_a_second_microphone_is_off_by_no_more_than_its_bound(self):
        folder = TakeFolder(ROOT / "across-a-room")
        info = record_take(Studio(8), sound_rig("headset", "laptop"), folder.path, 20 * NS_PER_S)
        laptop = align_take(folder, info).of("laptop")
        self.assertIn("measured against", laptop.source)
        off_ms = abs(laptop.offset_ms - laptop.true_offset_ms)
        self.assertGreater(off_ms, 2.0)  # the way through the air
        self.assertLess(off_ms, laptop.bound_ms)


class BadStamps(unittest.TestCase):
    def test_stamps_that_stand_still_or_step_back_bursts_and_uneven_blocks_are_survived(self):
        studio = Studio(5)
        for device in ("headset", "webcam-1", "system"):
            studio.set_fault(device, "stamps", True)
        studio.set_fault("headset", "uneven", True)
        studio.set_fault("system", "stalling", True)
        rig = sound_rig("headset", "system")
        rig = replace(rig, inputs=(*rig.inputs, studio_input("webcam-1")))
        folder = TakeFolder(ROOT / "bad-stamps")
        info = record_take(studio, rig, folder.path, 12 * NS_PER_S)
        self.assertEqual((info.ended_because, info.notes), ("stopped", ()))
        rows = read_times(folder.times_path(info.track("headset")))
        self.assertGreater(np.unique(rows["samples"]).size, 1)
        self.assertTrue(np.all(np.diff(rows["pts_ns"]) > 0))
        self.assertTrue(np.all(rows["kept"] == 1))
        for row in inspect_take(folder)["tracks"]:
            self.assertNotIn("error", row)
            self.assertAlmostEqual(row["duration_s"], 12, delta=0.4)
            self.assertAlmostEqual(row["offset_ms"], row["true_offset_ms"], delta=16)
        compose_take(folder, folder.program_path)
