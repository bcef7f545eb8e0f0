import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import TimingError
from kettle_core.timing import fit_clock, frame_count, frame_to_ns, rescale_ticks, seconds_to_ticks

RATES = st.sampled_from([Fraction(r) for r in ("15", "24000/1001", "25", "30000/1001", "30", "60")])
MS, NS = Fraction(1, 1000), Fraction(1, 10**9)


class Conversion(unittest.TestCase):
    @given(st.lists(st.integers(0, 10**9), min_size=1, max_size=20))
    def test_finer_ticks_and_back_give_the_same(self, ticks):
        there = rescale_ticks(np.array(ticks), MS, NS)
        self.assertEqual(rescale_ticks(there, NS, MS).tolist(), ticks)

    @given(st.integers(-(10**15), 10**15), RATES)
    def test_rescaling_is_never_off_by_more_than_half_a_tick(self, ticks, fps):
        found = int(rescale_ticks(np.array([ticks]), NS, 1 / fps)[0])
        self.assertLessEqual(abs(Fraction(ticks) * NS * fps - found), Fraction(1, 2))

    @given(st.integers(0, 10**7), RATES)
    def test_a_duration_holds_the_frames_that_start_in_it(self, frames, fps):
        exact_ns = frame_to_ns(frames, fps)
        self.assertIn(frame_count(exact_ns, fps) - frames, (0, 1))
        self.assertLess(frame_to_ns(frames, fps), frame_to_ns(frames + 1, fps))

    def test_rounding_is_not_truncation(self):
        self.assertEqual(seconds_to_ticks(2.3, 44100), 101430)

    def test_a_time_base_of_nought_is_refused(self):
        with self.assertRaisesRegex(TimingError, "above 0"):
            rescale_ticks(np.array([1]), Fraction(0), MS)


class ClockFitting(unittest.TestCase):
    def stamps(self, ppm, seconds, rng, stalls=False):
        device = 5 * 10**11 + np.arange(seconds * 100, dtype=np.int64) * 10_000_000
        true = (device - 4 * 10**11) / (1 + ppm * 1e-6)
        late = rng.uniform(0, 1.5e6, device.size)
        if stalls:
            for start in rng.integers(0, device.size, 12):
                late[start : start + 40] += rng.uniform(5e6, 9e8)
        return device, true, (true + 20e6 + late).astype(np.int64)

    def test_the_rate_of_a_clock_is_found_in_spite_of_jitter_and_stalls(self):
        rng = np.random.default_rng(1)
        for ppm in (-200.0, 0.0, 37.5, 200.0):
            for stalls in (False, True):
                with self.subTest(ppm=ppm, stalls=stalls):
                    device, true, master = self.stamps(ppm, 60, rng, stalls)
                    fit = fit_clock(device, master)
                    self.assertAlmostEqual(fit.drift_ppm, ppm, delta=1.0)
                    worst = np.abs(fit.device_to_master_ns(device) - true - 20e6).max()
                    self.assertLess(worst, 0.2e6)

    def test_a_machine_that_catches_up_all_the_time_is_not_taken_for_a_clock(self):
        device = np.arange(1300, dtype=np.int64) * 10_000_000
        backlog = np.linspace(4e8, 0, device.size)
        fit = fit_clock(device, (device + 5e6 + backlog).astype(np.int64))
        self.assertEqual(fit.drift_ppm, 0.0)
        self.assertAlmostEqual(fit.anchor_master_ns, 5e6, delta=1e6)

    def test_a_moment_of_stamps_gives_an_offset_and_no_drift(self):
        fit = fit_clock(np.array([0, 10**7]), np.array([5, 10**7 + 9]))
        self.assertEqual((fit.drift_ppm, fit.anchor_master_ns), (0.0, 5.0))

    def test_stamps_that_stand_still_or_step_back_are_survived(self):
        device, true, master = self.stamps(80.0, 60, np.random.default_rng(2))
        device[100::97] = device[99:-1:97]
        device[50::211] -= 4_000_000
        fit = fit_clock(device, master)
        self.assertAlmostEqual(fit.drift_ppm, 80.0, delta=2.0)
        self.assertLess(np.median(np.abs(fit.device_to_master_ns(device) - true - 20e6)), 0.2e6)

    def test_stamps_without_a_partner_are_refused(self):
        with self.assertRaisesRegex(TimingError, "pairs"):
            fit_clock(np.array([], np.int64), np.array([], np.int64))
