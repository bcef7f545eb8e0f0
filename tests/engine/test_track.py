"""A track fed with captures of our own: what it writes, what it only notes."""

import shutil
import unittest
from fractions import Fraction

import numpy as np

from kettle_core.rig.devices import Mode
from kettle_core.rig.frame_choice import STILL_REPEAT_NS
from kettle_core.rig.rig import Input
from kettle_engine.recording.recorder import track_info
from kettle_engine.recording.track import Track
from kettle_engine.stamps import Arrival
from kettle_media.take.folder import TakeFolder
from kettle_media.take.packets import read_packets
from kettle_media.take.times import KEPT, NOTED, read_times
from tests.fixtures import ROOT

SCREEN = Input("screen", "Screen", "display", "x", Mode(64, 48, Fraction(30)))
VOICE = Input("voice", "Voice", "microphone", "y", Mode(sample_rate_hz=48_000, channels=1))
FRAME_NS, BLOCK_NS = 33_333_333, 10_000_000
# The device's clock shows something else altogether.
EPOCH_NS = 7_000_000_000


class Tracks(unittest.TestCase):
    def track(self, item):
        path = ROOT / f"track-{self._testMethodName}"
        shutil.rmtree(path, ignore_errors=True)
        self.folder, self.info = TakeFolder.create(path), track_info(item)
        self.fetched = []
        return Track(self.folder, item, self.info, 0)

    def picture(self, no, changed=True, fetch=True, **more):
        def give():
            self.fetched.append(no)
            return np.full((72, 64), no % 200 + 16, np.uint8) if fetch else None

        at_ns = no * FRAME_NS
        return Arrival(no, EPOCH_NS + at_ns, FRAME_NS, at_ns, changed=changed, fetch=give, **more)

    def block(self, no, **more):
        at_ns = no * BLOCK_NS
        sound = np.full((1, 480), 0.1, np.float32)
        came_ns = at_ns + BLOCK_NS
        return Arrival(no, EPOCH_NS + at_ns, BLOCK_NS, came_ns, fetch=lambda: sound, **more)

    def rows(self, track):
        track.close()
        return read_times(self.folder.times_path(self.info))

    def test_a_still_picture_is_written_again_five_times_a_second(self):
        track = self.track(SCREEN)
        for no in range(100):
            track.take(self.picture(no, changed=no in (0, 50)))
        rows = self.rows(track)
        self.assertEqual(len(rows), 100)
        kept_s = rows["pts_ns"][rows["kept"] == KEPT] / 1e9
        # A frame later than it could be, as there is none just then.
        self.assertLess(np.diff(kept_s).max(), (STILL_REPEAT_NS + FRAME_NS) / 1e9 + 0.001)
        self.assertIn(50 * FRAME_NS / 1e9, kept_s)
        self.assertLess(len(kept_s), 20)
        packets = read_packets(self.folder.track_path(self.info))
        np.testing.assert_allclose([p.at_ms / 1000 for p in packets], kept_s, atol=0.001)
        # What is only noted is not even asked for.
        self.assertEqual(len(self.fetched), len(kept_s))

    def test_what_was_overwritten_before_it_could_be_written_counts_as_dropped(self):
        track = self.track(SCREEN)
        for no in range(10):
            lost = 2 if no == 4 else 0
            track.take(self.picture(no, fetch=no not in (6, 7), lost=lost))
        self.assertEqual((track.written, track.dropped, track.unfetched), (8, 4, 2))
        rows = self.rows(track)
        self.assertEqual(list(rows["no"]), [0, 1, 2, 3, 4, 5, 8, 9])
        self.assertEqual(list(rows["dropped"]), [0, 0, 0, 0, 2, 0, 2, 0])
        self.assertNotIn(NOTED, rows["kept"])

    def test_what_came_before_the_take_is_left_out_and_time_0_is_the_takes(self):
        track = self.track(VOICE)
        track.start_master_ns = 45_000_000
        for no in range(20):
            track.take(self.block(no))
        rows = self.rows(track)
        # The first block that began after the start.
        self.assertEqual((rows["no"][0], rows["pts_ns"][0]), (5, 5_000_000))
        self.assertEqual(rows["samples"].sum(), 15 * 480)

    def test_a_hole_in_a_sound_is_silence_of_its_length(self):
        track = self.track(VOICE)
        for no in (*range(50), *range(150, 200)):
            track.take(self.block(no, lost=100 if no == 150 else 0))
        self.assertEqual(track.dropped, 100)
        rows = self.rows(track)
        self.assertAlmostEqual(rows["samples"].sum(), 200 * 480, delta=480)
        packets = read_packets(self.folder.track_path(self.info))
        self.assertAlmostEqual(sum(p.length_s for p in packets), 2.0, delta=0.02)
