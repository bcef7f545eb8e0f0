"""Which steps of its chain a voice needs, from what was heard of it."""

from dataclasses import dataclass, replace

from kettle_core.sound.hum import Hum
from kettle_core.sound.tone import Tone
from kettle_core.sound.voice import VoiceAndNoise

# Voice to noise in dB below which so many % of noise suppression are proposed.
SUPPRESSION_BELOW = ((12.0, 100), (20.0, 90), (28.0, 75), (38.0, 50))
LEAST_VOICE_S = 2.0


@dataclass(frozen=True)
class Proposal:
    """A tone and why it is so, a short sentence for each step."""

    tone: Tone
    reasons: tuple[str, ...]


def propose_tone(tone: Tone, heard: VoiceAndNoise, hum: Hum | None) -> Proposal | None:
    """The chain that a voice needs; None where too little was said to tell.

    Nothing is proposed against what is not there: a clean voice keeps its sound and gets a
    limiter only.
    """
    if heard.voice_s < LEAST_VOICE_S:
        return None
    reasons = []
    if hum:
        reasons.append(f"Hum of {hum.frequency_hz:.2f} Hz is in it: the hum filter takes it out.")
    ratio_db = heard.voice_to_noise_db
    strength = next((s for below, s in SUPPRESSION_BELOW if ratio_db < below), 0)
    if strength:
        reasons.append(
            f"The voice is {ratio_db:.0f} dB over the noise: {strength} % of noise suppression."
        )
    else:
        reasons.append(f"The voice is {ratio_db:.0f} dB over the noise: that is clean.")
    reasons.append("A limiter at −1 dBTP keeps a laugh from clipping.")
    made = replace(
        tone,
        hum="auto" if hum else "off",
        suppression=strength,
        low_cut=bool(strength or hum),
        limiter=True,
    )
    return Proposal(made, tuple(reasons))
