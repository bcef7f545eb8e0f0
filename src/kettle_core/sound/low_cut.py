"""Rumble and wind: a low cut that goes as high as it must and no higher."""

import numpy as np

from kettle_core.sound.filters import butterworth, filtered, no_state
from kettle_core.sound.levels import Sound
from kettle_core.sound.stage import FRAME_SAMPLES, RATE_HZ, FrameStage

LOWEST_HZ = 30.0
HIGHEST_HZ = 140.0
STEPS = 12
CUTOFFS_HZ = np.geomspace(LOWEST_HZ, HIGHEST_HZ, STEPS)
# Of a voice 80 Hz and below has at least this much less than what lies above.
VOICE_FALLS_DB = 4.0
RISE_S = 0.15
FALL_S = 1.5


class LowCut(FrameStage):
    """A high-pass of fourth order whose cutoff follows what is too loud below the voice.

    Energy below 80 Hz is set against that of 150 to 1000 Hz: rumble and gusts of wind have more
    of it than any voice. The more there is too much, the higher the cutoff, from 30 to 140 Hz;
    it rises within 0.15 s and falls within 1.5 s.
    """

    frame_samples = 2 * FRAME_SAMPLES

    def __init__(self, channels: int) -> None:
        super().__init__(channels)
        self._sections = [butterworth(4, float(hz), "highpass", RATE_HZ) for hz in CUTOFFS_HZ]
        self._state = no_state(self._sections[0], channels)
        self._low = butterworth(2, 80, "lowpass", RATE_HZ)
        self._mid = butterworth(1, (150, 1000), "bandpass", RATE_HZ)
        self._low_state = no_state(self._low, channels)
        self._mid_state = no_state(self._mid, channels)
        self._low_energy = self._mid_energy = 1e-9
        self._height = 0.0
        self._used = 0

    def _frame(self, frame: Sound) -> Sound:
        low, self._low_state = filtered(self._low, frame, self._low_state)
        mid, self._mid_state = filtered(self._mid, frame, self._mid_state)
        self._low_energy += 0.2 * (float(np.mean(low * low)) - self._low_energy)
        self._mid_energy += 0.2 * (float(np.mean(mid * mid)) - self._mid_energy)
        too_much_db = VOICE_FALLS_DB + 10 * np.log10(
            (self._low_energy + 1e-9) / (self._mid_energy + 1e-9)
        )
        # 12 dB too much need the whole way.
        wanted = float(np.clip(too_much_db / 12, 0, 1)) if self._low_energy > 1e-8 else 0.0
        step = self.frame_samples / RATE_HZ / (RISE_S if wanted > self._height else FALL_S)
        self._height += float(np.clip(wanted - self._height, -step, step))
        before, self._used = self._used, round(self._height * (STEPS - 1))
        out, state = filtered(self._sections[self._used], frame, self._state)
        if before != self._used:
            # The old cutoff fades over to the new one within the frame: no click.
            old, _ = filtered(self._sections[before], frame, self._state)
            fade = np.linspace(0, 1, frame.shape[1])
            out = old + (out - old) * fade
        self._state = state
        return out.astype(np.float32)
