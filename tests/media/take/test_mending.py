"""Tracks in parts, cut off, with holes: what is there is put together, what is not is told."""

import shutil
import unittest
from fractions import Fraction
from unittest import mock

import numpy as np

from kettle_core.errors import TakeError
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import track_settings
from kettle_core.rig.format import WEBCAM_TRACKS
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.mending import mend_track
from kettle_media.take.packets import read_packets
from kettle_media.take.picture_track import PictureTrack
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import (
    FILLED,
    KEPT,
    NOTED,
    TIMES,
    TimesWriter,
    read_times,
    written_ms,
)
from kettle_media.take.track_reading import read_pictures, read_sound
from kettle_media.take.tracks import PictureWriter, SoundWriter
from tests.fixtures import ROOT

VOICE = TrackInfo("voice", "Voice", "microphone", "tracks/voice.mkv", "flac",
                  Mode(sample_rate_hz=48_000, channels=1))  # fmt: skip
CAMERA = TrackInfo("camera", "Camera", "webcam", "tracks/camera.mkv", "h264",
                   Mode(64, 48, Fraction(30)))  # fmt: skip
NOISE = (0.2 * np.random.default_rng(8).standard_normal(48_000 * 8)).astype(np.float32)


class Mending(unittest.TestCase):
    def setUp(self):
        self.folder = TakeFolder.create(ROOT / f"mending-{self._testMethodName}")

    def write_voice(self, part, first, last, lost=range(0)):
        """Blocks of 10 ms of a known noise; some are missing from the file."""
        writer = SoundWriter(self.folder.track_path(VOICE, part), VOICE.mode)
        times = TimesWriter(self.folder.times_path(VOICE, part))
        for no in range(first, last):
            times.write(no, no * 10**7, no * 10**7, no * 10**7, 0, KEPT, 480, 0)
            if no not in lost:
                writer.write(NOISE[None, no * 480 : no * 480 + 480], no * 10**7)
        writer.close()
        times.close()

    def write_camera(self, part, first, last, noted=range(0), unrowed=range(0)):
        writer = PictureWriter(
            self.folder.track_path(CAMERA, part),
            CAMERA.mode,
            track_settings(CAMERA.mode, WEBCAM_TRACKS),
        )
        times = TimesWriter(self.folder.times_path(CAMERA, part))
        for no in range(first, last):
            at_ns = no * 10**9 // 30
            if no not in noted:
                writer.write(np.full((72, 64), 30 + 2 * no, np.uint8), at_ns)
            if no not in unrowed:
                kept = NOTED if no in noted else KEPT
                times.write(no, at_ns, at_ns, at_ns, 0, kept, 0, 0)
        writer.close()
        times.close()

    def heard(self):
        return np.concatenate(list(read_sound(self.folder.track_path(VOICE))), axis=1)[0]

    def test_parts_that_overlap_become_one_sound_to_the_sample(self):
        self.write_voice(1, 0, 300)
        self.write_voice(2, 240, 420)
        self.write_voice(3, 390, 600)
        mended = mend_track(self.folder, VOICE)
        self.assertEqual(mended.ends_ns, 6 * 10**9)
        np.testing.assert_allclose(self.heard(), NOISE[: 48_000 * 6], atol=1e-6)
        rows = read_times(self.folder.times_path(VOICE))
        self.assertEqual(rows["no"].tolist(), list(range(600)))
        self.assertEqual(self.folder.parts(VOICE), [1])
        mend_track(self.folder, VOICE)
        np.testing.assert_allclose(self.heard(), NOISE[: 48_000 * 6], atol=1e-6)

    def test_a_gap_between_parts_is_silent_and_noted(self):
        self.write_voice(1, 0, 200)
        self.write_voice(2, 300, 400)
        mend_track(self.folder, VOICE)
        heard = self.heard()
        np.testing.assert_allclose(heard[: 200 * 480], NOISE[: 200 * 480], atol=1e-6)
        self.assertEqual(float(np.abs(heard[200 * 480 : 300 * 480]).max()), 0.0)
        np.testing.assert_allclose(heard[300 * 480 :], NOISE[300 * 480 : 400 * 480], atol=1e-6)
        rows = read_times(self.folder.times_path(VOICE))
        filled = rows[rows["kept"] == FILLED]
        self.assertEqual((filled["samples"].tolist(), filled["pts_ns"].tolist()),
                         ([48_000], [2 * 10**9]))  # fmt: skip
        self.assertEqual(rows["dropped"].sum(), 100)

    def test_damage_within_a_sound_does_not_move_what_comes_after_it(self):
        self.write_voice(1, 0, 600)
        path = self.folder.track_path(VOICE)
        data = bytearray(path.read_bytes())
        data[len(data) // 2 : len(data) // 2 + 9000] = b"\0" * 9000
        path.write_bytes(bytes(data))
        mend_track(self.folder, VOICE)
        heard = self.heard()
        self.assertEqual(heard.size, 600 * 480)
        np.testing.assert_allclose(heard[:48_000], NOISE[:48_000], atol=1e-6)
        np.testing.assert_allclose(heard[-48_000:], NOISE[5 * 48_000 : 6 * 48_000], atol=1e-6)
        rows = read_times(self.folder.times_path(VOICE))
        ends_ns = rows["pts_ns"] + rows["samples"].astype(np.int64) * 10**9 // 48_000
        np.testing.assert_allclose(rows["pts_ns"][1:], ends_ns[:-1], atol=1)

    def test_parts_of_a_picture_are_put_together_without_encoding_again(self):
        self.write_camera(1, 0, 60)
        self.write_camera(2, 45, 100)
        mend_track(self.folder, CAMERA)
        shown = [f.to_ndarray()[10, 10] for f in read_pictures(self.folder.track_path(CAMERA))]
        np.testing.assert_allclose(shown, [30 + 2 * no for no in range(100)], atol=4)
        rows = read_times(self.folder.times_path(CAMERA))
        self.assertEqual(rows["no"].tolist(), list(range(100)))

    def test_a_mended_picture_is_the_same_from_anywhere(self):
        self.write_camera(1, 0, 60)
        self.write_camera(2, 50, 100)
        mend_track(self.folder, CAMERA)
        rows = read_times(self.folder.times_path(CAMERA))
        captured = rows["pts_ns"].astype(np.float64)
        track = PictureTrack(self.folder, CAMERA, TakeSync((), {"camera": captured}, 0))
        self.addCleanup(track.close)
        for number in np.random.default_rng(2).integers(0, rows.size, 60):
            seen = float(track.at(float(captured[number])).y.mean())
            # Frame n is 30 + 2 n light all over.
            self.assertAlmostEqual(seen, 30 + 2 * rows["no"][number], delta=3)

    def test_a_first_part_of_which_nothing_was_on_the_disk_yet_costs_only_itself(self):
        for cut in (0, 400):
            self.write_camera(1, 0, 3)
            path = self.folder.track_path(CAMERA)
            path.write_bytes(path.read_bytes()[:cut])
            self.write_camera(2, 2, 60)
            mend_track(self.folder, CAMERA)
            self.assertEqual(len(read_packets(path)), 58)
            rows = read_times(self.folder.times_path(CAMERA))
            self.assertEqual(rows["no"].tolist(), list(range(2, 60)))
            self.assertEqual(self.folder.parts(CAMERA), [1])

    def shown(self):
        path = self.folder.track_path(CAMERA)
        return [round((f.to_ndarray()[10, 10] - 30) / 2) for f in read_pictures(path)]

    def numbers(self):
        return read_times(self.folder.times_path(CAMERA))["no"].tolist()

    def test_a_part_that_begins_in_a_pause_takes_nothing_from_the_one_before_it(self):
        self.write_camera(1, 0, 60)
        # Its recorder came in a pause: what it notes first shows nothing.
        self.write_camera(2, 58, 100, noted=range(58, 80))
        mend_track(self.folder, CAMERA)
        self.assertEqual(self.shown(), [*range(60), *range(80, 100)])
        self.assertEqual(self.numbers(), list(range(100)))

    def test_a_part_that_follows_one_that_was_never_opened_is_used(self):
        self.write_camera(1, 0, 40)
        self.write_camera(4, 30, 100)
        self.assertEqual(self.folder.parts(CAMERA), [1, 4])
        mend_track(self.folder, CAMERA)
        self.assertEqual(self.shown(), list(range(100)))
        self.assertEqual(self.folder.parts(CAMERA), [1])

    def test_a_part_that_ended_before_the_one_before_it_takes_nothing_of_that(self):
        self.write_camera(1, 0, 60)
        self.write_camera(2, 40, 45)
        self.write_camera(3, 43, 100)
        mend_track(self.folder, CAMERA)
        self.assertEqual(self.shown(), list(range(100)))

    def test_a_frame_that_a_kill_left_without_its_line_is_kept_and_gets_one(self):
        self.write_camera(1, 0, 60, unrowed=(58, 59))
        self.write_camera(2, 61, 100)
        mended = mend_track(self.folder, CAMERA)
        self.assertEqual(self.shown(), [*range(60), *range(61, 100)])
        self.assertEqual(self.numbers(), [*range(60), *range(61, 100)])
        self.assertEqual(mended.lost_frames, 1)

    def test_one_that_is_killed_at_any_moment_of_it_can_be_done_again(self):
        class Killed(BaseException):
            pass

        def die(*_):
            raise Killed

        for track, write in ((CAMERA, self.write_camera), (VOICE, self.write_voice)):
            for moment in ("fault_point", "Path.unlink", "put_in_place"):
                with self.subTest(track=track.name, moment=moment):
                    shutil.rmtree(self.folder.path)
                    self.folder = TakeFolder.create(self.folder.path)
                    for part, (first, last) in enumerate(((0, 40), (30, 80), (78, 100)), 1):
                        write(part, first, last)
                    with (
                        self.assertRaises(Killed),
                        mock.patch(f"kettle_media.take.mending.{moment}", die),
                    ):
                        mend_track(self.folder, track)
                    mended = mend_track(self.folder, track)
                    self.assertEqual((mended.frames, mended.lost_frames), (100, 0))
                    rows = read_times(self.folder.times_path(track))
                    self.assertEqual(rows["no"].tolist(), list(range(100)))
                    self.assertEqual(self.folder.parts(track), [1])

    def test_where_the_new_file_has_less_the_old_ones_stay(self):
        self.write_camera(1, 0, 60)
        # It begins a file of its own within what was written already, and misses some of it.
        self.write_camera(2, 30, 40, noted=range(33, 40))
        self.write_camera(3, 32, 100, noted=range(33, 59))
        before = self.folder.track_path(CAMERA).read_bytes()
        mended = mend_track(self.folder, CAMERA)
        self.assertRegex(mended.kept_back, r"^\d+ packets of Camera are only in its files")
        kept = self.folder.originals_path
        self.assertEqual((kept / "camera.mkv").read_bytes(), before)
        self.assertTrue((kept / "camera.3.times.csv").exists())

    def test_every_line_of_a_damaged_picture_track_tells_of_a_frame_that_is_there(self):
        self.write_camera(1, 0, 100)
        path = self.folder.track_path(CAMERA)
        data = bytearray(path.read_bytes())
        data[len(data) // 3 : len(data) // 3 + 2500] = b"\xff" * 2500
        path.write_bytes(bytes(data[:-300]))
        mended = mend_track(self.folder, CAMERA)
        rows = read_times(self.folder.times_path(CAMERA))
        stamps = written_ms(rows)[rows["kept"] == KEPT].tolist()
        self.assertEqual(stamps, [p.at_ms for p in read_packets(path)])
        self.assertGreater(mended.lost_frames, 0)
        self.assertEqual(mended.lost_frames, (rows["kept"] == NOTED).sum())

    def test_a_track_without_a_line_of_times_cannot_be_saved(self):
        self.write_voice(1, 0, 0)
        with self.assertRaisesRegex(TakeError, "times of voice are empty"):
            mend_track(self.folder, VOICE)


class WrittenTimes(unittest.TestCase):
    def test_they_are_those_that_the_writer_gives_its_frames(self):
        rng = np.random.default_rng(5)
        rows = np.zeros(300, TIMES)
        rows["pts_ns"] = np.sort(rng.integers(0, 10**9, 300))
        rows["kept"] = rng.random(300) < 0.7
        last, wanted = -1, []
        for row in rows:
            if row["kept"]:
                last = max(last + 1, round(row["pts_ns"] / 1e6))
            wanted.append(last)
        kept = rows["kept"] == KEPT
        self.assertEqual(written_ms(rows)[kept].tolist(), np.array(wanted)[kept].tolist())
