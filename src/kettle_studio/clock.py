"""Clocks of the simulated devices: wrong on purpose, and known to tests as the truth."""

from dataclasses import dataclass

import numpy as np

JITTER_ROUND = 4093


@dataclass(frozen=True)
class DeviceClock:
    """A device's clock against the master clock.

    device = epoch + master * (1 + rate_ppm * 1e-6); what is captured is delivered
    `latency_ns` later plus up to `jitter_ns`, which differs from frame to frame.
    """

    rate_ppm: float
    epoch_ns: int
    latency_ns: int
    jitter_ns: int
    seed: int = 1

    def device_to_master_ns(self, device_ns: float) -> float:
        """True master time of a device time."""
        return (device_ns - self.epoch_ns) / (1 + self.rate_ppm * 1e-6)

    def master_to_device_ns(self, master_ns: float) -> float:
        """Device time at a true master time."""
        return self.epoch_ns + master_ns * (1 + self.rate_ppm * 1e-6)

    def jitter_of(self, no: int) -> int:
        """Extra lateness of a frame or block; the same for the same seed and number."""
        return int(_jitter_table(self.seed)[no % JITTER_ROUND] * self.jitter_ns)


_tables: dict[int, np.ndarray] = {}


def _jitter_table(seed: int) -> np.ndarray:
    if seed not in _tables:
        _tables[seed] = np.random.default_rng(seed).random(JITTER_ROUND)
    return _tables[seed]
