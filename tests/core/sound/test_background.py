import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import SoundError
from kettle_core.sound.background import BalanceMeter, Ducker, Ducking, measure_balance
from kettle_core.sound.voice import VoiceDetector, find_voice, frame_energy, measure_voice_and_noise
from tests.core.sound.signals import RATE_HZ, noise, sine, words


class Voices(unittest.TestCase):
    def test_voice_is_found_in_noise_and_nowhere_else(self):
        pause = np.zeros((1, RATE_HZ), np.float32)
        voice = np.concatenate([pause, words(13)], axis=1)
        truth = np.concatenate([np.zeros(100, bool), (np.arange(1300) * 0.01) % 1.3 < 0.6])
        for rms in (0.0001, 0.003, 0.02):
            found = find_voice(voice + noise(1, 14, rms))
            # Up to 0.15 s more at the end of each word belong to it.
            self.assertGreater((found & truth).sum() / truth.sum(), 0.93)
            self.assertLess((found & ~truth).sum() / (~truth).sum(), 0.35)
        self.assertLess(find_voice(noise(2, 10, 0.05)).mean(), 0.03)
        self.assertFalse(find_voice(np.zeros((1, RATE_HZ), np.float32)).any())

    def test_the_ratio_of_voice_to_noise_is_right(self):
        voice = words(13, 0.1)
        found = find_voice(voice)
        for rms in (0.001, 0.01, 0.03):
            energy = frame_energy(voice + noise(3, 13, rms))
            measured = measure_voice_and_noise(energy, found)
            self.assertAlmostEqual(measured.noise_floor_dbfs, 20 * np.log10(rms), delta=0.5)
            self.assertAlmostEqual(measured.voice_to_noise_db, -20 - 20 * np.log10(rms), delta=1.5)
        nothing = measure_voice_and_noise(energy[:0], found)
        self.assertEqual((nothing.voice_dbfs, nothing.voice_s), (-120.0, 0.0))


class BlockSizes(unittest.TestCase):
    @settings(max_examples=15)
    @given(st.lists(st.integers(0, 50_000), max_size=6))
    def test_voices_and_balances_are_the_same_in_blocks_of_any_size(self, sizes):
        voice, music = words(4), noise(6, 4, 0.02, 2)
        detector, meter, found, at = VoiceDetector(), BalanceMeter(1, 2), [], 0
        for size in [*sizes, voice.shape[1]]:
            part = slice(at, at + size)
            found.append(detector.process(voice[:, part]))
            meter.take(voice[:, part], music[:, part])
            at += size
        np.testing.assert_array_equal(np.concatenate(found), find_voice(voice))
        self.assertEqual(meter.read(), measure_balance(voice, music))


class Balances(unittest.TestCase):
    def test_the_proposed_gain_brings_the_background_into_balance(self):
        voice, music = words(13), noise(4, 13, 1.0, 2)
        ratios = []
        for level in (0.5, 0.05, 0.01, 0.0005):
            found = measure_balance(voice, level * music)
            ratios.append(found.voice_over_background_db)
            mended = level * music * 10 ** (found.proposed_gain_db / 20)
            again = measure_balance(voice, mended)
            if found.proposed_gain_db > -30:
                self.assertEqual((again.word, again.proposed_gain_db), ("in balance", 0.0))
        np.testing.assert_allclose(np.diff(ratios[:3]), (20, 13.98), atol=0.5)

    def test_what_cannot_be_compared_is_said(self):
        voice, music = words(6), noise(5, 6, 0.1, 2)
        apart = measure_balance(voice, 0 * music)
        self.assertEqual((apart.word, apart.proposed_gain_db), ("apart", None))
        self.assertEqual(measure_balance(0 * voice, music).word, "no voice")
        empty = np.zeros((1, 0), np.float32)
        self.assertEqual(measure_balance(empty, empty).word, "no voice")


class Duckings(unittest.TestCase):
    def gains_db(self, ducking, voice):
        ducker = Ducker(1, ducking)
        ones = np.ones_like(voice)
        out = np.concatenate([ducker.process(voice, ones), ducker.flush()], axis=1)
        return 20 * np.log10(out[0, ::480])

    def test_it_is_down_before_the_first_syllable_holds_and_comes_back(self):
        voice = np.concatenate(
            [np.zeros((1, 2 * RATE_HZ), np.float32), words(0.6), np.zeros((1, 3 * RATE_HZ))], axis=1
        ).astype(np.float32)
        ducking = Ducking(True, depth_db=12, attack_ms=200, hold_ms=500, release_ms=1000)
        gains = self.gains_db(ducking, voice)
        heard = np.flatnonzero(find_voice(voice))
        first, last = heard[0], heard[-1]
        self.assertLessEqual(first, 205)
        self.assertAlmostEqual(gains[first], -12, delta=0.1)
        self.assertAlmostEqual(gains[first - 21], 0, delta=0.1)
        np.testing.assert_allclose(np.diff(gains[first - 19 : first]), -0.6, atol=0.01)
        np.testing.assert_allclose(gains[first : last + 50], -12, atol=0.1)
        np.testing.assert_allclose(np.diff(gains[last + 54 : last + 148]), 0.12, atol=0.01)
        self.assertAlmostEqual(gains[last + 154], 0, delta=0.1)

    def test_without_a_voice_nothing_happens(self):
        np.testing.assert_array_equal(self.gains_db(Ducking(True), sine(0, 3, 0.0, 1)), 0)

    def test_values_out_of_reach_are_refused(self):
        with self.assertRaisesRegex(SoundError, "attack of ducking is 10 to 1000 ms, got 2000"):
            Ducker(2, Ducking(True, attack_ms=2000))
