"""A picture track at any time equals reading it forward, whatever happened to it."""

import shutil
import unittest
from fractions import Fraction
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import TakeError
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import track_settings
from kettle_core.rig.format import SCREEN_TRACKS
from kettle_core.timing.clock_map import ClockMap, Piece
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.picture_track import PictureTrack
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import KEPT, TimesWriter
from kettle_media.take.track_index import PacketReader, track_index
from kettle_media.take.tracks import PictureWriter
from tests.fixtures import ROOT

MS = 10**6
DISPLAY = TrackInfo("display", "Display", "display", "tracks/display.mkv", "h264",
                    Mode(64, 48, Fraction(30)))  # fmt: skip
# A screen that changes by fits and starts, over 12 s.
RNG = np.random.default_rng(3)
TIMES_MS = np.unique(np.r_[0, np.cumsum(RNG.choice([33, 34, 66, 300, 900], 60))])
LENGTH_MS = int(TIMES_MS[-1]) + 1000


def luma(number):
    return 20 + (number * 37) % 200


def write_display(folder):
    writer = PictureWriter(
        folder.track_path(DISPLAY), DISPLAY.mode, track_settings(DISPLAY.mode, SCREEN_TRACKS)
    )
    times = TimesWriter(folder.times_path(DISPLAY))
    for number, at_ms in enumerate(TIMES_MS):
        at_ns = int(at_ms) * MS
        frame = np.full((72, 64), 128, np.uint8)
        frame[:48] = luma(number)
        writer.write(frame, at_ns)
        times.write(number, at_ns, at_ns, at_ns, 0, KEPT, 0, 0)
    writer.close()
    times.close()


def opened(folder, ppm=0.0):
    """The track, with a clock that counts too fast by some ppm."""
    clock = ClockMap((Piece(0, 0.0, ppm, 0),), 0.0)
    captured = clock.to_master_ns(TIMES_MS * MS)
    track = PictureTrack(folder, DISPLAY, TakeSync((), {"display": captured}, 0))
    unittest.addModuleCleanup(track.close)
    return track


def opened_at(folder, size):
    """The track as it is read for an input of another size."""
    track = PictureTrack(folder, DISPLAY, TakeSync((), {"display": TIMES_MS * MS * 1.0}, 0), size)
    unittest.addModuleCleanup(track.close)
    return track


def wanted(at_ms):
    """What was on the screen: the frame before, taken half a frame early as often as late."""
    return luma(
        max(0, int(np.searchsorted(TIMES_MS * MS, at_ms * MS + MS * 1000 // 60, "right")) - 1)
    )


def seen(track, at_ms):
    return int(np.median(track.at(at_ms * MS).y))


class AnyPlace(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = TakeFolder.create(ROOT / "picture-track")
        write_display(cls.folder)
        damaged = TakeFolder(ROOT / "picture-track-damaged")
        shutil.copytree(cls.folder.path, damaged.path)
        index = track_index(damaged.track_path(DISPLAY))
        data = bytearray(damaged.track_path(DISPLAY).read_bytes())
        keys = np.flatnonzero(index.packets["key"])
        cls.lost = [5, 6, 20, int(keys[3]), 41]
        for number in cls.lost:
            row = index.packets[number]
            data[row["offset"] : row["offset"] + row["size"]] = bytes(int(row["size"]))
        damaged.track_path(DISPLAY).write_bytes(data)
        cls.damaged = damaged
        forward = opened(damaged)
        cls.forward = [seen(forward, ms) for ms in range(0, LENGTH_MS, 20)]

    def test_one_that_was_written_smaller_is_given_at_the_inputs_size(self):
        large, same = opened_at(self.folder, (128, 96)), opened(self.folder)
        for at_ms in (0, 4000, 1500):
            picture = large.at(at_ms * MS)
            self.assertEqual((picture.width, picture.height), (128, 96))
            self.assertAlmostEqual(
                float(picture.y.mean()), float(same.at(at_ms * MS).y.mean()), delta=1
            )

    def test_forward_and_back_it_shows_what_was_on_the_screen(self):
        track = opened(self.folder)
        for at_ms in [*range(0, LENGTH_MS, 50), *range(LENGTH_MS, 0, -170)]:
            self.assertAlmostEqual(seen(track, at_ms), wanted(at_ms), delta=3)

    @settings(max_examples=60)
    @given(st.lists(st.integers(0, (LENGTH_MS - 1) // 20), min_size=1, max_size=6))
    def test_a_damaged_track_is_the_same_from_anywhere_as_read_forward(self, places):
        track = opened(self.damaged)
        for place in places:
            self.assertEqual(seen(track, place * 20), self.forward[place])

    def test_damage_shifts_nothing(self):
        index = track_index(self.damaged.track_path(DISPLAY))
        self.assertEqual(index.packets.size, TIMES_MS.size)
        keys = np.flatnonzero(index.packets["key"])
        whole = opened(self.folder)
        compared = 0
        for place, found in enumerate(self.forward):
            number = int(np.searchsorted(TIMES_MS, place * 20 + 1000 / 60, "right")) - 1
            # From the keyframe after the damage on all is as it was.
            key = keys[keys <= number][-1]
            if not any(key <= lost <= number for lost in self.lost):
                self.assertEqual(found, seen(whole, place * 20))
                compared += 1
        self.assertGreater(compared, 200)

    def test_a_clock_that_runs_fast_is_followed(self):
        track = opened(self.folder, ppm=500_000.0)
        # What the track calls 9 s was captured at 6 s.
        self.assertAlmostEqual(seen(track, 6000), wanted(9000), delta=3)

    def test_the_same_picture_is_the_same_object(self):
        track = opened(self.folder)
        self.assertIs(track.at(1000 * MS), track.at(1001 * MS))

    def test_there_is_a_keyframe_in_each_second_of_time_or_a_single_frame(self):
        packets = track_index(self.folder.track_path(DISPLAY)).packets
        keys_ms = packets["ms"][packets["key"] > 0]
        between = [np.count_nonzero((packets["ms"] >= a) & (packets["ms"] < b))
                   for a, b in zip(keys_ms, [*keys_ms[1:], LENGTH_MS], strict=True)]  # fmt: skip
        for length, frames in zip(np.diff(keys_ms), between, strict=False):
            self.assertTrue(length < 2000 or frames == 1, (length, frames))

    def test_an_index_is_kept_and_made_anew_for_another_file(self):
        folder = TakeFolder(ROOT / "picture-track-kept")
        shutil.rmtree(folder.path, ignore_errors=True)
        shutil.copytree(self.folder.path, folder.path)
        path = folder.track_path(DISPLAY)
        kept = path.with_suffix(".index")
        first = track_index(path)
        again = track_index(path)
        np.testing.assert_array_equal(first.packets, again.packets)
        kept.write_bytes(b"no index")
        np.testing.assert_array_equal(track_index(path).packets, first.packets)
        path.write_bytes(path.read_bytes()[: int(first.packets["offset"][30])])
        self.assertLess(track_index(path).packets.size, 31)

    def test_packets_are_read_a_piece_of_the_index_at_a_time(self):
        path = self.folder.track_path(DISPLAY)
        index = track_index(path)
        with path.open("rb") as file:
            wanted = [bytes(index.read(file, n)) for n in range(index.packets.size)]
        kept, moved = path.with_suffix(".index"), path.with_suffix(".moved")
        for way in ("kept", "another one", "none"):
            if way == "another one":
                kept.rename(moved)
                kept.write_bytes(b"{}\n")
            if way == "none":
                kept.unlink()
            with mock.patch("kettle_media.take.track_index.PIECE_PACKETS", 7):
                reader = PacketReader(path, index)
                self.addCleanup(reader.close)
                self.assertEqual(reader.count, len(wanted))
                for number in np.random.default_rng(1).permutation(len(wanted)):
                    self.assertEqual(bytes(reader.read(int(number))), wanted[number], way)
        moved.rename(kept)

    def test_a_track_of_which_nothing_can_be_decoded_says_so(self):
        folder = TakeFolder(ROOT / "picture-track-lost")
        shutil.rmtree(folder.path, ignore_errors=True)
        shutil.copytree(self.folder.path, folder.path)
        path = folder.track_path(DISPLAY)
        data = bytearray(path.read_bytes())
        for row in track_index(path).packets:
            data[row["offset"] : row["offset"] + row["size"]] = bytes(int(row["size"]))
        path.write_bytes(data)
        with self.assertRaisesRegex(TakeError, "holds no frame"):
            opened(folder).at(0)
        path.write_bytes(b"")
        with self.assertRaises(TakeError):
            opened(folder)

    def test_the_take_may_be_copied_where_nothing_can_be_written(self):
        with mock.patch("kettle_media.take.track_index.replace_file", side_effect=OSError):
            track = opened(self.folder)
        self.assertAlmostEqual(seen(track, 0), luma(0), delta=3)
