"""Gain, downmix, pan and delay of a sound."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound, db_to_ratio
from kettle_core.sound.stage import RATE_HZ, FrameStage

Downmix = Literal["stereo", "sum", "mid", "left", "right"]
DOWNMIXES: tuple[Downmix, ...] = ("stereo", "sum", "mid", "left", "right")
_SHARES: dict[str, tuple[float, float]] = {
    "sum": (0.5**0.5, 0.5**0.5),
    "mid": (0.5, 0.5),
    "left": (1.0, 0.0),
    "right": (0.0, 1.0),
}
TAPS = 64


def downmixed(sound: Sound, how: Downmix) -> Sound:
    """One channel of two, repeated so that the channel count stays.

    "sum" adds both at -3 dB: two different sounds keep their power. "mid" is their mean: one
    sound that is in both keeps its level. "stereo" and a mono sound stay as they are.

    Parameters
    ----------
    sound : (1 or 2, samples) float32 ndarray

    Returns
    -------
    ndarray of the same shape
    """
    if how == "stereo" or sound.shape[0] == 1:
        return sound
    left, right = _SHARES[how]
    one = np.float32(left) * sound[0] + np.float32(right) * sound[1]
    return np.repeat(one[None], 2, axis=0)


def with_gain(sound: Sound, gain_db: float) -> Sound:
    """A sound with a gain in dB."""
    return sound * np.float32(db_to_ratio(gain_db)) if gain_db else sound


def panned(sound: Sound, pan: float) -> Sound:
    """A mono sound placed between left (-1) and right (1) at constant power, (2, samples).

    In the middle both channels have it at full level, as a mono sound in a stereo mix does.

    Raises
    ------
    SoundError
        If `pan` lies outside -1 to 1.
    """
    if not -1 <= pan <= 1:
        raise SoundError(f"Pan lies between -100 % (left) and 100 % (right), got {pan:.0%}.")
    angle = (pan + 1) * np.pi / 4
    law = np.sqrt(2) * np.array([np.cos(angle), np.sin(angle)])
    return np.asarray(sound.mean(axis=0, keepdims=True) * law[:, None], dtype=np.float32)


class Delay(FrameStage):
    """Makes a sound later (or earlier, below 0 ms), to a fraction of a sample.

    A windowed sinc of 64 taps: flat within 0.01 dB up to 20 kHz. What is moved beyond the end
    is lost, silence comes in at the start.
    """

    def __init__(self, channels: int, delay_ms: float, rate_hz: int = RATE_HZ) -> None:
        super().__init__(channels)
        samples = delay_ms / 1000 * rate_hz
        whole = int(np.floor(samples + 1e-9))
        self._taps = fraction_taps(samples - whole)
        past = max(TAPS - 1, whole + TAPS // 2)
        self.delay_samples = max(0, TAPS // 2 - 1 - whole)
        self._history = np.zeros((channels, past), np.float32)

    def _frame(self, frame: Sound) -> Sound:
        joined = np.concatenate([self._history, frame], axis=1)
        self._history = joined[:, frame.shape[1] :]
        used = joined[:, : frame.shape[1] + TAPS - 1]
        return np.stack([np.convolve(x, self._taps, "valid") for x in used]).astype(np.float32)


def fraction_taps(part: float) -> NDArray[np.float64]:
    """A filter that makes a sound later by a part of a sample, 0 to 1: (TAPS,).

    `np.convolve(x, taps, "valid")[n]` is x at the place n + TAPS / 2 - part.
    """
    places = np.arange(TAPS) - (TAPS // 2 - 1) - part
    window = np.kaiser(2 * TAPS + 1, 9.0)
    shape = np.interp(places / (TAPS / 2), np.linspace(-1, 1, window.size), window)
    taps = np.sinc(places) * shape
    return np.asarray(taps / taps.sum())
