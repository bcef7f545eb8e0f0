"""Sound made shorter or longer at the same pitch."""

from fractions import Fraction

import numpy as np
from python_stretch.Signalsmith import Stretch

from kettle_core.sound.levels import Sound

SEED = 1


def stretched(sound: Sound, speed: Fraction, hz: int, samples: int) -> Sound:
    """A sound at another speed, at the same pitch.

    Parameters
    ----------
    sound : (channels, N)
    speed : how many times as fast
    hz : its sample rate
    samples : how long it becomes, near to N / speed

    Returns
    -------
    Sound
        (channels, samples); the same for the same sound.
    """
    stretch = Stretch(SEED)
    stretch.preset(sound.shape[0], float(hz))
    stretch.setTimeFactor(float(speed))
    made = np.asarray(stretch.process(np.ascontiguousarray(sound, np.float32)), np.float32)
    short = samples - made.shape[1]
    return np.pad(made, ((0, 0), (0, short))) if short > 0 else made[:, :samples]
