"""A track fed with captures of our own: what it writes, what it only notes."""

import shutil
import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from kettle_core.rig.devices import Mode
from kettle_core.rig.format import FilesFormat, Format, Rate, TrackFormat
from kettle_core.rig.frame_choice import STILL_REPEAT_NS
from kettle_core.rig.rig import Input
from kettle_engine.recording.recorder import track_info, track_writing
from kettle_engine.recording.track import Track
from kettle_engine.stamps import Arrival
from kettle_media.take.folder import TakeFolder
from kettle_media.take.packets import read_packets
from kettle_media.take.times import KEPT, NOTED, read_times
from kettle_media.take.track_index import track_index
from kettle_studio.demo import demo_rig
from tests.fixtures import ROOT

SCREEN = Input("screen", "Screen", "display", "x", Mode(64, 48, Fraction(30)))
VOICE = Input("voice", "Voice", "microphone", "y", Mode(sample_rate_hz=48_000, channels=1))
FRAME_NS, BLOCK_NS = 33_333_333, 10_000_000
# The device's clock shows something else altogether.
EPOCH_NS = 7_000_000_000


class Tracks(unittest.TestCase):
    def track(self, item, format_=None):
        path = ROOT / f"track-{self._testMethodName}"
        shutil.rmtree(path, ignore_errors=True)
        rig = replace(demo_rig(), inputs=(item,), scenes=())
        if format_:
            rig = replace(rig, format=format_)
        self.folder, self.info = TakeFolder.create(path), track_info(rig, item)
        self.fetched = []
        return Track(self.folder, item, self.info, track_writing(rig, item, True), 0)

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

    def test_a_track_of_a_constant_bitrate_has_every_frame(self):
        steady = TrackFormat(Rate("constant", kbps=200))
        track = self.track(SCREEN, Format(screens=steady))
        for no in range(60):
            track.take(self.picture(no, changed=no == 0))
        self.assertEqual(list(self.rows(track)["kept"]), [KEPT] * 60)
        size_bits = track.size_bytes() * 8
        self.assertAlmostEqual(size_bits / 2000, 200, delta=30)

    def test_a_slower_and_smaller_track_has_a_frame_for_each_of_its_times(self):
        small = TrackFormat(Rate("quality"), scale=Fraction(1, 2), fps=Fraction(15))
        track = self.track(SCREEN, Format(screens=small))
        for no in range(90):
            track.take(self.picture(no))
        rows = self.rows(track)
        self.assertEqual(int((rows["kept"] == KEPT).sum()), 45)
        self.assertEqual(len(rows), 90)
        mode = self.info.mode
        self.assertEqual((mode.width, mode.height, mode.fps), (32, 24, 15))
        self.assertEqual(len(read_packets(self.folder.track_path(self.info))), 45)

    def test_a_sound_of_pcm_is_found_by_its_samples_at_any_place(self):
        files = replace(FilesFormat(), sound_codec="pcm24")
        track = self.track(VOICE, replace(Format(), files=files))
        for no in range(100):
            track.take(self.block(no))
        self.rows(track)
        index = track_index(self.folder.track_path(self.info))
        self.assertEqual(int(index.packets["samples"].sum()), 48_000)
        np.testing.assert_array_equal(
            index.packets["first"][1:], np.cumsum(index.packets["samples"])[:-1]
        )

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
