"""Small pictures between those of the survey are the frames of their times."""

import unittest

import cv2
import numpy as np
import simplejpeg

from kettle_core.errors import TakeError
from kettle_core.picture.picture import picture_to_rgb
from kettle_media.survey.strips import COUNT, read_strip
from kettle_media.survey.survey import SurveyedTrack, survey_take
from kettle_media.take.align import align_take
from kettle_media.take.picture_track import PictureTrack
from tests.fixtures import copied_take


class Strips(unittest.TestCase):
    def setUp(self):
        self.folder = copied_take("strips")
        self.survey = survey_take(self.folder)
        self.info = self.folder.read_info()

    def test_each_is_the_frame_that_a_program_shows_there(self):
        sync = align_take(self.folder, self.info)
        for name, step_ns, first in (("webcam-1", 62_500_000, 24), ("display-1", 250_000_000, 3)):
            track, found = self.info.track(name), self.survey.track(name)
            strip = simplejpeg.decode_jpeg(
                read_strip(self.folder, track, found, first, step_ns), colorspace="RGB"
            )
            size = (found.sheets.width, found.sheets.height)
            self.assertEqual(strip.shape[:2], (size[1], COUNT * size[0]))
            shown = PictureTrack(self.folder, track, sync)
            self.addCleanup(shown.close)
            for n in range(COUNT):
                picture = strip[:, n * size[0] : (n + 1) * size[0]].astype(float)
                wanted = picture_to_rgb(shown.at((first + n) * step_ns))
                wanted = cv2.resize(wanted, size, interpolation=cv2.INTER_AREA)
                self.assertLess(np.abs(picture - wanted).mean(), 4.0, (name, n))

    def test_what_is_no_picture_or_too_far_apart_is_refused(self):
        for name, step_ns in (("headset", 250_000_000), ("webcam-1", 10**9), ("webcam-1", 1)):
            track = self.info.track(name)
            with self.assertRaises(TakeError):
                read_strip(self.folder, track, self.survey.track(name), 0, step_ns)
        webcam = self.info.track("webcam-1")
        with self.assertRaises(TakeError):
            read_strip(self.folder, webcam, SurveyedTrack("webcam-1"), 0, 250_000_000)
