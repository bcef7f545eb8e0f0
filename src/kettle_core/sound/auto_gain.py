"""Automatic gain: a voice at one loudness, whether it leans back or in."""

import numpy as np

from kettle_core.errors import SoundError
from kettle_core.sound.filters import filtered, no_state
from kettle_core.sound.levels import Sound, db_to_ratio
from kettle_core.sound.loudness import k_weighting
from kettle_core.sound.stage import FRAME_SAMPLES, RATE_HZ, FrameStage
from kettle_core.sound.voice import VoiceDetector

TARGET_LIMITS_LUFS = (-36.0, -14.0)
MEMORY_S = 3.0
LEAST_LUFS = -55.0


class AutoGain(FrameStage):
    """Brings a voice to a loudness, slowly, and holds still in the pauses.

    The loudness of the last three seconds of speech (K-weighted, pauses left out) is set
    against the target; the gain goes there no faster than `speed_db_per_s` and never leaves
    its range. It begins at the fixed gain of 0 dB.

    Parameters
    ----------
    channels : int
    target_lufs : float, -36 to -14
    range_db : float, how far the gain may go up and down
    speed_db_per_s : float; down it goes twice as fast

    Raises
    ------
    SoundError
        If the target lies outside its limits.
    """

    frame_samples = 2 * FRAME_SAMPLES

    def __init__(
        self,
        channels: int,
        target_lufs: float = -18.0,
        range_db: float = 12.0,
        speed_db_per_s: float = 2.0,
    ) -> None:
        low, high = TARGET_LIMITS_LUFS
        if not low <= target_lufs <= high:
            raise SoundError(
                f"Automatic gain aims at {low:g} to {high:g} LUFS, got {target_lufs:g}."
            )
        super().__init__(channels)
        self._target_lufs = target_lufs
        self._range_db = range_db
        self._step_db = speed_db_per_s * self.frame_samples / RATE_HZ
        self._sections = k_weighting(RATE_HZ)
        self._state = no_state(self._sections, channels)
        self._detector = VoiceDetector()
        self._energy = 0.0
        self._heard = 0
        self.gain_db = 0.0

    def _frame(self, frame: Sound) -> Sound:
        weighted, self._state = filtered(self._sections, frame, self._state)
        energy = float(np.sum(np.mean(weighted * weighted, axis=1)))
        before = self.gain_db
        voice = bool(self._detector.process(frame).all())
        if voice and energy > 10 ** ((LEAST_LUFS + 0.691) / 10):
            self._heard += 1
            share = 1 / min(self._heard, MEMORY_S * RATE_HZ / self.frame_samples)
            self._energy += share * (energy - self._energy)
            # A first half second is needed to know the voice.
            if self._heard >= 25:
                self._move()
        gain = np.linspace(before, self.gain_db, frame.shape[1] + 1)[1:]
        if before == self.gain_db:
            return np.asarray(frame * np.float32(db_to_ratio(before)), np.float32)
        return np.asarray(frame * (10 ** (gain / 20)), np.float32)

    def _move(self) -> None:
        lufs = -0.691 + 10 * np.log10(self._energy + 1e-15)
        wanted = float(np.clip(self._target_lufs - lufs, -self._range_db, self._range_db))
        way = float(np.clip(wanted - self.gain_db, -2 * self._step_db, self._step_db))
        self.gain_db += way
