"""A recorded sound on the master's time axis, read piece by piece."""

from pathlib import Path

import numpy as np
import soxr
from numpy.typing import NDArray

from kettle_core.sound.levels import shift_sound
from kettle_core.timing import NS_PER_S
from kettle_media.tracks import read_sound

MASTER_HZ = 48_000


class MasterSound:
    """Resamples a track by its drift and shifts it by its offset while it is read.

    `captured_ns` is the master time of the first sample since the take's start. After the
    track's end `read` gives silence. It is placed to the sample; the rest, up to half a sample, is
    in `late_samples`.
    """

    def __init__(
        self, path: Path, channels: int, sample_rate_hz: int, drift_ppm: float, captured_ns: float
    ) -> None:
        self._blocks = read_sound(path)
        self._channels = channels
        rate_hz = sample_rate_hz * (1 + drift_ppm * 1e-6)
        self._stream = soxr.ResampleStream(rate_hz, MASTER_HZ, channels, dtype="float32")
        exact = captured_ns * MASTER_HZ / NS_PER_S
        start = round(exact)
        self.late_samples = exact - start
        self._pending = shift_sound(np.zeros((channels, 0), np.float32), max(start, 0))
        self._leave_out = max(-start, 0)
        self._ended = False

    def read(self, samples: int) -> NDArray[np.float32]:
        """The next (channels, samples) float32."""
        parts, have = [self._pending], self._pending.shape[1]
        while have < samples and not self._ended:
            part = self._next_part()
            parts.append(part)
            have += part.shape[1]
        joined = np.concatenate(parts, axis=1)
        if have < samples:
            joined = np.pad(joined, ((0, 0), (0, samples - have)))
        self._pending = joined[:, samples:]
        return np.asarray(joined[:, :samples], dtype=np.float32)

    def _next_part(self) -> NDArray[np.float32]:
        block = next(self._blocks, None)
        if block is None:
            self._ended = True
            block = np.zeros((self._channels, 0), np.float32)
        part = self._stream.resample_chunk(np.ascontiguousarray(block.T), last=self._ended).T
        left_out = min(self._leave_out, part.shape[1])
        self._leave_out -= left_out
        return np.asarray(part[:, left_out:], dtype=np.float32)
