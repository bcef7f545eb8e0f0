"""What is kept of a take while it is recorded, beside the survey that is made of it afterwards."""

import unittest

import cv2
import numpy as np
import simplejpeg

from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.survey.early import EarlyLook, read_early
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.survey import read_level, survey_take
from kettle_media.take.times import KEPT, read_times
from kettle_media.take.track_reading import read_pictures, read_sound
from tests.fixtures import copied_take

S = 10**9


class Early(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = copied_take("early")
        cls.info = cls.folder.read_info()
        cls.look = EarlyLook()
        for track in cls.info.tracks:
            rows = read_times(cls.folder.times_path(track))
            if track.is_picture:
                kept = rows[rows["kept"] == KEPT]
                frames = read_pictures(cls.folder.track_path(track))
                for at_ns, frame in zip(kept["pts_ns"].tolist(), frames, strict=True):
                    if cls.look.wants(track.name, at_ns):
                        cls.look.see(track.name, frame_to_i420(frame), at_ns)
            else:
                at_ns = int(rows["pts_ns"][0])
                for block in read_sound(cls.folder.track_path(track)):
                    cls.look.hear(track.name, block, at_ns)
                    at_ns += block.shape[1] * S // 48_000
        cls.look.write(cls.folder, cls.info)

    def test_waveforms_and_pictures_are_those_of_the_survey_but_for_its_clocks(self):
        early, made = read_early(self.folder, self.info), survey_take(self.folder)
        self.assertEqual(early.length_ns, made.length_ns)
        for found in made.tracks:
            mine = early.track(found.name)
            if found.levels:
                self.assertEqual(mine.levels, found.levels)
                ours = read_level(self.folder, mine, 2, early=True)["most"]
                theirs = read_level(self.folder, found, 2)["most"]
                # Latencies move it by a step or two of 80 ms.
                self.assertGreater(np.corrcoef(ours, theirs)[0, 1], 0.5, found.name)
            if found.sheets:
                self.assertEqual(mine.sheets, found.sheets)
                pairs = [SurveyPaths(self.folder, early).sheet(found.name, 0).read_bytes()
                         for early in (True, False)]  # fmt: skip
                ours, theirs = (simplejpeg.decode_jpeg(data).astype(float) for data in pairs)
                ours, theirs = (cv2.blur(sheet, (9, 9)) for sheet in (ours, theirs))
                self.assertLess(np.abs(ours - theirs).mean(), 12, found.name)

    def test_one_of_a_take_that_is_another_length_by_now_is_none(self):
        copy = copied_take("early-other")
        self.look.write(copy, self.info)
        self.assertIsNotNone(read_early(copy, self.info))
        path = SurveyPaths(copy, early=True).report
        path.write_text(path.read_text().replace(str(self.info.duration_ns), "7"))
        self.assertIsNone(read_early(copy, self.info))

    def test_what_lies_before_the_take_or_came_twice_in_a_second_is_left_out(self):
        look = EarlyLook()
        look.hear("voice", np.ones((1, 480), np.float32), -S)
        self.assertEqual(look.peaks, {})
        self.assertFalse(look.wants("screen", -1))
        look.see("screen", np.full((72, 64), 100, np.uint8), 0)
        self.assertFalse(look.wants("screen", S - 1))
        self.assertTrue(look.wants("screen", S))
