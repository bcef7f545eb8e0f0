"""Sound as float32 (channels, samples) at 48 kHz: gain, mix, levels, limiter."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import minimum_filter1d

from kettle_core.errors import SoundError

Sound = NDArray[np.float32]
SILENCE_DBFS = -120.0
CLIP_LEVEL = 1.0 - 2.0**-15


def db_to_ratio(gain_db: float) -> float:
    """Amplitude ratio of a gain.

    >>> round(db_to_ratio(-6.0206), 4)
    0.5
    """
    return float(10.0 ** (gain_db / 20.0))


def ratio_to_db(ratio: float) -> float:
    """Gain of an amplitude ratio, not below -120 dB."""
    return float(max(SILENCE_DBFS, 20.0 * np.log10(max(ratio, 1e-12))))


def to_channels(sound: Sound, channels: int) -> Sound:
    """A mono sound in both channels, or the mean of a stereo one, or the sound as it is.

    Raises
    ------
    SoundError
        If the sound is not mono or stereo, or neither is wanted.
    """
    have = sound.shape[0]
    if have not in (1, 2) or channels not in (1, 2):
        raise SoundError(f"A sound is mono or stereo, got {have} to {channels} channels.")
    if have == channels:
        return sound
    if channels == 2:
        return np.repeat(sound, 2, axis=0)
    return np.asarray(sound.mean(axis=0, keepdims=True), dtype=np.float32)


def mix_sounds(sounds: Sequence[tuple[Sound, float]], samples: int) -> Sound:
    """Add sounds with their gains.

    Parameters
    ----------
    sounds : pairs of a (channels, samples) float32 ndarray and a gain in dB
    samples : int, the length all sounds have

    Returns
    -------
    (2, samples) float32 ndarray

    Raises
    ------
    SoundError
        If a sound has another length.
    """
    mixed = np.zeros((2, samples), np.float32)
    for sound, gain_db in sounds:
        if sound.shape[1] != samples:
            raise SoundError(f"A mix of {samples} samples got a sound of {sound.shape[1]}.")
        mixed += to_channels(sound, 2) * np.float32(db_to_ratio(gain_db))
    return mixed


@dataclass(frozen=True)
class Level:
    """What a stretch of sound measured: sample peak and RMS in dBFS, clipped samples."""

    peak_dbfs: float
    rms_dbfs: float
    clipped_samples: int


def measure_level(sound: Sound) -> Level:
    """Level of a (channels, samples) float32 stretch; full scale is 1.0."""
    if sound.size == 0:
        return Level(SILENCE_DBFS, SILENCE_DBFS, 0)
    size = np.abs(sound)
    rms = float(np.sqrt(np.mean(np.square(sound, dtype=np.float64))))
    clipped = int(np.count_nonzero(size >= CLIP_LEVEL))
    return Level(ratio_to_db(float(size.max())), ratio_to_db(rms), clipped)


STRIP_FLOOR_DBFS = -60.0
STRIP_TICKS_DBFS = (-48, -36, -24, -18, -12, -6, -3)
VOICE_BAND_DBFS = (-18.0, -6.0)


def strip_position(level_dbfs: float) -> float:
    """Place on a level strip, 0 to 1; the scale is finer near the top.

    >>> [round(strip_position(v), 2) for v in (-80, -30, 0)]
    [0.0, 0.35, 1.0]
    """
    share = min(max((level_dbfs - STRIP_FLOOR_DBFS) / -STRIP_FLOOR_DBFS, 0.0), 1.0)
    return float(share**1.5)


class PeakLimiter:
    """Keeps sample peaks at or under a ceiling with a look-ahead, the same for both channels.

    The gain needed at each sample is spread by a running minimum and smoothed by a Hann
    window of the same length, so that it has arrived when the peak comes. The output is
    `delay_samples` late; `flush` gives the rest. The result does not depend on block sizes.
    """

    def __init__(self, ceiling_dbfs: float = -1.0, lookahead_samples: int = 120) -> None:
        self._ceiling = db_to_ratio(ceiling_dbfs)
        self._half = lookahead_samples
        window = np.hanning(2 * self._half + 3)[1:-1]
        self._window = window / window.sum()
        self._pending = np.zeros((2, 0), np.float32)

    def process(self, block: Sound) -> Sound:
        """Take (2, N) samples, give those whose gain is settled."""
        if self._pending.shape[1] == 0:
            self._pending = np.zeros((2, 2 * self._half), np.float32)
        joined = np.concatenate([self._pending, block], axis=1)
        reach = 2 * self._half
        ready = joined.shape[1] - 2 * reach
        if ready <= 0:
            self._pending = joined
            return np.zeros((2, 0), np.float32)
        peak = np.maximum(np.abs(joined).max(axis=0), self._ceiling)
        needed = self._ceiling / peak
        held = minimum_filter1d(needed, 2 * self._half + 1, mode="nearest")
        gain = np.convolve(held, self._window, "same")[reach : reach + ready]
        self._pending = joined[:, ready:]
        limited = joined[:, reach : reach + ready] * gain.astype(np.float32)
        return limited.astype(np.float32)

    def flush(self) -> Sound:
        """The samples still held back."""
        return self.process(np.zeros((2, 2 * self._half), np.float32))


def shift_sound(sound: Sound, samples: int) -> Sound:
    """Start later by silence in front (positive) or earlier by leaving samples out (negative)."""
    if samples <= 0:
        return sound[:, -samples:] if samples else sound
    return np.concatenate([np.zeros((sound.shape[0], samples), np.float32), sound], axis=1)
