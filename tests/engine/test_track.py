"""A track fed with captures of our own: what it writes, what it only notes."""

import shutil
import unittest
from dataclasses import replace
from fractions import Fraction
from weakref import WeakSet

import numpy as np

from kettle_core.rig.devices import Mode
from kettle_core.rig.format import FilesFormat, Format, Rate, TrackFormat
from kettle_core.rig.frame_choice import STILL_REPEAT_NS
from kettle_core.rig.rig import Input
from kettle_core.timing.pauses import KEPT_NS, Pauses
from kettle_engine.recording.recorder import track_info, track_writing
from kettle_engine.recording.track import HELD_AT_ONCE_NS, HELD_NS, Track
from kettle_engine.stamps import Arrival
from kettle_media.take.folder import TakeFolder
from kettle_media.take.packets import read_packets
from kettle_media.take.times import FILLED, KEPT, NOTED, read_times
from kettle_media.take.track_index import track_index
from kettle_studio.demo import demo_rig
from tests.fixtures import ROOT

SCREEN = Input("screen", "Screen", "display", "x", Mode(64, 48, Fraction(30)))
VOICE = Input("voice", "Voice", "microphone", "y", Mode(sample_rate_hz=48_000, channels=1))
FRAME_NS, BLOCK_NS = 33_333_333, 10_000_000
# The device's clock shows something else altogether.
EPOCH_NS = 7_000_000_000
S = 10**9
# Nearly an hour, with a pause late in it.
LONG_S, PAUSE_S, GO_ON_S, SAID_LATE_NS = 3300, 3000, 3100, 200_000_000


class TrackCase(unittest.TestCase):
    def setUp(self):
        self.pauses = Pauses()

    def track(self, item, format_=None, held_ns=HELD_NS):
        path = ROOT / f"track-{self._testMethodName}"
        shutil.rmtree(path, ignore_errors=True)
        rig = replace(demo_rig(), inputs=(item,), scenes=())
        if format_:
            rig = replace(rig, format=format_)
        self.folder, self.info = TakeFolder.create(path), track_info(rig, item)
        self.fetched = []
        writing = track_writing(rig, item, True)
        return Track(self.folder, item, self.info, writing, 0, 1, self.pauses, held_ns)

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


class Tracks(TrackCase):
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

    def test_what_was_written_over_while_it_was_encoded_is_told_as_dropped(self):
        class WrittenOver(Arrival):
            def use(self, do):
                return super().use(do) and False

        track = self.track(SCREEN)
        for no in range(5):
            came = self.picture(no)
            track.take(WrittenOver(**vars(came)) if no == 2 else came)
        self.assertEqual((track.written, track.dropped, track.unfetched), (5, 1, 1))
        rows = self.rows(track)
        self.assertEqual(list(rows["no"]), [0, 1, 2, 3, 4])
        self.assertEqual(list(rows["dropped"]), [0, 0, 0, 1, 0])

    def test_a_sound_that_is_back_lies_where_what_came_least_late_says(self):
        track, late_ns = self.track(VOICE), 500_000_000
        for no in range(100):
            track.take(self.block(no))
        # Away for a second; what it brings first was stuck for half a second, and comes at once.
        for no in range(200, 300):
            came = self.block(no, restarted=no == 200)
            device_ns = came.device_ns - 40 * S
            master_ns = max(came.master_ns, 200 * BLOCK_NS + late_ns)
            track.take(replace(came, device_ns=device_ns, master_ns=master_ns))
        rows = self.rows(track)
        self.assertEqual(int(rows["samples"].sum()), 300 * 480)
        self.assertEqual(rows["pts_ns"][-1], 299 * BLOCK_NS)

    def test_a_sound_that_is_back_as_its_take_ends_is_kept(self):
        track = self.track(VOICE)
        for no in (*range(100), *range(150, 153)):
            track.take(self.block(no, restarted=no == 150))
        self.assertEqual(int(self.rows(track)["samples"].sum()), 153 * 480)

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

    def test_a_lost_block_is_as_long_a_silence_however_far_a_clock_has_run_from_its_samples(self):
        track = self.track(VOICE)
        # In a minute as far as one of 60 ppm in an hour: 216 ms.
        length_ns, ahead = S // 2, 1.0036
        sound = np.full((1, 24_000), 0.1, np.float32)
        for no in (*range(60), *range(61, 120)):
            at_ns = round(no * length_ns * ahead)
            came_ns = at_ns + length_ns
            track.take(Arrival(no, at_ns, length_ns, came_ns, no == 61, fetch=lambda: sound))
        rows = self.rows(track)
        (filled,) = rows[rows["kept"] == FILLED]
        self.assertAlmostEqual(filled["samples"], 24_000, delta=24_000 * 0.01)

    def test_a_pause_holds_no_more_captures_than_its_end_is_heard_late(self):
        for held_ns, most in ((HELD_AT_ONCE_NS, 1), (HELD_NS, 1 + HELD_NS // FRAME_NS)):
            with self.subTest(held_ns):
                self.setUp()
                track, held = self.track(SCREEN, held_ns=held_ns), WeakSet()
                self.pauses.begin(0)
                for no in range(300):
                    arrival = self.picture(no)
                    held.add(arrival.fetch)
                    track.take(arrival)
                    del arrival
                # The newest of all is what is seen as the pause ends.
                self.assertLessEqual(len(held), most + 2)
                self.pauses.end(301 * FRAME_NS)
                for no in range(300, 310):
                    track.take(self.picture(no))
                rows = self.rows(track)
                kept = rows["no"][rows["kept"] == KEPT]
                self.assertEqual(list(kept[kept > 155]), list(range(300, 310)))

    def test_what_comes_after_a_pause_is_written_however_late_its_end_is_heard(self):
        track = self.track(SCREEN)
        self.pauses.begin(0)
        # Who hears of ends stood still from 200 on, and what was captured meanwhile lies there.
        self.pauses.known_until_ns = 200 * FRAME_NS
        for no in range(400):
            track.take(self.picture(no))
        self.pauses.end(220 * FRAME_NS)
        self.pauses.known_until_ns = 400 * FRAME_NS
        for no in range(400, 410):
            track.take(self.picture(no))
        rows = self.rows(track)
        kept = rows["no"][rows["kept"] == KEPT]
        self.assertEqual(list(kept[kept > 155]), list(range(219, 410)))


class LongTracks(TrackCase):
    """A clock that is off by more than a second at the end of a long take."""

    def fed(self, item, ppm):
        """The times of a track of captures of a second each that come up to 30 ms late."""
        track, rng = self.track(item), np.random.default_rng(5)
        data = np.full((72, 64), 90, np.uint8)
        if not item.is_picture:
            data = np.zeros((1, item.mode.sample_rate_hz), np.float32)
        late_ns, block_ns = rng.integers(0, 30_000_000, LONG_S), 0 if item.is_picture else S
        for no in range(LONG_S):
            true_ns = no * S
            came_ns = true_ns + block_ns + int(late_ns[no])
            self.say(came_ns)
            device_ns = EPOCH_NS + true_ns + true_ns * ppm // 10**6
            track.take(Arrival(no, device_ns, S, came_ns, fetch=lambda: data))
            off_ns = track.record_ns(device_ns) - true_ns
            self.assertTrue(-1_000_000 < off_ns < 32_000_000, (no, off_ns))
        return self.rows(track)

    def say(self, now_ns):
        """The pause's ends come to the track a little late."""
        if now_ns > PAUSE_S * S + SAID_LATE_NS and not self.pauses.stretches:
            self.pauses.begin(PAUSE_S * S)
        if now_ns > GO_ON_S * S + SAID_LATE_NS and self.pauses.is_open:
            self.pauses.end(GO_ON_S * S)

    def test_a_pause_takes_nothing_of_what_is_round_it_however_far_a_clock_has_gone(self):
        slow = replace(VOICE, mode=Mode(sample_rate_hz=8000, channels=1))
        still = replace(SCREEN, mode=Mode(64, 48, Fraction(1)))
        for item in (still, slow):
            for ppm in (-400, 400):
                with self.subTest(item.id, ppm=ppm):
                    self.setUp()
                    rows = self.fed(item, ppm)
                    left_out = set(range(LONG_S)) - set(rows["no"][rows["kept"] != NOTED])
                    if not item.is_picture:
                        # Of a pause a second now and then is written as silence.
                        within = (rows["no"] > PAUSE_S + 5) & (rows["no"] < GO_ON_S - 1)
                        left_out |= set(rows["no"][within])
                    self.assertLessEqual(max(left_out), GO_ON_S - 1)
                    self.assertGreaterEqual(min(left_out), PAUSE_S + KEPT_NS // S)
                    self.assertGreaterEqual(len(left_out), GO_ON_S - PAUSE_S - KEPT_NS // S - 4)

    def test_one_stamp_that_lies_moves_nothing_after_it(self):
        track, data = self.track(SCREEN), np.full((72, 64), 90, np.uint8)
        for no in range(100):
            true_ns = no * FRAME_NS
            device_ns = EPOCH_NS + true_ns + (S if no == 50 else 0)
            track.take(Arrival(no, device_ns, FRAME_NS, true_ns, fetch=lambda: data))
            if no != 50:
                self.assertLess(abs(track.record_ns(device_ns) - true_ns), 1_000_000, no)
