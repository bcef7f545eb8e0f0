"""The phase transform: what two sounds have in common stands at one lag, however faint.

References
----------
C. Knapp and G. Carter (1976), The generalized correlation method for estimation of time delay.
"""

import numpy as np
from numpy.typing import NDArray

LOWEST_HZ, HIGHEST_HZ = 80.0, 12_000.0
Spectrum = NDArray[np.complexfloating]


def whitened_cross(
    ours: Spectrum, theirs: Spectrum, step_hz: float, lowest_hz: float, highest_hz: float
) -> Spectrum:
    """The cross spectrum of two sounds with every frequency as loud as the others.

    Parameters
    ----------
    ours, theirs : (N,) complex ndarrays, from `rfft`
    step_hz : float, between two of their frequencies
    lowest_hz, highest_hz : float; outside it is 0

    Returns
    -------
    (N,) complex ndarray
        Its `irfft` has a peak at the lag of `theirs` behind `ours`.
    """
    cross = theirs * np.conj(ours)
    loud = np.abs(cross)
    cross /= np.maximum(loud, max(float(loud.max(initial=0.0)) * 1e-9, 1e-20))
    hertz = np.arange(cross.size) * step_hz
    cross[(hertz < lowest_hz) | (hertz > highest_hz)] = 0
    return cross


def parabolic_offset(values: NDArray[np.floating], peak: int) -> float:
    """How far a peak lies from its highest value, -0.5 to 0.5, by the parabola through three."""
    if not 0 < peak < values.size - 1:
        return 0.0
    before, at, after = values[peak - 1 : peak + 2]
    bend = before - 2 * at + after
    return float(0.5 * (before - after) / bend) if bend else 0.0
