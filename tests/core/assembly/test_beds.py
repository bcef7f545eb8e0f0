"""Our own music: it loops without a seam, at one level, and is not the same throughout."""

import unittest

import numpy as np

from kettle_core.assembly.beds import BEDS, LOOP_S, bed, looped

HZ = 48_000


class Beds(unittest.TestCase):
    def test_each_goes_on_over_its_end_as_it_does_everywhere(self):
        for name in BEDS:
            with self.subTest(name):
                loop = bed(name)
                self.assertEqual(loop.shape, (2, LOOP_S * HZ))
                self.assertAlmostEqual(float(np.sqrt(np.mean(loop**2))), 0.1, delta=0.001)
                self.assertLess(float(np.abs(loop).max()), 0.9)
                over = looped(loop, LOOP_S * HZ - 480, 960)
                steps = np.abs(np.diff(loop, axis=1))
                self.assertLessEqual(
                    float(np.abs(np.diff(over, axis=1)).max()),
                    1.2 * float(np.quantile(steps, 0.999)),
                )
                # Both sides differ a little, and it moves.
                self.assertGreater(float(np.abs(loop[0] - loop[1]).max()), 0.001)
                parts = loop[0].reshape(64, -1).std(axis=1)
                self.assertGreater(float(parts.max() / parts.min()), 1.02)
