import unittest

import numpy as np

from kettle_core.errors import TimingError
from kettle_core.timing.clock_fit import fit_clock


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
