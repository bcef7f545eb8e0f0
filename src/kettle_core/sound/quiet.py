"""Quiet stretches: where nobody says anything, by the level of the voice."""

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound.levels import db_to_ratio
from kettle_core.timing.ticks import runs

BELOW_DBFS, FOR_S = -46.0, 0.8
# A knock, a click of the tongue: nothing that is said is so short.
SHORTEST_VOICE_STEPS = 8


def quiet_stretches(
    rms: NDArray[np.floating], below_dbfs: float, least_steps: int
) -> list[tuple[int, int]]:
    """Stretches in which a sound stays below a level, in steps.

    Parameters
    ----------
    rms : (N,) RMS of each step of the sound, full scale is 1.0
    below_dbfs : what is quiet, in dBFS
    least_steps : how long a stretch lasts at least

    Returns
    -------
    list of (int, int), half-open, rising
        What is louder for less than `SHORTEST_VOICE_STEPS` ends no stretch.

    >>> quiet_stretches(np.r_[np.ones(9), np.zeros(4), 1.0, np.zeros(5)], -46.0, 3)
    [(9, 19)]
    """
    quiet = rms < db_to_ratio(below_dbfs)
    for start, end in runs(~quiet):
        if end - start < SHORTEST_VOICE_STEPS:
            quiet[start:end] = True
    return [(int(a), int(b)) for a, b in runs(quiet) if b - a >= least_steps]
