"""Offset and drift between two recordings that share a sound.

References
----------
P. Sen (1968), Estimates of the regression coefficient based on Kendall's tau.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import SoundError
from kettle_core.sound.filters import thinned
from kettle_core.timing.phat import HIGHEST_HZ, LOWEST_HZ, parabolic_offset, whitened_cross

FloatArray = NDArray[np.floating]
MAX_OFFSET_S = 10.0
COARSE_S = 20.0
COARSE_PLACES = 5
WINDOW_S = 2.0
WINDOWS = 60
NEAR_S = 0.05
STANDS_OUT = 7.5
# Lags of two stretches that belong together differ by no more than this and what a clock runs off.
SAME_LAG_S, MAX_DRIFT = 0.005, 500e-6
LEAST_S = 0.5
SURE = 0.3


@dataclass(frozen=True)
class Offset:
    """How a sound lies in another recording.

    At a time t of the reference (s) the same sound is at `t + offset_ms / 1000 +
    drift_ppm / 1e6 × t` of the other. `confidence` is 0 to 1; `residual_ms` is how far the
    measured places scatter about that line (RMS).
    """

    offset_ms: float
    drift_ppm: float
    confidence: float
    residual_ms: float


def find_offset(reference: FloatArray, other: FloatArray, rate_hz: int) -> Offset | None:
    """Find offset and drift of one recording against another.

    First some stretches of 20 s are looked for within ±10 s, and those are kept that one clock
    explains; then up to 60 windows of 2 s are placed to a fraction of a sample (GCC-PHAT), and a
    line is laid through them (Theil-Sen, then least squares of what lies near it).

    Parameters
    ----------
    reference, other : (N,), (M,) float ndarrays, mono, at one sample rate
    rate_hz : int

    Returns
    -------
    Offset or None
        None where they have no sound in common.

    Raises
    ------
    SoundError
        If one of them is shorter than half a second.
    """
    least = min(reference.size, other.size) / rate_hz
    if least < LEAST_S:
        raise SoundError(
            f"Sounds of at least {LEAST_S:g} s are needed to compare them, got {least:.2f} s."
        )
    coarse = _coarse_places(reference, other, rate_hz)
    if not coarse:
        return None
    times, lags = np.array(coarse).T
    guess = _line(times, lags)
    places = _window_places(reference, other, rate_hz, guess)
    if len(places) < 2:
        drift, offset = guess
        residual_s = float(np.std(lags - offset - drift * times))
        return _judged(offset, drift, residual_s, len(coarse) / 10)
    times, lags, heights = np.array(places).T
    drift, offset = _line(times, lags)
    away = np.abs(lags - offset - drift * times)
    near = away <= max(3 * float(np.median(away)), 2 / rate_hz)
    if near.sum() >= 3 and np.ptp(times[near]) > 0:
        drift, offset = np.polyfit(times[near], lags[near], 1, w=np.sqrt(heights[near]))
    residual_s = float(np.sqrt(np.mean((lags[near] - offset - drift * times[near]) ** 2)))
    return _judged(float(offset), float(drift), residual_s, float(near.sum()) / len(places))


def _judged(offset_s: float, drift: float, residual_s: float, agreeing: float) -> Offset | None:
    confidence = float(np.clip(agreeing, 0, 1)) / (1 + (residual_s / 0.002) ** 2)
    if confidence < SURE:
        return None
    return Offset(offset_s * 1000, drift * 1e6, confidence, residual_s * 1000)


def _line(times: FloatArray, lags: FloatArray) -> tuple[float, float]:
    """Slope and start of a line through most of the points (Theil-Sen)."""
    first, second = np.triu_indices(times.size, 1)
    apart = times[second] - times[first]
    use = np.abs(apart) > 1e-6
    slope = float(np.median((lags[second] - lags[first])[use] / apart[use])) if use.any() else 0.0
    return slope, float(np.median(lags - slope * times))


def _coarse_places(
    reference: FloatArray, other: FloatArray, rate_hz: int
) -> list[tuple[float, float]]:
    """(time in s, lag in s) of stretches over the whole length, at a lower sample rate."""
    factor = max(1, rate_hz // 8000)
    slow_hz = rate_hz / factor
    length_s = min(reference.size, other.size) / rate_hz
    stretch_s = min(COARSE_S, length_s)
    starts_s = np.unique(np.linspace(0, length_s - stretch_s, COARSE_PLACES).round(3))
    found = []
    for start_s in starts_s:
        ours = _cut(reference, start_s, stretch_s, rate_hz)
        theirs = _cut(other, start_s - MAX_OFFSET_S, stretch_s + 2 * MAX_OFFSET_S, rate_hz)
        ours, theirs = (thinned(x, factor) for x in (ours, theirs))
        lag, height = _best_lag(ours, theirs, slow_hz)
        if height >= STANDS_OUT:
            found.append((float(start_s), lag - MAX_OFFSET_S, height))
    return _agreeing(found)


def _agreeing(found: list[tuple[float, float, float]]) -> list[tuple[float, float]]:
    """Of (time, lag, height) those that one clock explains, the most of them.

    A phrase that recurs stands out at a wrong lag; only the right one is the same everywhere.
    """
    best: list[tuple[float, float, float]] = []
    for at_s, lag_s, _ in found:
        near = [f for f in found if abs(f[1] - lag_s) <= SAME_LAG_S + MAX_DRIFT * abs(f[0] - at_s)]
        if sum(f[2] for f in near) > sum(f[2] for f in best):
            best = near
    return [(at_s, lag_s) for at_s, lag_s, _ in best]


def _window_places(
    reference: FloatArray, other: FloatArray, rate_hz: int, guess: tuple[float, float]
) -> list[tuple[float, float, float]]:
    """(time, lag, height) of short windows, placed to a fraction of a sample."""
    drift, offset = guess
    length_s = min(reference.size / rate_hz, other.size / rate_hz - offset)
    first_s = max(0.0, -offset)
    window_s = min(WINDOW_S, max((length_s - first_s) / 2, LEAST_S / 2))
    count = int(np.clip((length_s - first_s) / (window_s / 2), 1, WINDOWS))
    found = []
    for start_s in np.linspace(first_s, max(length_s - window_s, first_s), count):
        expected_s = offset + drift * start_s
        first = round((start_s + expected_s - NEAR_S) * rate_hz)
        ours = _cut(reference, start_s, window_s, rate_hz)
        theirs = _cut(other, first / rate_hz, window_s + 2 * NEAR_S, rate_hz)
        lag_s, height = _best_lag(ours, theirs, rate_hz)
        if height >= STANDS_OUT:
            begun_s = round(start_s * rate_hz) / rate_hz
            # A window's lag is that of its middle.
            middle_s = begun_s + window_s / 2
            found.append((middle_s, first / rate_hz - begun_s + lag_s, height))
    return found


def _cut(sound: FloatArray, start_s: float, length_s: float, rate_hz: int) -> FloatArray:
    """A stretch of a sound, silent where it lies outside."""
    first, size = round(start_s * rate_hz), round(length_s * rate_hz)
    inside = sound[max(first, 0) : max(first + size, 0)]
    before = min(max(-first, 0), size)
    return np.pad(inside, (before, size - before - inside.size))


def _best_lag(ours: FloatArray, theirs: FloatArray, rate_hz: float) -> tuple[float, float]:
    """Place of `ours` in the longer `theirs` in s, and how far it stands out (robust sigmas)."""
    from scipy.fft import irfft, next_fast_len, rfft  # a third of a second to import

    size = next_fast_len(ours.size + theirs.size, real=True)
    taper = np.hanning(ours.size)
    near, far = rfft(ours * taper, size), rfft(theirs, size)
    spectrum = whitened_cross(near, far, rate_hz / size, LOWEST_HZ, HIGHEST_HZ)
    reach = theirs.size - ours.size + 1
    values = irfft(spectrum, size)[:reach]
    spread = 1.4826 * float(np.median(np.abs(values - np.median(values))))
    peak = int(values.argmax())
    if spread <= 0:
        return 0.0, 0.0
    return (peak + parabolic_offset(values, peak)) / rate_hz, float(values[peak]) / spread
