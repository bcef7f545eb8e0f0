"""The map from a track's time to the master's, against clocks that are known."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import TimingError
from kettle_core.timing.clock_map import map_clock

BLOCK_NS = 10_000_000
LATE_NS = 20e6


def stamps(seconds, rate_ppm, rng, stalls=0, jitter_ns=1.5e6, hz=100):
    """Track times, true master times, and stamps that are late by jitter and stalls."""
    track = np.arange(seconds * hz, dtype=np.int64) * (10**9 // hz)
    rate = np.broadcast_to(rate_ppm(track / 1e9), track.shape)
    true = np.r_[0, np.cumsum(np.diff(track) / (1 + rate[:-1] * 1e-6))]
    late = rng.uniform(0, jitter_ns, track.size)
    for start in rng.integers(0, track.size, stalls):
        late[start : start + int(rng.uniform(0.2, 3) * hz)] += rng.uniform(5e6, 9e8)
    return track, true, (true + LATE_NS + late).astype(np.int64)


def one_segment(track):
    return np.zeros(track.size, np.int64)


class Maps(unittest.TestCase):
    def worst_ms(self, seconds, rate_ppm, **more):
        track, true, master = stamps(seconds, rate_ppm, np.random.default_rng(3), **more)
        found = map_clock(track, master, one_segment(track))
        return found, np.abs(found.to_master_ns(track) - true - LATE_NS).max() / 1e6

    def test_clocks_that_wander_are_followed_in_spite_of_stalls(self):
        for name, seconds, rate in (
            ("an hour, 50 to 54 ppm", 3600, lambda t: 50 + 4 * t / 3600),
            ("20 minutes, 50 to 75 ppm", 1200, lambda t: 50 + 25 * t / 1200),
            ("three hours, 50 to 60 ppm", 10800, lambda t: 50 + 10 * t / 10800),
            ("an hour, swings by 10 ppm", 3600, lambda t: 30 + 10 * np.sin(t / 95)),
        ):
            with self.subTest(name):
                found, worst = self.worst_ms(seconds, rate, stalls=12)
                self.assertLess(worst, 0.1)
                self.assertGreater(len(found.pieces), 2)

    def test_a_clock_that_does_not_wander_is_one_line(self):
        for jitter_ns, hz in ((1.5e6, 100), (4e6, 30)):
            found, worst = self.worst_ms(
                1800, lambda t: -80.0, stalls=12, jitter_ns=jitter_ns, hz=hz
            )
            self.assertLessEqual(len(found.pieces), 2)
            self.assertLess(worst, 0.2)
            self.assertAlmostEqual(found.drift_ppm, -80, delta=0.2)

    def test_a_device_that_came_back_during_a_stall_is_laid_by_its_later_stamps(self):
        rng = np.random.default_rng(4)
        track, true, master = stamps(120, lambda t: 40.0, rng)
        segments = (track > 60e9).astype(np.int64)
        # The recorder has laid it by one stamp, 0.3 s too late on the track's axis.
        placed = track + 300_000_000 * segments
        found = map_clock(placed, master, segments)
        self.assertLess(np.abs(found.to_master_ns(placed) - true - LATE_NS).max(), 0.1e6)

    def test_a_short_segment_has_the_rate_of_its_neighbour(self):
        rng = np.random.default_rng(5)
        track, _, master = stamps(100, lambda t: 120.0, rng)
        segments = (track > 98e9).astype(np.int64)
        found = map_clock(track, master, segments)
        self.assertEqual([p.segment for p in found.pieces], [0, 1])
        self.assertEqual(found.pieces[0].drift_ppm, found.pieces[1].drift_ppm)

    def test_short_segments_share_one_rate_and_lie_under_their_own_stamps(self):
        worst = []
        for seed in range(20):
            rng = np.random.default_rng(seed)
            track, true, master = stamps(20, lambda t: -56.0, rng)
            segments = (track > 9e9).astype(np.int64)
            placed = track + 30_000_000 * segments
            found = map_clock(placed, master, segments)
            self.assertEqual(len({p.drift_ppm for p in found.pieces}), 1)
            worst.append(np.abs(found.to_master_ns(placed) - true - LATE_NS).max() / 1e6)
        self.assertLess(max(worst), 0.15)

    def test_a_short_segment_between_steady_ones_has_the_rate_of_the_longer_one(self):
        rng = np.random.default_rng(8)
        track, _, master = stamps(400, lambda t: np.where(t < 120, 20.0, 80.0), rng)
        segments = (track > 90e9).astype(np.int64) + (track > 120e9)
        rates = {p.segment: p.drift_ppm for p in map_clock(track, master, segments).pieces}
        self.assertAlmostEqual(rates[0], 20, delta=1)
        self.assertEqual(rates[1], rates[2])

    @given(st.integers(0, 2**31), st.integers(1, 400))
    @settings(max_examples=30)
    def test_no_stamp_lies_below_the_map_whatever_the_stamps(self, seed, seconds):
        rng = np.random.default_rng(seed)
        track, _, master = stamps(seconds, lambda t: rng.uniform(-200, 200), rng, stalls=5, hz=20)
        track[5::31] = track[4:-1:31][: track[5::31].size]
        track[7::53] -= 4_000_000
        found = map_clock(track, master, one_segment(track))
        below = found.to_master_ns(track) - master
        # Stamps that step back by 4 ms are on time, so they may lie that much off.
        self.assertLess(np.sort(below)[-max(1, below.size // 40) - 1], 1e5)

    def test_stamps_without_a_partner_are_refused(self):
        with self.assertRaisesRegex(TimingError, "pairs"):
            map_clock(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64))
