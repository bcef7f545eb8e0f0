"""Sound as float32 (channels, samples) at 48 kHz: what its levels are."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

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
