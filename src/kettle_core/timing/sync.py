"""How far tracks are apart, from what is in them: sound with sound, picture with sound."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TimingError
from kettle_core.timing.phat import HIGHEST_HZ, parabolic_offset, whitened_cross

FloatArray = NDArray[np.floating]
WINDOW_S = 0.4
SAME_LAG_S = 0.001
FLOOR_RATIO = 10 ** (-50 / 20)
GRID_HZ = 240


@dataclass(frozen=True)
class Lag:
    """How much later `other` is than the reference (positive: late).

    `agreement` is 0 to 1: how far the correlation stands out. `sure` says whether it may be
    used for a correction.
    """

    lag_ms: float
    agreement: float
    sure: bool


class LagSum:
    """Lag of one sound against another that shares something with it, from several places.

    Generalised cross-correlation with phase transform in short windows, added up: what is
    shared stands at one lag in all of them, however faint, and the rest averages out. Only
    frequencies that the other really has are looked at. It is sure when no other lag stands
    nearly as high. They may be `max_lag_s` apart.

    References
    ----------
    C. Knapp and G. Carter (1976), The generalized correlation method for estimation of
    time delay.
    """

    def __init__(self, sample_rate_hz: int, max_lag_s: float = 0.15) -> None:
        self._rate_hz = sample_rate_hz
        self._reach = round(max_lag_s * sample_rate_hz)
        self._total = np.zeros(2 * self._reach + 1)

    def add(self, reference: FloatArray, other: FloatArray) -> None:
        """Add a stretch of both, (N,) each. Raises TimingError if they differ in length."""
        if reference.shape != other.shape:
            sizes = f"{reference.size}, {other.size}"
            raise TimingError(f"Sounds of one length are needed, got {sizes}.")
        from scipy.fft import irfft, next_fast_len, rfft  # a third of a second to import

        window = round(WINDOW_S * self._rate_hz)
        # 32 bits are enough where only phases are kept, and twice as fast.
        size = next_fast_len(2 * window, real=True)
        taper = np.hanning(window).astype(np.float32)
        for start in range(0, reference.size - window + 1, window // 2):
            span = slice(start, start + window)
            ours, theirs = (
                rfft(x[span].astype(np.float32) * taper, size) for x in (reference, other)
            )
            loudness = np.abs(theirs)
            floor = max(1e-3, float(loudness.max()) * FLOOR_RATIO)
            # Above 12 kHz there is little but noise and codec filters.
            whitened = whitened_cross(ours, theirs, self._rate_hz / size, 0.0, HIGHEST_HZ)
            whitened[loudness <= floor] = 0
            found = irfft(whitened, size)
            self._total += np.concatenate([found[-self._reach :], found[: self._reach + 1]])

    def join(self, other: "LagSum") -> None:
        """Add what another one has added up."""
        self._total += other._total

    def lag(self) -> Lag:
        """The lag at which they stand together."""
        size = np.abs(self._total)
        heights = size - np.median(size)
        spread = 1.4826 * float(np.median(np.abs(heights)))
        peak = int(heights.argmax())
        near = round(SAME_LAG_S * self._rate_hz)
        rest = np.delete(heights, slice(max(0, peak - near), peak + near + 1))
        if spread <= 0:
            return Lag(0.0, 0.0, False)
        agreement = 1.0 - float(rest.max() / heights[peak])
        sure = heights[peak] >= 8 * spread and agreement >= 0.25
        lag_ms = (peak - self._reach + parabolic_offset(heights, peak)) / self._rate_hz * 1000
        return Lag(lag_ms, agreement, bool(sure))


def sound_changes(sound: FloatArray, sample_rate_hz: int) -> FloatArray:
    """How fast the loudness of a mono sound changes, on the 240 Hz grid of `picture_lag`."""
    step = sample_rate_hz // GRID_HZ
    count = sound.size // step
    energy = np.square(sound[: count * step].astype(np.float64)).reshape(count, step).mean(axis=1)
    # A running mean of squares may come out a hair below 0.
    loudness = np.sqrt(np.maximum(_running_mean(energy, 3), 0))
    return np.asarray(np.gradient(loudness))


def _running_mean(values: FloatArray, count: int) -> FloatArray:
    """Along the last axis."""
    from scipy.ndimage import uniform_filter1d  # half a second to import

    return np.asarray(uniform_filter1d(values, count))


def picture_changes(
    captured_s: FloatArray, brightness: FloatArray, frame_s: float, length: int
) -> FloatArray:
    """How fast each cell of a picture changes, on the 240 Hz grid of `picture_lag`.

    Parameters
    ----------
    captured_s : (N,) rising times of capture
    brightness : (N, C) mean brightness of each cell
    frame_s : float, the frame duration of the device; a still picture is held up to one
        frame before the next capture
    length : int, samples of the grid

    Returns
    -------
    (C, length) float ndarray
    """
    gaps = np.flatnonzero(np.diff(captured_s) > 1.5 * frame_s)
    times = np.insert(captured_s, gaps + 1, captured_s[gaps + 1] - frame_s)
    values = np.insert(brightness, gaps + 1, brightness[gaps], axis=0)
    grid = np.arange(length) / GRID_HZ
    held = np.stack([np.interp(grid, times, column) for column in values.T])
    return np.asarray(np.gradient(held, axis=1))


def picture_lag(cells: FloatArray, sound: FloatArray, max_lag_s: float = 0.3) -> Lag:
    """Lag of a picture against a sound of the same happenings (speech and mouth, knock and hand).

    Each cell's change is correlated with the sound's; the cells that follow it best are
    added up and their peak is taken.

    Parameters
    ----------
    cells : (C, N) from `picture_changes`
    sound : (N,) from `sound_changes`
    max_lag_s : float

    Returns
    -------
    Lag
    """
    size = 2 * cells.shape[1]
    reach = round(max_lag_s * GRID_HZ)
    smooth_cells, smooth_sound = _running_mean(np.abs(cells), 5), _running_mean(np.abs(sound), 5)
    smooth_cells = smooth_cells - smooth_cells.mean(axis=1, keepdims=True)
    smooth_sound = smooth_sound - smooth_sound.mean()
    norm = np.linalg.norm(smooth_cells, axis=1) * np.linalg.norm(smooth_sound)
    spectrum = np.fft.rfft(smooth_cells, size) * np.conj(np.fft.rfft(smooth_sound, size))
    correlation = np.fft.irfft(spectrum, size)
    around = np.concatenate([correlation[:, -reach:], correlation[:, : reach + 1]], axis=1)
    around = around / np.maximum(norm, 1e-12)[:, None]
    heights = around.max(axis=1)
    best = float(heights.max(initial=0.0))
    if best <= 0:
        return Lag(0.0, 0.0, False)
    joined = around[heights >= 0.75 * best].mean(axis=0)
    peak = int(joined.argmax())
    rest = np.delete(joined, slice(max(0, peak - 24), peak + 25))
    prominence = (joined[peak] - rest.mean()) / max(float(rest.std()), 1e-12)
    lag_ms = (peak - reach + parabolic_offset(joined, peak)) / GRID_HZ * 1000
    return Lag(float(lag_ms), best, bool(best >= 0.2 and prominence >= 4.0))
