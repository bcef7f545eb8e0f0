"""EBU Tech 3341 and 3342: the cases that can be synthesised."""

import unittest

import numpy as np
import soxr

from kettle_core.errors import SoundError
from kettle_core.sound.loudness import LoudnessMeter, k_weighting, measure_loudness
from kettle_core.sound.true_peak import PeakMeter, measure_peaks
from tests.core.sound.signals import RATE_HZ, noise, sine, steps, swelling_noise


def loudness(sound):
    return measure_loudness(sound, RATE_HZ)


class Tech3341(unittest.TestCase):
    def test_cases_1_to_5_integrated(self):
        for number, parts, expected in (
            (1, [(-23, 20)], -23),
            (2, [(-33, 20)], -33),
            (3, [(-36, 10), (-23, 60), (-36, 10)], -23),
            (4, [(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23),
            (5, [(-26, 20), (-20, 20.1), (-26, 20)], -23),
        ):
            with self.subTest(number):
                found = loudness(steps(*parts))
                self.assertAlmostEqual(found.integrated_lufs, expected, delta=0.1)
                if number < 3:
                    self.assertAlmostEqual(found.momentary_max_lufs, expected, delta=0.1)
                    self.assertAlmostEqual(found.short_term_max_lufs, expected, delta=0.1)

    def test_case_6_surround(self):
        tone = steps((0, 20), channels=5)
        levels = 10 ** (np.array([-28, -28, -24, -30, -30]) / 20)
        sound = (tone * levels[:, None]).astype(np.float32)
        self.assertAlmostEqual(loudness(sound).integrated_lufs, -23.0, delta=0.1)
        with_low = np.insert(sound, 3, tone[0], axis=0)
        self.assertAlmostEqual(loudness(with_low).integrated_lufs, -23.0, delta=0.1)

    def test_cases_9_and_12_are_steady(self):
        for parts, seconds, read in (
            ([(-20, 1.34), (-30, 1.66)] * 5, 3, "short_term_lufs"),
            ([(-20, 0.18), (-30, 0.22)] * 25, 1, "momentary_lufs"),
        ):
            meter, sound = LoudnessMeter(2, RATE_HZ), steps(*parts)
            for at in range(0, sound.shape[1], 4800):
                meter.take(sound[:, at : at + 4800])
                if at + 4800 >= seconds * RATE_HZ:
                    self.assertAlmostEqual(getattr(meter, read)(), -23.0, delta=0.1)

    def test_cases_10_and_13_find_the_peak_wherever_it_lies(self):
        for number in range(20):
            late = loudness(steps((None, 0.15 * number), (-23, 3), (None, 1)))
            self.assertAlmostEqual(late.short_term_max_lufs, -23.0, delta=0.1)
            short = loudness(steps((None, 0.02 * number), (-23, 0.4), (None, 1)))
            self.assertAlmostEqual(short.momentary_max_lufs, -23.0, delta=0.1)

    def test_cases_11_and_14_follow_rising_peaks(self):
        for long_s, step_s, read in ((3, 0.15, "short_term"), (0.4, 0.02, "momentary")):
            meter = LoudnessMeter(2, RATE_HZ)
            for number in range(20):
                gaps = (None, step_s * number), (None, long_s - step_s * number)
                meter.take(steps(gaps[0], (-38 + number, long_s), gaps[1]))
                found = getattr(meter.read(), f"{read}_max_lufs")
                self.assertAlmostEqual(found, -38.0 + number, delta=0.1)

    def test_cases_15_to_19_true_peak(self):
        for divisor, degrees, peak, expected in (
            (4, 0, 0.5, -6.0),
            (4, 45, 0.5, -6.0),
            (6, 60, 0.5, -6.0),
            (8, 67.5, 0.5, -6.0),
            (4, 45, 1.41, 3.0),
        ):
            tone = sine(RATE_HZ / divisor, 1, peak, phase=np.radians(degrees))
            fade = np.minimum(1, np.minimum(np.arange(RATE_HZ), np.arange(RATE_HZ)[::-1]) / 2400)
            found = measure_peaks((tone * fade).astype(np.float32)).true_peak_dbtp
            self.assertLess(found, expected + 0.2)
            self.assertGreater(found, expected - 0.4)

    def test_cases_20_to_23_true_peak_between_samples(self):
        t = (np.arange(4 * 9600) - 19_200.0) / (4 * RATE_HZ)
        burst = np.exp(-((t / 0.002) ** 2)) * np.cos(2 * np.pi * RATE_HZ / 6 * t)
        for start in range(4):
            found = measure_peaks(burst[start::4].astype(np.float32)[None]).true_peak_dbtp
            self.assertLess(found, 0.2)
            self.assertGreater(found, -0.4)


class Tech3342(unittest.TestCase):
    def test_cases_1_to_4_range(self):
        for levels, expected in (
            ((-20, -30), 10),
            ((-20, -15), 5),
            ((-40, -20), 20),
            ((-50, -35, -20, -35, -50), 15),
        ):
            found = loudness(steps(*((level, 20) for level in levels)))
            self.assertAlmostEqual(found.range_lu, expected, delta=1.0)


class Measuring(unittest.TestCase):
    def test_the_filters_are_those_of_the_standard_at_48_khz(self):
        np.testing.assert_allclose(
            k_weighting(48_000),
            [
                [1.53512485958697, -2.69169618940638, 1.19839281085285,
                 1.0, -1.69065929318241, 0.73248077421585],
                [1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621],
            ],
            atol=1e-7,
        )  # fmt: skip

    def test_any_sample_rate_and_block_size_measures_alike(self):
        sound = noise(3, 12, 0.05, 2)
        sound[:, 200_000:300_000] *= 4
        whole = loudness(sound)
        for rate_hz in (8_000, 22_050, 44_100, 192_000):
            tone = sine(997, 10, 0.1, rate_hz=rate_hz)
            found = measure_loudness(tone, rate_hz).integrated_lufs
            self.assertAlmostEqual(found, -20.0, delta=0.15)
        meter, at_once, at = LoudnessMeter(2, RATE_HZ), LoudnessMeter(2, RATE_HZ), 0
        for size in (1, 7, 480, 99_999, 3, 10**6):
            meter.take(sound[:, at : at + size])
            at += size
        at_once.take(sound)
        self.assertAlmostEqual(meter.momentary_lufs(), at_once.momentary_lufs(), places=9)
        self.assertAlmostEqual(meter.short_term_lufs(), at_once.short_term_lufs(), places=9)
        self.assertAlmostEqual(meter.read().integrated_lufs, whole.integrated_lufs, places=9)

    def test_nothing_one_sample_and_silence_are_silent(self):
        for count in (0, 1, 48_000):
            silent = loudness(np.zeros((2, count), np.float32))
            self.assertEqual((silent.integrated_lufs, silent.range_lu), (-120.0, 0.0))
            self.assertEqual(measure_peaks(np.zeros((2, count), np.float32)).true_peak_dbtp, -120)
        with self.assertRaisesRegex(SoundError, "1 to 8 channels"):
            LoudnessMeter(9, RATE_HZ)

    def test_true_peak_agrees_with_a_slow_measure_whatever_is_left_out(self):
        rng = np.random.default_rng(5)
        for seed in range(6):
            sound = 0.1 * swelling_noise(seed, 1, 2)
            place = (np.arange(RATE_HZ) - rng.integers(1000, 40_000)) / 500
            sound = (sound * (1 + 2 * np.exp(-(place**2)))).astype(np.float32)
            slow = [soxr.resample(x.astype(np.float64), 1, 16) for x in sound]
            found = measure_peaks(sound).true_peak_dbtp
            self.assertAlmostEqual(found, 20 * np.log10(np.abs(slow).max()), delta=0.15)
            meter = PeakMeter(2)
            for at in range(0, sound.shape[1], 777):
                meter.take(sound[:, at : at + 777])
            self.assertAlmostEqual(meter.read().true_peak_dbtp, found, delta=1e-4)

    def test_clips_are_counted_with_their_places(self):
        sound = sine(100, 1, 0.5)
        sound[0, 1000:1004] = 1.0
        sound[1, 1002:1010] = -1.0
        sound[0, 40_000] = 1.0
        meter = PeakMeter(2)
        for at in (0, 1003):
            meter.take(sound[:, at : at + 1003] if at == 0 else sound[:, at:])
        found = meter.read()
        self.assertEqual(found.clipped_samples, 13)
        self.assertEqual(found.clips, ((1000, 10), (40_000, 1)))
