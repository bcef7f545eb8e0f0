"""A limiter that looks ahead and keeps the true peak under a ceiling."""

import numpy as np

from kettle_core.sound.levels import Sound, db_to_ratio
from kettle_core.sound.stage import FRAME_SAMPLES, FrameStage
from kettle_core.sound.true_peak import LARGEST_RISE, TAPS, between_samples

LOOKAHEAD_SAMPLES = 120


class Limiter(FrameStage):
    """Keeps true peaks at or under a ceiling, with the same gain for all channels.

    The gain needed at each sample, for the values beside it as well, is spread by a running
    minimum and smoothed by a Hann window of the same length: it has arrived when the peak
    comes. Where nothing passes the ceiling every sample stays as it is.

    Parameters
    ----------
    channels : int
    ceiling_dbtp : float, the true peak that is not passed (by 0.1 dB at most, measured ×16)
    """

    frame_samples = 2 * FRAME_SAMPLES

    def __init__(self, channels: int, ceiling_dbtp: float = -1.0) -> None:
        super().__init__(channels)
        self._ceiling = np.float32(db_to_ratio(ceiling_dbtp))
        window = np.hanning(2 * LOOKAHEAD_SAMPLES + 3)[1:-1]
        self._window = (window / window.sum()).astype(np.float64)
        self._reach = 2 * LOOKAHEAD_SAMPLES
        self.delay_samples = self._reach + TAPS // 2
        self._joined = np.zeros((channels, self.delay_samples + TAPS // 2 - 1), np.float32)
        self._needed = np.ones(2 * self._reach)

    def _frame(self, frame: Sound) -> Sound:
        size = frame.shape[1]
        joined = np.concatenate([self._joined, frame], axis=1)
        self._joined = joined[:, size:]
        # The needed gain is known up to TAPS // 2 samples before the newest one.
        fresh = joined[:, -(size + TAPS) :]
        peak = self._ceiling
        if np.abs(fresh).max() * LARGEST_RISE > self._ceiling:
            between = np.max([between_samples(x) for x in fresh], axis=0)
            here = np.abs(fresh[:, TAPS // 2 : TAPS // 2 + size]).max(axis=0)
            peak = np.maximum(np.maximum(between[:size], between[1 : size + 1]), here)
        needed = np.minimum(1.0, self._ceiling / np.maximum(peak, self._ceiling))
        joined_needed = np.concatenate([self._needed, np.broadcast_to(needed, size)])
        self._needed = joined_needed[size:]
        out = joined[:, TAPS // 2 - 1 : TAPS // 2 - 1 + size]
        if joined_needed.min() >= 1:
            return out
        from scipy.ndimage import minimum_filter1d  # half a second to import

        held = minimum_filter1d(joined_needed, 2 * LOOKAHEAD_SAMPLES + 1, mode="nearest")
        gain = np.convolve(held, self._window, "same")[self._reach : self._reach + size]
        return (out * gain).astype(np.float32)
