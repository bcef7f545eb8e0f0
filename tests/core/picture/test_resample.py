"""Planes at another size: what is kept between two samplings is nobody else's."""

import unittest
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from kettle_core.picture.resample import Line, Resampler


class SeveralAtOnce(unittest.TestCase):
    def test_threads_sample_at_once_and_sizes_one_after_the_other(self):
        rng = np.random.default_rng(3)
        work = []
        for rows, columns in ((90, 120), (360, 500), (61, 333)):
            plane = rng.integers(0, 256, (rows, columns), np.uint8)
            down, across = (
                Line(70, 0.3, rows / 75, 0, rows),
                Line(101, 2.5, columns / 120, 0, columns),
            )
            work.append((Resampler(down, across), plane))
        alone = [sampler.sample(plane) for sampler, plane in work]

        def again(number):
            sampler, plane = work[number]
            return [sampler.sample(plane) for _ in range(40)]

        with ThreadPoolExecutor(3) as pool:
            for expected, found in zip(alone, pool.map(again, range(3)), strict=True):
                for one in found:
                    np.testing.assert_array_equal(one, expected)
