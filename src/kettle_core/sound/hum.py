"""Mains hum: found by the comb of its harmonics, taken out by following each of them.

References
----------
B. Widrow et al. (1975), Adaptive noise cancelling: principles and applications (the notch that
two weights make).
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound.filters import thinned
from kettle_core.sound.levels import SILENCE_DBFS, Sound
from kettle_core.sound.stage import FRAME_SAMPLES, RATE_HZ, FrameStage

FloatArray = NDArray[np.float64]
MAINS_HZ = (50.0, 60.0)
# Power grids stay within half a hertz; a recorder's clock adds a thousandth of that.
REACH_HZ = 0.6
HIGHEST_HZ = 1600.0
STANDS_OUT_DB = 7.0
LEAST_S = 4.0
# Windows are four times as long as the way from one to the next.
HOP_S = 0.5
SETTLE_S = 6.0
SURE = 0.35
# A line by itself: how far it stands out, and how evenly its phase turns from window to window.
ONE_LINE_DB, STEADY, FEW_LINES = 15.0, 0.9, 3


@dataclass(frozen=True)
class Harmonic:
    """A harmonic's number (1 is the mains frequency) and its level in dBFS (RMS)."""

    number: int
    level_dbfs: float


@dataclass(frozen=True)
class Hum:
    """Hum that was found: its frequency, how sure that is (0 to 1), what stands out of it."""

    frequency_hz: float
    sure: float
    harmonics: tuple[Harmonic, ...]

    @property
    def level_dbfs(self) -> float:
        """All harmonics together (RMS)."""
        power = sum(10 ** (h.level_dbfs / 10) for h in self.harmonics)
        return float(10 * np.log10(power)) if power else SILENCE_DBFS


def find_hum(sound: Sound, mains_hz: float | None = None) -> Hum | None:
    """Find mains hum in a sound.

    The median of many spectra shows what is always there; a comb of narrow lines in it at
    multiples of 50 or 60 Hz is hum. Combs at other frequencies tell how much evidence the sound
    gives to just any comb. The frequency comes from how the lines' phases turn.

    Parameters
    ----------
    sound : (channels, N) float32 ndarray at 48 kHz, 4 s at least
    mains_hz : look at 50 or 60 only; None for both

    Returns
    -------
    Hum or None
        None where there is none, or too little to tell.
    """
    mono = sound.mean(axis=0, dtype=np.float64)
    if mono.size < LEAST_S * RATE_HZ or not np.any(mono):
        return None
    rate_hz = RATE_HZ // 12
    slow = thinned(thinned(mono, 4), 3)
    size = round(4 * HOP_S * rate_hz)
    windows = np.lib.stride_tricks.sliding_window_view(slow, size)[:: size // 4]
    taper = np.hanning(size + 1)[:-1]
    spectra = np.fft.rfft(windows * taper, 4 * size)
    # Of stretches with voice there are many: the quieter half shows what is always there.
    loud = (windows**2).mean(axis=1)
    power = np.median(np.abs(spectra[loud <= np.median(loud)]) ** 2, axis=0)
    level = 10 * np.log10(power + 1e-14)
    from scipy.ndimage import median_filter  # half a second to import

    rise = level - median_filter(level, 8 * 17 + 1, mode="nearest")
    per_hz = 4 * size / rate_hz
    best = max(
        (_best_comb(rise, per_hz, near) for near in MAINS_HZ if mains_hz in (None, near)),
        key=lambda found: found[0],
    )
    others = [_best_comb(rise, per_hz, f)[0] for f in (43.1, 46.4, 53.3, 56.3, 63.7, 67.4)]
    evidence, coarse_hz = best
    standing = [
        n
        for n in range(1, int(HIGHEST_HZ / coarse_hz) + 1)
        if _line(rise, per_hz, n * coarse_hz) > STANDS_OUT_DB
    ]
    if not standing:
        return _one_line(spectra, power, rise, per_hz, size, mains_hz) if mains_hz else None
    frequency_hz = _fine_frequency(spectra, power, per_hz, HOP_S, coarse_hz, standing)
    sure = float(np.clip((evidence - max(*others, 10.0)) / 60.0, 0, 1))
    if mains_hz and sure < SURE:
        return _one_line(spectra, power, rise, per_hz, size, mains_hz)
    # A comb beside the band pulls the coarse search to its edge, not the phases.
    if sure < SURE or abs(frequency_hz - coarse_hz) > 0.1:
        return None
    return Hum(frequency_hz, sure, _harmonics(power, per_hz, size, frequency_hz, standing))


def _harmonics(
    power: FloatArray, per_hz: float, size: int, frequency_hz: float, standing: list[int]
) -> tuple[Harmonic, ...]:
    # A Hann window's peak is half its length high; a line's power is half its square.
    scale = 2 / (size / 2) ** 2
    lines = ((n, _line(power, per_hz, n * frequency_hz) * scale) for n in standing)
    return tuple(Harmonic(n, 10 * float(np.log10(line))) for n, line in lines)


def _one_line(
    spectra: NDArray[np.complex128],
    power: FloatArray,
    rise: FloatArray,
    per_hz: float,
    size: int,
    mains_hz: float,
) -> Hum | None:
    """Hum of few lines, or of one, where somebody has named its frequency.

    A line of music is where it is for a while; this one is always there, as narrow as a window
    shows it, and its phase turns as evenly as a grid's.
    """
    found = [
        (_line(rise, per_hz, n * f), n, float(f))
        for n in range(1, FEW_LINES + 1)
        for f in np.arange(mains_hz - REACH_HZ, mains_hz + REACH_HZ, 0.01)
    ]
    stands_db, number, coarse_hz = max(found)
    if stands_db < ONE_LINE_DB:
        return None
    line = spectra[:, round(number * coarse_hz * per_hz)]
    turned = line[1:] * np.conj(line[:-1])
    steady = float(np.abs(turned.sum()) / np.abs(turned).sum())
    if steady < STEADY:
        return None
    standing = [
        n
        for n in range(1, int(HIGHEST_HZ / coarse_hz) + 1)
        if n == number or _line(rise, per_hz, n * coarse_hz) > ONE_LINE_DB
    ]
    frequency_hz = _fine_frequency(spectra, power, per_hz, HOP_S, coarse_hz, [number])
    if abs(frequency_hz - mains_hz) > REACH_HZ:
        return None
    return Hum(frequency_hz, SURE, _harmonics(power, per_hz, size, frequency_hz, standing))


def _line(values: FloatArray, per_hz: float, frequency_hz: float) -> float:
    at = round(frequency_hz * per_hz)
    return float(values[max(at - 2, 0) : at + 3].max())


def _best_comb(rise: FloatArray, per_hz: float, near_hz: float) -> tuple[float, float]:
    """Evidence in dB and frequency of the best comb near a frequency."""
    best = (0.0, near_hz)
    for frequency_hz in np.arange(near_hz - REACH_HZ, near_hz + REACH_HZ, 0.01):
        numbers = np.arange(1, int(HIGHEST_HZ / frequency_hz) + 1)
        places = np.round(numbers * frequency_hz * per_hz).astype(np.int64)
        lines = np.clip(rise[places] - STANDS_OUT_DB, 0, 18)
        # One line alone may be a tone of music; low harmonics are the strong ones.
        evidence = float((lines / np.sqrt(numbers)).sum()) * (np.count_nonzero(lines) > 1)
        best = max(best, (evidence * 1.5, float(frequency_hz)))
    return best


def _fine_frequency(
    spectra: NDArray[np.complex128],
    power: FloatArray,
    per_hz: float,
    hop_s: float,
    coarse_hz: float,
    standing: list[int],
) -> float:
    """The frequency from the turn of the lines' phases from window to window."""
    found, weights = [], []
    for number in standing:
        at = round(number * coarse_hz * per_hz)
        line = spectra[:, at]
        turn = np.angle(np.sum(line[1:] * np.conj(line[:-1])))
        expected = 2 * np.pi * number * coarse_hz * hop_s
        off = np.angle(np.exp(1j * (turn - expected)))
        found.append(coarse_hz + off / (2 * np.pi * hop_s * number))
        weights.append(number**2 * np.sqrt(power[at]))
    return float(np.average(found, weights=weights))


class HumFilter(FrameStage):
    """Takes out a hum by following the amplitude and phase of each of its harmonics.

    Each harmonic is a pair of slow weights, which amounts to a notch of two thirds of a
    hertz; while somebody speaks the weights hardly move, so that a voice's own tones stay.
    The frequency follows the phases. Without a beginning to learn from, it looks for hum in
    what comes in: after four seconds, then every four seconds until it has found one.

    Parameters
    ----------
    channels : int
    mains_hz : 50 or 60, or None for both
    heard : (channels, N) float32 ndarray, the beginning of the sound that will come, so that
        its first sample is clean already; None to look

    Attributes
    ----------
    hum : Hum or None, what was found
    """

    SETTLED_S = 0.5
    FOLLOW_S = 1.0

    def __init__(
        self, channels: int, mains_hz: float | None = None, heard: Sound | None = None
    ) -> None:
        super().__init__(channels)
        self.hum: Hum | None = None
        self._mains_hz = mains_hz
        self._heard: list[Sound] = []
        self._n = np.arange(FRAME_SAMPLES) / RATE_HZ
        self._floor = np.inf
        self._weights = np.zeros((channels, 0), np.complex128)
        self._phase = np.zeros(0)
        hum = None if heard is None else find_hum(heard, mains_hz)
        if hum and heard is not None:
            self._begin(hum)
            self._settle(heard)

    def _settle(self, heard: Sound) -> None:
        """Learn amplitudes and phases by going through the beginning from its end to its start."""
        frames = min(round(SETTLE_S * RATE_HZ), heard.shape[1]) // FRAME_SAMPLES
        backwards = heard[:, : frames * FRAME_SAMPLES][:, ::-1]
        for at in range(0, backwards.shape[1], FRAME_SAMPLES):
            self._frame(backwards[:, at : at + FRAME_SAMPLES])
        # One sample lies between the last one backwards and the first one forwards.
        turn = self._phase - 2 * np.pi * self._frequency_hz * self._numbers / RATE_HZ
        self._weights = np.conj(self._weights * np.exp(1j * turn))
        self._before = self._weights.copy()
        self._phase = np.zeros(self._numbers.size)

    def _begin(self, hum: Hum) -> None:
        self.hum = hum
        self._frequency_hz = hum.frequency_hz
        self._numbers = np.array([h.number for h in hum.harmonics])
        self._weights = np.zeros((self._channels, self._numbers.size), np.complex128)
        self._phase = np.zeros(self._numbers.size)
        self._before = self._weights.copy()
        self._frames = 0
        self._set_tones()

    def _set_tones(self) -> None:
        turns = 2j * np.pi * self._frequency_hz * np.outer(self._numbers, self._n)
        self._tones = np.exp(turns)

    def _frame(self, frame: Sound) -> Sound:
        if self.hum is None:
            self._look_for_hum(frame)
            return frame
        tones = self._tones * np.exp(1j * self._phase)[:, None]
        left = frame - (self._weights @ tones).real
        error = 2 / FRAME_SAMPLES * (left @ np.conj(tones).T)
        energy = float(np.mean(np.square(left)))
        # The floor falls at once and rises by 3 dB a second.
        self._floor = max(min(energy, self._floor * 1.007), 1e-12)
        calm = min(1.0, 2 * self._floor / (energy + 1e-15))
        time_s = min(max((self._frames + 1) * 0.01, 0.1), self.SETTLED_S)
        self._weights = self._weights + error * (0.01 / time_s * calm)
        self._phase = (
            self._phase + 2 * np.pi * self._frequency_hz * self._numbers * (FRAME_SAMPLES / RATE_HZ)
        ) % (2 * np.pi)
        self._frames += 1
        if self._frames % 50 == 0:
            self._follow()
        return np.asarray(left, np.float32)

    def _follow(self) -> None:
        """Move the frequency by what the weights turned in the last half second."""
        turned = np.sum(self._weights * np.conj(self._before), axis=0)
        if self._frames >= 150:
            size = np.abs(turned)
            off_hz = np.angle(turned) / (2 * np.pi * 0.5 * self._numbers)
            weight = size * self._numbers**2
            if weight.sum() > 0:
                step = float(np.average(off_hz, weights=weight)) * 0.5 / self.FOLLOW_S
                self._frequency_hz += float(np.clip(step, -0.01, 0.01))
                self._set_tones()
        self._before = self._weights.copy()

    def _look_for_hum(self, frame: Sound) -> None:
        self._heard.append(frame)
        if len(self._heard) * FRAME_SAMPLES < LEAST_S * RATE_HZ:
            return
        found = find_hum(np.concatenate(self._heard, axis=1), self._mains_hz)
        self._heard = []
        if found:
            self._begin(found)
