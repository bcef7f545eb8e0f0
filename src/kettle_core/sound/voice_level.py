"""How loud a voice is, and which gain it needs."""

from dataclasses import dataclass

import numpy as np

from kettle_core.sound.levels import CLIP_LEVEL, SILENCE_DBFS, Sound, ratio_to_db
from kettle_core.sound.voice import (
    FRAMES_PER_S,
    energy_to_dbfs,
    find_voice,
    frame_energy,
    measure_voice_and_noise,
)

GAIN_LIMITS_DB = (-20.0, 30.0)
DELAY_LIMITS_MS = (-500.0, 500.0)
# Loud syllables are brought here: 15 dB are left for a laugh or a knock.
VOICE_TARGET_DBFS = -15.0
PEAK_CEILING_DBFS = -3.0
LEAST_VOICE_S = 2.0


@dataclass(frozen=True)
class VoiceLevel:
    """What some seconds of speech measured.

    `voice_dbfs` is the RMS of the loud half of the speech, `floor_dbfs` of the pauses;
    `voice_s` is how long there was speech, `clipped_samples` how many were at full scale.
    """

    voice_dbfs: float
    floor_dbfs: float
    peak_dbfs: float
    voice_s: float
    clipped_samples: int


def measure_voice(sound: Sound) -> VoiceLevel:
    """Level of speech, of a (channels, N) sound at 48 kHz."""
    spoken, energy = find_voice(sound), frame_energy(sound)
    loud = np.sort(energy[: spoken.size][spoken])[int(spoken.sum()) // 2 :]
    peak = np.abs(sound)
    return VoiceLevel(
        energy_to_dbfs(float(loud.mean())) if loud.size else SILENCE_DBFS,
        measure_voice_and_noise(energy, spoken).noise_floor_dbfs,
        ratio_to_db(float(peak.max(initial=0.0))),
        float(spoken.sum() / FRAMES_PER_S),
        int(np.count_nonzero(peak >= CLIP_LEVEL)),
    )


def propose_gain_db(level: VoiceLevel) -> float | None:
    """Gain that brings a voice to its target without its peaks going over -3 dBFS.

    Returns
    -------
    float or None
        In steps of 0.5 dB within the limits; None where too little was said to tell.
    """
    if level.voice_s < LEAST_VOICE_S:
        return None
    wanted = min(VOICE_TARGET_DBFS - level.voice_dbfs, PEAK_CEILING_DBFS - level.peak_dbfs)
    low, high = GAIN_LIMITS_DB
    return float(min(max(np.floor(wanted * 2) / 2, low), high))
