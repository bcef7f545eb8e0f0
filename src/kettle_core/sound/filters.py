"""Recursive filters and thinning out, by `scipy.signal`.

The library is loaded when it is first used: that takes a second or two, which every command would
spend that only names a sound.
"""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def load() -> None:
    """Load the library now, where nobody waits for it."""
    butterworth(1, 100.0, "lowpass", 48_000)


def no_state(sections: FloatArray, channels: int) -> FloatArray:
    """The state of a filter that has heard nothing, for `filtered`."""
    return np.zeros((len(sections), channels, 2))


def filtered(
    sections: FloatArray, block: NDArray[np.floating], state: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """A block through second-order sections, and the state after it.

    Parameters
    ----------
    sections : (S, 6) float64 ndarray
    block : (channels, N) ndarray
    state : (S, channels, 2) float64 ndarray
    """
    from scipy.signal import sosfilt

    if not block.shape[1]:
        return np.zeros(block.shape), state
    out, after = sosfilt(sections, block, axis=1, zi=state)
    return np.asarray(out), np.asarray(after)


def butterworth(
    order: int,
    hertz: float | tuple[float, float],
    kind: Literal["lowpass", "highpass", "bandpass"],
    rate_hz: int,
) -> FloatArray:
    """Second-order sections of a Butterworth filter."""
    from scipy.signal import butter

    return np.asarray(butter(order, hertz, kind, fs=rate_hz, output="sos"))


def thinned(sound: NDArray[np.floating], factor: int) -> NDArray[np.floating]:
    """Every so many samples of a mono sound, after a low-pass of linear phase."""
    from scipy.signal import decimate

    return np.asarray(decimate(sound, factor, ftype="fir")) if factor > 1 else sound
