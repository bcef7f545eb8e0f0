import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import SoundError
from kettle_core.sound.levels import (
    PeakLimiter,
    db_to_ratio,
    measure_level,
    mix_sounds,
    shift_sound,
    strip_position,
    to_channels,
)


def sine(hz, seconds, peak, channels=2):
    t = np.arange(round(seconds * 48000)) / 48000
    return np.tile(peak * np.sin(2 * np.pi * hz * t), (channels, 1)).astype(np.float32)


def limited(sound, sizes):
    limiter, parts, at = PeakLimiter(-1.0), [], 0
    for size in [*sizes, sound.shape[1]]:
        parts.append(limiter.process(sound[:, at : at + size]))
        at = min(at + size, sound.shape[1])
    return np.concatenate([*parts, limiter.flush()], axis=1)


class Mixing(unittest.TestCase):
    def test_sounds_add_up_with_their_gains(self):
        voice, music = sine(440, 0.1, 0.5, 1), sine(440, 0.1, 0.5)
        mixed = mix_sounds([(voice, 0.0), (music, -6.0206)], voice.shape[1])
        np.testing.assert_allclose(mixed, 1.5 * music, atol=1e-5)

    def test_a_sound_of_another_length_is_refused(self):
        with self.assertRaisesRegex(SoundError, "100 samples"):
            mix_sounds([(np.zeros((1, 90), np.float32), 0.0)], 100)
        with self.assertRaisesRegex(SoundError, "mono or stereo"):
            to_channels(np.zeros((6, 10), np.float32), 2)

    @given(st.integers(-50, 50))
    def test_a_shift_moves_every_sample(self, samples):
        sound = np.arange(1, 201, dtype=np.float32)[None, :]
        moved = shift_sound(sound, samples)
        self.assertEqual(moved.shape[1], 200 + samples)
        self.assertEqual(moved[0, 100 + samples], 101)


class Levels(unittest.TestCase):
    def test_a_full_scale_sine_is_0_dbfs_peak_and_minus_3_rms(self):
        level = measure_level(sine(997, 1, 1.0))
        self.assertAlmostEqual(level.peak_dbfs, 0.0, delta=0.01)
        self.assertAlmostEqual(level.rms_dbfs, -3.01, delta=0.01)
        self.assertGreater(level.clipped_samples, 0)
        self.assertEqual(measure_level(sine(997, 1, 0.99)).clipped_samples, 0)

    def test_silence_has_a_floor(self):
        self.assertEqual(measure_level(np.zeros((1, 480), np.float32)).peak_dbfs, -120.0)

    def test_the_strip_is_finer_near_the_top(self):
        steps = [strip_position(v) - strip_position(v - 6) for v in (-42, -24, -6, 0)]
        self.assertEqual(steps, sorted(steps))


class Limiting(unittest.TestCase):
    def test_no_peak_passes_the_ceiling_and_quiet_sound_is_left_alone(self):
        rng = np.random.default_rng(4)
        sound = sine(200, 0.5, 0.3)
        sound[:, 9000:12000] += rng.uniform(-1.5, 1.5, (2, 3000)).astype(np.float32)
        out = limited(sound, [])
        self.assertEqual(out.shape, sound.shape)
        self.assertLessEqual(np.abs(out).max(), db_to_ratio(-1.0) + 1e-6)
        np.testing.assert_array_equal(out[:, :8000], sound[:, :8000])
        np.testing.assert_array_equal(out[:, 13000:], sound[:, 13000:])

    @given(st.lists(st.integers(1, 4000), max_size=8))
    def test_the_block_size_does_not_matter(self, sizes):
        sound = sine(330, 0.2, 1.4)
        np.testing.assert_array_equal(limited(sound, sizes), limited(sound, []))
