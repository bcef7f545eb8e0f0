import unittest

import numpy as np

from kettle_core.errors import TimingError
from kettle_core.timing.sync import GRID_HZ, LagSum, picture_changes, picture_lag, sound_changes

HZ = 48_000


def sound_lag(reference, other):
    total = LagSum(HZ)
    total.add(reference, other)
    return total.lag()


def bursts(rng, seconds, at):
    sound = np.zeros(seconds * HZ)
    for second in at:
        start, length = int(second * HZ), HZ // 12
        envelope = np.exp(-np.arange(length) / (HZ / 60))
        sound[start : start + length] += rng.standard_normal(length) * envelope
    return sound


class SoundWithSound(unittest.TestCase):
    def test_a_faint_bleed_is_found_to_a_tenth_of_a_millisecond(self):
        rng = np.random.default_rng(5)
        music = rng.standard_normal(10 * HZ) * 0.2
        voice = bursts(rng, 10, np.arange(0.3, 9.5, 0.41))
        for late in (-3170, -5, 0, 1234):
            heard = voice + 0.05 * np.roll(music, -late) + 0.001 * rng.standard_normal(10 * HZ)
            lag = sound_lag(heard, music)
            self.assertTrue(lag.sure)
            self.assertAlmostEqual(lag.lag_ms, late / HZ * 1000, delta=0.1)

    def test_sounds_that_share_nothing_are_not_sure(self):
        rng = np.random.default_rng(6)
        self.assertFalse(sound_lag(*rng.standard_normal((2, 10 * HZ))).sure)
        self.assertFalse(sound_lag(rng.standard_normal(HZ), np.zeros(HZ)).sure)

    def test_sounds_of_two_lengths_are_refused(self):
        with self.assertRaisesRegex(TimingError, "one length"):
            sound_lag(np.zeros(10), np.zeros(11))


class PictureWithSound(unittest.TestCase):
    def lag_of(self, late_s, fps=30, related=True):
        rng = np.random.default_rng(7)
        at = np.sort(rng.uniform(0.5, 19, 26))
        changes = sound_changes(bursts(rng, 20, at), HZ)
        captured = np.arange(0, 20, 1 / fps) + 0.004
        seen = at if related else np.sort(rng.uniform(0.5, 19, 26))
        glow = np.zeros(captured.size)
        for second in seen:
            since = captured - second - late_s
            glow += np.where(since >= 0, 60 * np.exp(-np.maximum(since, 0) / 0.08), 0)
        cells = rng.normal(0, 1.5, (captured.size, 6)) + 100
        cells[:, 2] += glow
        grid = picture_changes(captured, cells, 1 / fps, changes.size)
        return picture_lag(grid, changes)

    def test_what_flashes_with_a_sound_tells_the_lag_within_a_quarter_frame(self):
        for late_s in (-0.05, 0.0, 0.062, 0.2):
            lag = self.lag_of(late_s)
            self.assertTrue(lag.sure)
            self.assertAlmostEqual(lag.lag_ms, late_s * 1000, delta=8)

    def test_a_picture_of_something_else_is_not_sure(self):
        self.assertFalse(self.lag_of(0.05, related=False).sure)

    def test_a_still_picture_is_held_until_just_before_the_next(self):
        held = picture_changes(np.array([0.0, 1.0]), np.array([[0.0], [9.0]]), 0.1, GRID_HZ)
        self.assertEqual(np.count_nonzero(held[0, : int(0.88 * GRID_HZ)]), 0)
