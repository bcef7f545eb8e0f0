"""Echo: less of the late reverberation of a room.

References
----------
K. Lebart et al. (2001), A new method based on spectral subtraction for speech dereverberation.
"""

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound
from kettle_core.sound.stage import FRAME_SAMPLES, RATE_HZ, FrameStage

FloatArray = NDArray[np.float64]
HOP = FRAME_SAMPLES
WINDOW = 2 * HOP
# What comes 50 ms after its cause is heard as the room, not as part of the voice.
LATE_FRAMES = 5
DEEPEST_DB = -18.0
REVERB_LIMITS_S = (0.15, 1.5)
# Reverberation flutters about its mean: some more than the mean is taken.
OVER = 1.5
FIRST_GUESS_S = 0.4
SLOPE_FRAMES = 12
KEPT_SLOPES = 60


class EchoReduction(FrameStage):
    """Lowers what a room adds more than 50 ms after the voice.

    Late reverberation is what was there 50 ms before, fallen by the room's own decay; each
    frequency is lowered by the share of it. The reverberation time is found from how fast
    the sound falls after words.

    Parameters
    ----------
    channels : int
    strength : 0 to 1; 0 leaves the sound as it is but for rounding

    Raises
    ------
    SoundError
        If the strength lies outside 0 to 1.
    """

    delay_samples = HOP

    def __init__(self, channels: int, strength: float) -> None:
        if not 0 <= strength <= 1:
            raise SoundError(f"Echo reduction goes from 0 to 100 %, got {strength:.0%}.")
        super().__init__(channels)
        self._strength = strength
        self._taper = np.sqrt(np.hanning(WINDOW + 1)[:-1])
        self._last = np.zeros((channels, HOP), np.float32)
        self._tail = np.zeros((channels, HOP))
        bins = WINDOW // 2 + 1
        self._power = np.zeros((channels, bins))
        self._past = np.zeros((LATE_FRAMES, channels, bins))
        self._gain = np.ones((channels, bins))
        self._room = _RoomDecay()
        self._floor = 10 ** (DEEPEST_DB * strength / 20)

    @property
    def reverb_s(self) -> float:
        """The reverberation time as found so far, for 60 dB."""
        return self._room.reverb_s

    def _frame(self, frame: Sound) -> Sound:
        window = np.concatenate([self._last, frame], axis=1) * self._taper
        self._last = frame
        spectrum = np.fft.rfft(window)
        power = spectrum.real**2 + spectrum.imag**2
        self._power += 0.5 * (power - self._power)
        decay = 10 ** (-6 * LATE_FRAMES * HOP / RATE_HZ / self.reverb_s)
        late = OVER * self._strength * decay * self._past[0]
        self._past = np.concatenate([self._past[1:], self._power[None]])
        share = np.sqrt(np.maximum(1 - late / (self._power + 1e-15), 0))
        wanted = np.maximum(share, self._floor)
        # A gain that falls slowly and rises fast keeps word beginnings whole.
        speed = np.where(wanted > self._gain, 0.8, 0.35)
        self._gain += speed * (wanted - self._gain)
        self._room.take(float(power.sum()))
        out = np.fft.irfft(spectrum * self._gain, WINDOW) * self._taper
        ready = self._tail + out[:, :HOP]
        self._tail = out[:, HOP:]
        return ready.astype(np.float32)


class _RoomDecay:
    """Finds the reverberation time from the steady falls of the level."""

    def __init__(self) -> None:
        self.reverb_s = FIRST_GUESS_S
        self._levels: list[float] = []
        self._slopes: list[float] = []
        time_s = np.arange(SLOPE_FRAMES) * HOP / RATE_HZ
        self._time_s = time_s - time_s.mean()

    def take(self, energy: float) -> None:
        self._levels = [*self._levels, 10 * np.log10(energy + 1e-9)][-SLOPE_FRAMES:]
        levels = np.array(self._levels)
        if levels.size < SLOPE_FRAMES or levels[0] - levels[-1] < 8 or levels.max() > levels[0] + 1:
            return
        centred = levels - levels.mean()
        slope = float(self._time_s @ centred / (self._time_s @ self._time_s))
        unsteady = float(np.abs(centred - slope * self._time_s).max())
        if slope < 0 and unsteady < 3:
            # A word ends faster than the room: the slow falls are the room's.
            self._slopes = [*self._slopes, -slope][-KEPT_SLOPES:]
            fall = float(np.percentile(self._slopes, 30))
            self.reverb_s = float(np.clip(60 / fall, *REVERB_LIMITS_S))
