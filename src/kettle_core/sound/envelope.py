"""A waveform at levels of detail: least, greatest and RMS sample of every few."""

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound

# Samples at 48 kHz that one value of the finest level stands for: 5 ms.
STEP_SAMPLES = 240
# A level is so many times coarser than the one before.
FACTOR = 4
LEVELS = 5
# In 1/32767 of full scale; what lies beyond is at the end of the scale.
FULL_SCALE = 32767
ENVELOPE = np.dtype([("least", "<i2"), ("most", "<i2"), ("rms", "<u2")])
Envelope = NDArray[np.void]


def envelope_of(sound: Sound, edges: NDArray[np.int64]) -> Envelope:
    """Least, greatest and RMS sample of each stretch of a sound, over all its channels.

    Parameters
    ----------
    sound : (channels, samples) float32, full scale is 1.0
    edges : (N + 1,) int64, not falling; stretch n is [edges[n], edges[n + 1])

    Returns
    -------
    (N,) structured ndarray of dtype ENVELOPE
        Zeros where a stretch is empty.

    Raises
    ------
    SoundError
        If an edge lies outside of the sound, or before the one before it.
    """
    made = np.zeros(max(0, edges.size - 1), ENVELOPE)
    if not made.size:
        return made
    if edges[0] < 0 or edges[-1] > sound.shape[1] or (np.diff(edges) < 0).any():
        raise SoundError(
            f"Edges must rise within 0 to {sound.shape[1]} samples, got {edges[0]} to {edges[-1]}."
        )
    lengths = np.diff(edges)
    full = lengths > 0
    starts = edges[:-1][full]
    if not starts.size:
        return made
    used = sound[:, : edges[-1]]
    made["least"][full] = _scaled(np.minimum.reduceat(used.min(axis=0), starts))
    made["most"][full] = _scaled(np.maximum.reduceat(used.max(axis=0), starts))
    power = np.add.reduceat((used.astype(np.float64) ** 2).mean(axis=0), starts)
    made["rms"][full] = _scaled(np.sqrt(power / lengths[full]))
    return made


def _scaled(values: NDArray[np.floating]) -> NDArray[np.int64]:
    scaled = np.rint(np.asarray(values, np.float64) * FULL_SCALE)
    return np.asarray(np.clip(scaled, -FULL_SCALE, FULL_SCALE), np.int64)


def coarser(fine: Envelope, factor: int = FACTOR) -> Envelope:
    """The level above: each value stands for `factor` of the finer ones, the last for the rest."""
    if not fine.size:
        return fine
    starts = np.arange(0, fine.size, factor)
    made = np.zeros(starts.size, ENVELOPE)
    made["least"] = np.minimum.reduceat(fine["least"], starts)
    made["most"] = np.maximum.reduceat(fine["most"], starts)
    power = np.add.reduceat(fine["rms"].astype(np.float64) ** 2, starts)
    made["rms"] = np.rint(np.sqrt(power / np.diff(np.r_[starts, fine.size])))
    return made


def levels_of(finest: Envelope, count: int = LEVELS) -> list[Envelope]:
    """A level and those above it, each `FACTOR` times coarser."""
    levels = [finest]
    while len(levels) < count:
        levels.append(coarser(levels[-1]))
    return levels
