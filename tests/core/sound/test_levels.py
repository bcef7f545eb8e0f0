import unittest

import numpy as np

from kettle_core.errors import SoundError
from kettle_core.sound.levels import measure_level, strip_position, to_channels
from kettle_core.sound.mixing import mix_sounds, to_integers
from kettle_core.sound.shaping import downmixed, panned
from tests.core.sound.signals import sine


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

    def test_a_downmix_has_the_power_or_the_level_it_says(self):
        rng = np.random.default_rng(2)
        two = (0.1 * rng.standard_normal((2, 48_000))).astype(np.float32)
        self.assertAlmostEqual(downmixed(two, "sum").std(), two.std(), delta=0.002)
        one = np.repeat(two[:1], 2, axis=0)
        np.testing.assert_allclose(downmixed(one, "mid"), one, atol=1e-6)
        np.testing.assert_array_equal(downmixed(two, "right"), np.stack([two[1]] * 2))
        np.testing.assert_array_equal(downmixed(two[:1], "left"), two[:1])
        np.testing.assert_array_equal(downmixed(two, "stereo"), two)

    def test_pan_keeps_the_power_and_the_middle_its_level(self):
        voice = sine(440, 0.1, 0.5, 1)
        np.testing.assert_allclose(panned(voice, 0), np.repeat(voice, 2, axis=0), atol=1e-6)
        for pan in (-1, -0.4, 0.7, 1):
            self.assertAlmostEqual(
                float((panned(voice, pan) ** 2).sum()), 2 * float((voice**2).sum()), delta=0.1
            )
        self.assertEqual(np.abs(panned(voice, -1)[1]).max(), 0)
        with self.assertRaisesRegex(SoundError, "-100 % .left. and 100 %"):
            panned(voice, 1.5)

    def test_dither_makes_the_error_of_rounding_independent_of_the_sound(self):
        faint = sine(1000, 1, 2.0**-16.5, 1)  # less than one step of 16 bits
        plain = to_integers(faint, 16)
        fine = to_integers(faint, 16, np.random.default_rng(1))
        self.assertEqual(np.abs(plain).max(), 0)
        tone = np.abs(np.fft.rfft(fine[0]))[1000] * 2 / 48_000
        self.assertAlmostEqual(tone, 2.0**-1.5, delta=0.02)
        self.assertEqual(to_integers(np.ones((1, 2), np.float32) * 2, 24).max(), 2**23 - 1)
        nothing = np.zeros((1, 100), np.float32)
        self.assertEqual(np.abs(to_integers(nothing, 16, np.random.default_rng(1))).max(), 0)
        with self.assertRaisesRegex(SoundError, "16 or 24 bits"):
            to_integers(nothing, 12)


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
