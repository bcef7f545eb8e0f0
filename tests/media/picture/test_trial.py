"""Settings tried on frames: what is left of print, what it takes, what is shown of it."""

import unittest
from dataclasses import replace
from fractions import Fraction

import cv2
import numpy as np

from kettle_core.picture.picture import picture_from_i420
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Rate, TrackFormat
from kettle_core.rig.trial import TrialPoint, ladder, propose
from kettle_media.picture.trial import (
    CROP_PX,
    Sample,
    crop,
    crop_at,
    loads_together,
    try_setting,
    wanted_frames,
)

MODE = Mode(320, 192, Fraction(30))
TRACK = TrackFormat(Rate("quality", 20))
FRAMES = 30


def frame(words="", shift=0):
    """An I420 frame: a shape that moves, and small print."""
    luma = np.full((192, 320), 200, np.uint8)
    cv2.circle(luma, (60 + shift, 150), 26, 60, -1)
    for line in range(5 if words else 0):
        cv2.putText(luma, words, (100, 20 + 11 * line), cv2.FONT_HERSHEY_PLAIN, 0.6, 30)
    return np.vstack([luma, np.full((96, 320), 128, np.uint8)])


def sample(words=""):
    frames = np.stack([frame(words, n) for n in range(FRAMES)])
    at_ns = np.arange(FRAMES) * 10**9 // 30
    every = np.arange(FRAMES)
    return Sample(MODE, frames, every, np.ones(FRAMES, bool), at_ns, 10**9)


def points(of, track=TRACK):
    found = [try_setting(of, t, "area") for t in ladder(track, MODE)]
    return [TrialPoint(f.track, f.kbps, 1 / f.work_s, 1.0, f.quality) for f in found]


class Settings(unittest.TestCase):
    def test_better_settings_cost_more_and_keep_more(self):
        found = points(sample("gutter 4.5 mm creep 0.3 trim 3"))
        self.assertEqual([p.track.rate.crf for p in found], [32, 28, 24, 20, 16, 12])
        kbps = [p.kbps for p in found]
        fine = [p.quality.ssim_fine for p in found]
        self.assertEqual((kbps, fine), (sorted(kbps), sorted(fine)))
        self.assertLess(found[0].quality.psnr_db, found[-1].quality.psnr_db - 6)

    def test_print_wants_more_than_a_picture_without_any(self):
        proposals = {}
        for words in ("", "gutter 4.5 mm creep 0.3 trim 3"):
            found = points(sample(words), replace(TRACK, rate=Rate("quality", 28)))
            proposals[words] = propose("It", TRACK, found).number
        plain, with_print = proposals.values()
        self.assertGreaterEqual(plain, 0)
        self.assertGreater(with_print, plain)

    def test_a_smaller_track_keeps_less_of_print_and_is_compared_at_the_inputs_size(self):
        of = sample("gutter 4.5 mm creep 0.3 trim 3")
        whole = try_setting(of, TRACK, "area")
        half = try_setting(of, replace(TRACK, scale=Fraction(1, 2)), "area")
        self.assertEqual(half.shown.shape, (192, 320))
        self.assertLess(half.quality.ssim_fine, whole.quality.ssim_fine - 0.1)

    def test_a_ceiling_is_never_said_to_be_passed(self):
        rng = np.random.default_rng(2)
        frames = rng.integers(16, 235, (FRAMES, 288, 320), dtype=np.uint8)
        noise = replace(sample(), frames=frames)
        low = replace(TRACK, rate=Rate("ceiling", 10, 300))
        self.assertEqual(try_setting(noise, low, "area").kbps, 300)
        self.assertGreater(try_setting(noise, TRACK, "area").kbps, 3000)

    def test_the_frames_are_those_that_a_track_would_have(self):
        of = replace(sample(), changed=np.arange(FRAMES) % 10 == 0)
        self.assertLess(len(list(wanted_frames(of, TRACK))), 12)
        steady = replace(TRACK, rate=Rate("constant", kbps=300))
        self.assertEqual(len(list(wanted_frames(of, steady))), FRAMES)
        slow = replace(steady, fps=Fraction(15))
        self.assertEqual(len(list(wanted_frames(of, slow))), FRAMES // 2)

    def test_all_tracks_are_encoded_in_their_pace_and_their_load_is_told(self):
        of = sample()
        loads = loads_together({"a": of, "b": of}, {"a": TRACK, "b": TRACK}, "area")
        self.assertEqual(loads.keys(), {"a", "b"})
        for load in loads.values():
            self.assertTrue(0 < load < 1, load)


class Shown(unittest.TestCase):
    def test_the_smallest_text_is_what_is_enlarged(self):
        luma = picture_from_i420(frame()).y.copy()
        cv2.putText(luma, "LARGE TITLE", (20, 60), cv2.FONT_HERSHEY_PLAIN, 2.5, 20, 3)
        cv2.putText(luma, "creep 0.3 mm 24 61 97", (110, 120), cv2.FONT_HERSHEY_SIMPLEX, 0.45, 0)
        left, top = crop_at(luma)
        self.assertTrue(top <= 108 and top + CROP_PX[1] >= 121, top)
        self.assertTrue(0 <= left <= 320 - CROP_PX[0], left)
        self.assertEqual(crop(luma, (left, top)).shape, CROP_PX[::-1])

    def test_without_text_it_is_the_middle(self):
        left, top = crop_at(np.full((192, 320), 90, np.uint8))
        self.assertEqual((left, top), ((320 - CROP_PX[0]) // 2, (192 - CROP_PX[1]) // 2))
