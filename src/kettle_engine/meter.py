"""The level of one live sound between two looks at it."""

import threading

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound import SILENCE_DBFS, measure_level, strip_position

HOLD_S = 1.5


class Meter:
    """Collects blocks; `read` gives the level since the last look, peak hold and clips."""

    def __init__(self, sample_rate_hz: int) -> None:
        self._rate_hz = sample_rate_hz
        self._blocks: list[NDArray[np.float32]] = []
        self._lock = threading.Lock()
        self._clipped = 0
        self._held_dbfs = SILENCE_DBFS
        self._held_left_s = 0.0

    def take(self, block: NDArray[np.float32]) -> None:
        """Add a block; of an unwatched sound only the last second is kept."""
        with self._lock:
            self._blocks.append(block)
            del self._blocks[:-100]

    def read(self) -> dict[str, float]:
        """Levels in dBFS and their places on a strip; clips since the device was opened."""
        with self._lock:
            blocks, self._blocks = self._blocks, []
        if not blocks:
            level = measure_level(np.zeros((1, 0), np.float32))
        else:
            level = measure_level(np.concatenate(blocks, axis=1))
        elapsed_s = sum(b.shape[1] for b in blocks) / self._rate_hz
        self._held_left_s -= elapsed_s
        if level.peak_dbfs >= self._held_dbfs or self._held_left_s <= 0:
            self._held_dbfs, self._held_left_s = level.peak_dbfs, HOLD_S
        self._clipped += level.clipped_samples
        return {
            "peak_dbfs": round(level.peak_dbfs, 1),
            "rms_dbfs": round(level.rms_dbfs, 1),
            "held_dbfs": round(self._held_dbfs, 1),
            "clipped": self._clipped,
            "peak_at": round(strip_position(level.peak_dbfs), 4),
            "held_at": round(strip_position(self._held_dbfs), 4),
        }
