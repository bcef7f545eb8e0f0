"""Any inputs to any tracks and to the mix, and samples of 16 or 24 bits."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound, db_to_ratio, to_channels


def mix_sounds(sounds: Sequence[tuple[Sound, float]], samples: int, channels: int = 2) -> Sound:
    """Add sounds with their gains.

    Parameters
    ----------
    sounds : pairs of a (1 or 2, samples) float32 ndarray and a gain in dB
    samples : int, the length all sounds have
    channels : 1 or 2

    Returns
    -------
    (channels, samples) float32 ndarray

    Raises
    ------
    SoundError
        If a sound has another length.
    """
    mixed = np.zeros((channels, samples), np.float32)
    for sound, gain_db in sounds:
        if sound.shape[1] != samples:
            raise SoundError(f"A mix of {samples} samples got a sound of {sound.shape[1]}.")
        mixed += to_channels(sound, channels) * np.float32(db_to_ratio(gain_db))
    return mixed


def to_integers(
    sound: Sound, bits: int, rng: np.random.Generator | None = None
) -> NDArray[np.int32]:
    """Samples of 16 or 24 bits, with triangular dither of ±1 step where `rng` is given.

    Dither makes the error of rounding a steady faint noise instead of a distortion; digital
    silence stays silent.

    References
    ----------
    S. Lipshitz, R. Wannamaker, J. Vanderkooy (1992), Quantization and dither: a theoretical
    survey.

    Raises
    ------
    SoundError
        If `bits` is neither 16 nor 24.
    """
    if bits not in (16, 24):
        raise SoundError(f"Sound files have 16 or 24 bits, got {bits}.")
    full = 2.0 ** (bits - 1)
    scaled = sound.astype(np.float64) * full
    if rng is not None:
        noise = rng.random(sound.shape) - rng.random(sound.shape)
        scaled += noise * (sound != 0)
    return np.clip(np.rint(scaled), -full, full - 1).astype(np.int32)
