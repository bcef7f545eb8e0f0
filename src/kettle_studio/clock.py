"""Clocks of the simulated devices: wrong on purpose, and known to tests as the truth."""

from dataclasses import dataclass

import numpy as np

JITTER_ROUND = 4093


@dataclass(frozen=True)
class DeviceClock:
    """A device's clock against the master clock.

    device = epoch + master * (1 + rate_ppm * 1e-6), and more or less by a rate that swings by
    `wander_ppm` to either side once in `wander_s`. What is captured is delivered `latency_ns`
    later plus up to `jitter_ns`, which differs from frame to frame.
    """

    rate_ppm: float
    epoch_ns: int
    latency_ns: int
    jitter_ns: int
    seed: int = 1
    wander_ppm: float = 0.0
    wander_s: float = 600.0

    def device_to_master_ns(self, device_ns: float) -> float:
        """True master time of a device time."""
        elapsed_ns = device_ns - self.epoch_ns
        master_ns = elapsed_ns / (1 + self.rate_ppm * 1e-6)
        if self.wander_ppm:
            # The swing is so slow that two steps are enough for less than a ns.
            for _ in range(2):
                away_ns = self._wandered_ns(master_ns)
                master_ns = (elapsed_ns - away_ns) / (1 + self.rate_ppm * 1e-6)
        return master_ns

    def master_to_device_ns(self, master_ns: float) -> float:
        """Device time at a true master time."""
        return self.epoch_ns + master_ns * (1 + self.rate_ppm * 1e-6) + self._wandered_ns(master_ns)

    def rate_at_ppm(self, master_ns: float) -> float:
        """How fast it counts at a true master time."""
        phase = 2 * np.pi * master_ns / (self.wander_s * 1e9)
        return float(self.rate_ppm + self.wander_ppm * np.sin(phase))

    def _wandered_ns(self, master_ns: float) -> float:
        if not self.wander_ppm:
            return 0.0
        period_ns = self.wander_s * 1e9
        swing = 1 - np.cos(2 * np.pi * master_ns / period_ns)
        return float(self.wander_ppm * 1e-6 * period_ns / (2 * np.pi) * swing)

    def jitter_of(self, no: int) -> int:
        """Extra lateness of a frame or block; the same for the same seed and number."""
        return int(_jitter_table(self.seed)[no % JITTER_ROUND] * self.jitter_ns)


_tables: dict[int, np.ndarray] = {}


def _jitter_table(seed: int) -> np.ndarray:
    if seed not in _tables:
        _tables[seed] = np.random.default_rng(seed).random(JITTER_ROUND)
    return _tables[seed]
