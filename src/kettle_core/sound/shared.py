"""One voice in two inputs: heard together they sound hollow."""

from dataclasses import dataclass

import numpy as np

from kettle_core.sound.levels import Sound
from kettle_core.sound.offset import LEAST_S, find_offset
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.voice import find_voice, frame_energy

# Later than this the two are heard as an echo, not as one hollow voice; sooner no room is.
MOST_LAG_MS = 80.0
# A voice that is this much fainter in the other input does no harm.
FAINTEST_DB = -30.0


@dataclass(frozen=True)
class SharedVoice:
    """How the voice of one sound lies in another: how much later, and how loud against it."""

    lag_ms: float
    level_db: float


def find_shared_voice(first: Sound, second: Sound) -> SharedVoice | None:
    """Whether the voice of one input is in another one as well.

    Parameters
    ----------
    first, second : (channels, N) float32 ndarrays at 48 kHz, of the same seconds

    Returns
    -------
    SharedVoice or None
        None where they share nothing, or so little, so late, that a mix does not suffer.
    """
    length = min(first.shape[1], second.shape[1])
    if length < LEAST_S * RATE_HZ:
        return None
    ours, theirs = first[:, :length], second[:, :length]
    found = find_offset(ours.mean(axis=0), theirs.mean(axis=0), RATE_HZ)
    spoken = find_voice(ours)
    if found is None or not spoken.any() or abs(found.offset_ms) > MOST_LAG_MS:
        return None
    energies = [frame_energy(x)[: spoken.size][spoken].mean() for x in (ours, theirs)]
    level_db = float(10 * np.log10((energies[1] + 1e-12) / (energies[0] + 1e-12)))
    return SharedVoice(found.offset_ms, level_db) if level_db > FAINTEST_DB else None
