"""A take's survey against what is in its tracks."""

import io
import json
import shutil
import unittest
from contextlib import closing, redirect_stdout, suppress

import cv2
import numpy as np

from kettle_cli.words import parser
from kettle_core.errors import TakeError
from kettle_core.picture.picture import picture_to_rgb
from kettle_core.program.cues import GoOn, Pause
from kettle_core.sound.envelope import FULL_SCALE, STEP_SAMPLES
from kettle_engine.recording.take import Happening, record_take
from kettle_media.survey.fine import read_fine
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.survey import find_quiet, read_level, read_survey, survey_take
from kettle_media.take.align import align_take, open_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.picture_track import PictureTrack
from kettle_studio.driver import Studio
from tests.fixtures import ROOT, copied_take, small_rig
from tests.small_disk import small_disk

S = 10**9


class Surveys(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = copied_take("surveyed")
        cls.info = cls.folder.read_info()
        cls.survey = survey_take(cls.folder)
        cls.sync = align_take(cls.folder, cls.info)

    def test_waveforms_lie_where_the_corrected_sound_lies(self):
        for name in ("headset", "system"):
            with self.subTest(name):
                found = self.survey.track(name)
                level = read_level(self.folder, found)
                heard, raw = open_sound(self.folder, self.info.track(name), self.sync)
                with closing(raw):
                    sound = heard.read(0, level.size * STEP_SAMPLES)
                parts = sound.reshape(sound.shape[0], -1, STEP_SAMPLES)
                rms = np.sqrt((parts**2).mean(axis=(0, 2)))
                apart = np.abs(level["rms"] / FULL_SCALE - rms)
                # Seen as recorded, heard resampled: alike but for a fraction of a sample.
                self.assertLess(np.quantile(apart, 0.99), 0.02 * rms.max())
                late = np.array(
                    [np.abs(np.roll(level["rms"] / FULL_SCALE, n) - rms).sum() for n in (-1, 0, 1)]
                )
                self.assertEqual(late.argmin(), 1)

    def test_nearer_than_that_it_is_the_samples_themselves(self):
        track, found = self.info.track("headset"), self.survey.track("headset")
        level = read_level(self.folder, found)
        # As fine as the survey: the same, but for the sample that an edge falls on.
        same = read_fine(self.folder, track, found, S, 5_000_000, 100)
        np.testing.assert_allclose(same["rms"], level["rms"][200:300], rtol=0.02, atol=8)
        heard, raw = open_sound(self.folder, track, self.sync)
        with closing(raw):
            sound = heard.read(48_000, 4800)[0]
        fine = read_fine(self.folder, track, found, S, 125_000, 800)
        parts = sound.reshape(-1, 6)
        apart = np.abs(fine["most"] / FULL_SCALE - parts.max(axis=1))
        self.assertLess(np.quantile(apart, 0.95), 0.05 * np.abs(sound).max())
        single = read_fine(self.folder, track, found, S, 10_000, 200)
        np.testing.assert_array_equal(single["least"], single["most"])
        for values in ((S, 5_000_001, 10), (S, 1000, 4097), (S, 0, 10), (S, 1000, 0)):
            with self.assertRaisesRegex(TakeError, "at most 4096 steps"):
                read_fine(self.folder, track, found, *values)
        with self.assertRaisesRegex(TakeError, "no sound that was looked at"):
            picture = self.info.track("webcam-1")
            read_fine(self.folder, picture, self.survey.track("webcam-1"), 0, 1000, 10)

    def test_coarser_levels_follow_each_other_in_the_file(self):
        found = self.survey.track("headset")
        finest, coarse = (read_level(self.folder, found, n) for n in (0, 3))
        self.assertEqual(finest["most"].max(), coarse["most"].max())
        self.assertEqual([x.step_ns for x in found.levels][:2], [5_000_000, 20_000_000])

    def test_small_pictures_are_those_of_the_track_at_their_times(self):
        for name in ("display-1", "webcam-1"):
            with self.subTest(name):
                sheets = self.survey.track(name).sheets
                sheet = cv2.imread(str(SurveyPaths(self.folder).sheet(name, 0)))[:, :, ::-1]
                track = PictureTrack(self.folder, self.info.track(name), self.sync)
                with closing(track):
                    for number in range(1, sheets.count):
                        left, top = number * sheets.width, 0
                        small = sheet[top : top + sheets.height, left : left + sheets.width]
                        # The keyframe before may be a second old.
                        times = number * S - np.arange(0, 11) * S / 10
                        size = (sheets.width, sheets.height)
                        seen = [
                            cv2.resize(
                                picture_to_rgb(track.at(at)), size, interpolation=cv2.INTER_AREA
                            )
                            for at in times
                        ]
                        apart = [np.abs(x.astype(int) - small).mean() for x in seen]
                        self.assertLess(min(apart), 4)

    def test_it_is_kept_until_the_tracks_or_their_sync_are_others(self):
        folder = copied_take("surveyed-again")
        made = survey_take(folder)
        self.assertEqual(read_survey(folder, self.info), made)
        again = (folder.path / "sync.json").read_text()
        (folder.path / "sync.json").write_text(again + " ")
        self.assertIsNone(read_survey(folder, self.info))
        SurveyPaths(folder).report.write_text('{"version": 1}')
        self.assertIsNone(read_survey(folder, self.info))
        survey_take(folder)
        self.assertIsNotNone(read_survey(folder, self.info))

    def test_a_track_that_cannot_be_read_says_so_and_the_others_are_there(self):
        folder = copied_take("surveyed-damaged")
        folder.track_path(self.info.track("webcam-1")).write_bytes(b"not a film")
        folder.times_path(self.info.track("system")).unlink()
        survey = survey_take(folder)
        self.assertIn("webcam-1", survey.track("webcam-1").error)
        self.assertIn("system", survey.track("system").error)
        self.assertTrue(survey.track("headset").levels)
        self.assertTrue(survey.track("display-1").sheets)

    def test_on_a_full_disk_it_is_said_and_nothing_half_is_left(self):
        with small_disk(ROOT / "survey-disk", 8) as disk:
            # All but the survey fits.
            folder = TakeFolder(disk / "take")
            shutil.copytree(copied_take("surveyed-full").path, folder.path)
            shutil.rmtree(folder.path / "survey", ignore_errors=True)
            align_take(folder, self.info)
            with (disk / "rest").open("wb", buffering=0) as rest, suppress(OSError):
                while True:
                    rest.write(b"x" * 4096)
            with self.assertRaisesRegex(TakeError, "cannot be written"):
                survey_take(folder)
            (disk / "rest").unlink()
            self.assertEqual(len(survey_take(folder).tracks), len(self.info.tracks))


class Losses(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        path = ROOT / "surveyed-losses"
        studio = Studio(2)

        def fault(device, name, at, value):
            return Happening(int(at * S), lambda: studio.set_fault(device, name, value))

        happenings = [
            fault("webcam-1", "unplugged", 1.5, True),
            fault("webcam-1", "unplugged", 2.5, False),
            fault("headset", "unplugged", 3.0, True),
            fault("headset", "unplugged", 4.0, False),
            fault("webcam-1", "losing", 4.5, True),
            fault("webcam-1", "losing", 5.5, False),
            fault("headset", "clipping", 12.3, True),
            fault("headset", "clipping", 13.3, False),
        ]
        # Of the pause's six seconds the first five are written.
        cues = (Pause(6 * S), GoOn(12 * S))
        record_take(studio, small_rig(), path, 14 * S, happenings=happenings, cues=cues)
        cls.folder = TakeFolder(path)
        cls.survey = survey_take(cls.folder)

    def test_gaps_are_where_devices_were_away(self):
        for name, away_s in (("webcam-1", 1.5), ("headset", 3.0)):
            with self.subTest(name):
                gaps = self.survey.track(name).gaps
                self.assertEqual(len([g for g in gaps if not g.frames]), 1, gaps)
                self.assertAlmostEqual(gaps[0].from_ns / S, away_s, delta=0.3)
                self.assertGreater(gaps[0].until_ns - gaps[0].from_ns, 0.5 * S)
        self.assertEqual(self.survey.track("display-1").gaps, ())
        bits = self.survey.track("headset").written.mbit_per_s
        self.assertEqual(len(bits), 14)
        self.assertAlmostEqual(sum(bits) * 1e6 / 8 / self.size("headset"), 1, delta=0.1)

    def test_what_clipped_and_what_was_lost_lie_where_they_happened(self):
        clips = self.survey.track("headset").clips
        self.assertTrue(clips)
        # What was heard then: latency is taken off.
        self.assertTrue(all(12.2 * S < clip.at_ns < 13.4 * S for clip in clips), clips)
        self.assertEqual(self.survey.track("system").clips, ())
        webcam = self.survey.track("webcam-1")
        lost = [gap for gap in webcam.gaps if gap.frames]
        self.assertTrue(lost)
        self.assertTrue(all(4.3 * S < gap.from_ns < 5.6 * S for gap in lost), lost)
        self.assertEqual(sum(gap.frames for gap in lost), sum(webcam.written.dropped))
        seconds = [n for n, count in enumerate(webcam.written.dropped) if count]
        self.assertTrue(set(seconds) <= {4, 5}, seconds)

    def size(self, name):
        track = self.folder.read_info().track(name)
        return self.folder.track_path(track).stat().st_size

    def test_quiet_stretches_are_told_in_take_time(self):
        info = self.folder.read_info()
        found = find_quiet(self.folder, info, self.survey, -46.0, 0.8)
        self.assertTrue(any(a <= 3.3 * S and b >= 3.9 * S for a, b in found), found)
        told = io.StringIO()
        words = ["quiet", str(self.folder.path), "--for", "0.1", "--below", "0", "--json"]
        with redirect_stdout(told):
            options = parser().parse_args(words)
            options.run(options)
        # Below what is as loud as can be all is quiet, the pause left out.
        self.assertEqual(json.loads(told.getvalue()), [{"from_s": 0.0, "until_s": 8.0}])
