"""Ticks, frame numbers and device clocks.

Time is integer ticks with a `Fraction` time base; a device clock is a line that maps
device nanoseconds to master nanoseconds.
"""

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TimingError

NS_PER_S = 1_000_000_000
FIT_BIN_NS = NS_PER_S // 2
FIT_MAX_BINS = 24

Int64Array = NDArray[np.int64]
Float64Array = NDArray[np.float64]


def rescale_ticks(ticks: Int64Array, src: Fraction, dst: Fraction) -> Int64Array:
    """Rescale ticks to another time base, rounding half to even.

    Parameters
    ----------
    ticks : (N,) int64 ndarray, in `src` units
    src, dst : Fraction > 0, seconds per tick

    Returns
    -------
    (N,) int64 ndarray, in `dst` units

    Raises
    ------
    TimingError
        If a time base is not above 0.

    Examples
    --------
    >>> rescale_ticks(np.array([0, 1, 30]), Fraction(1001, 30000), Fraction(1, 1000)).tolist()
    [0, 33, 1001]
    """
    if src <= 0 or dst <= 0:
        raise TimingError(f"A time base must be above 0, got {src} and {dst}.")
    factor = src / dst
    whole, rest = divmod(factor.numerator, factor.denominator)
    numerator, denominator = rest, factor.denominator
    values = np.asarray(ticks, dtype=np.int64)
    if denominator == 1:
        return values * whole
    # Python integers: an hour of nanoseconds times a rate overflows int64.
    scaled = [_divide_half_even(int(t) * numerator, denominator) for t in values]
    return values * whole + np.array(scaled, dtype=np.int64)


def _divide_half_even(numerator: int, denominator: int) -> int:
    quotient, remainder = divmod(numerator, denominator)
    twice = 2 * remainder
    if twice > denominator or (twice == denominator and quotient % 2):
        return quotient + 1
    return quotient


def seconds_to_ticks(seconds: Fraction | float, rate_hz: Fraction | int) -> int:
    """Nearest tick of a rate to a time in seconds, half to even.

    >>> seconds_to_ticks(2.3, 44100)
    101430
    """
    if rate_hz <= 0:
        raise TimingError(f"A rate must be above 0 Hz, got {rate_hz}.")
    exact = Fraction(seconds).limit_denominator(NS_PER_S) * Fraction(rate_hz)
    return _divide_half_even(exact.numerator, exact.denominator)


def frame_to_ns(frame_no: int, fps: Fraction) -> int:
    """Start of a frame in nanoseconds, half to even.

    >>> frame_to_ns(30, Fraction(30000, 1001))
    1001000000
    """
    if fps <= 0:
        raise TimingError(f"A frame rate must be above 0 fps, got {fps}.")
    exact = Fraction(frame_no * NS_PER_S) / fps
    return _divide_half_even(exact.numerator, exact.denominator)


def frame_count(duration_ns: int, fps: Fraction) -> int:
    """Number of frames that start within [0, duration)."""
    if duration_ns < 0:
        raise TimingError(f"A duration must not be below 0, got {duration_ns} ns.")
    exact = Fraction(duration_ns, NS_PER_S) * fps
    return -((-exact.numerator) // exact.denominator)


@dataclass(frozen=True)
class ClockFit:
    """A device clock as a line.

    master_ns = anchor_master_ns + (device_ns - anchor_device_ns) / rate, with
    rate = 1 + drift_ppm * 1e-6.

    `drift_ppm` is how fast the device counts (positive: fast). `spread_ns` is the median
    absolute distance of the earliest stamps from the line: how sure the line is.
    """

    anchor_device_ns: int
    anchor_master_ns: float
    drift_ppm: float
    spread_ns: float

    def device_to_master_ns(self, device_ns: Int64Array) -> Float64Array:
        """(N,) int64 device ns to (N,) float64 master ns."""
        elapsed = np.asarray(device_ns, dtype=np.int64) - self.anchor_device_ns
        return self.anchor_master_ns + elapsed / (1.0 + self.drift_ppm * 1e-6)


def fit_clock(device_ns: Int64Array, master_ns: Int64Array) -> ClockFit:
    """Fit a device clock to the master clock from pairs of stamps.

    A stamp is late by latency and by whatever the machine was doing, never early; so of
    each stretch (a 24th of the whole, half a second at least) the earliest stamp is used, a
    Theil-Sen line is laid through those, and a least-squares line through the ones near it.

    Parameters
    ----------
    device_ns, master_ns : (N,) int64 ndarray, N >= 1, device times rising

    Returns
    -------
    ClockFit
        Its anchor is the first stamp's device time. With fewer than four stretches
        the drift is taken as 0.

    Raises
    ------
    TimingError
        If the arrays are empty, differ in length, or device time does not rise.

    References
    ----------
    P. K. Sen (1968), Estimates of the regression coefficient based on Kendall's tau.
    """
    device = np.asarray(device_ns, dtype=np.int64)
    master = np.asarray(master_ns, dtype=np.int64)
    if device.size == 0 or device.size != master.size:
        raise TimingError(f"A clock needs stamps in pairs, got {device.size} and {master.size}.")
    if np.any(np.diff(device) <= 0):
        raise TimingError("Device times must rise from stamp to stamp.")
    x = (device - device[0]).astype(np.float64)
    late = (master - master[0]).astype(np.float64) - x
    x, late = _earliest_of_each_bin(x, late)
    if x.size < 4:
        return ClockFit(int(device[0]), float(master[0] + late.min()), 0.0, 0.0)
    slope = _theil_sen(x, late)
    level = late - slope * x
    centre = np.median(level)
    spread = float(np.median(np.abs(level - centre)))
    near = np.abs(level - centre) <= max(3 * spread, 1.0)
    slope, intercept = np.polyfit(x[near], late[near], 1)
    # master elapsed = x * (1 + slope), so the device's rate is 1 / (1 + slope)
    drift_ppm = (1.0 / (1.0 + slope) - 1.0) * 1e6
    return ClockFit(int(device[0]), float(master[0] + intercept), float(drift_ppm), spread)


def _earliest_of_each_bin(x: Float64Array, late: Float64Array) -> tuple[Float64Array, Float64Array]:
    width = max(FIT_BIN_NS, x[-1] / FIT_MAX_BINS)
    bins = np.floor(x / width).astype(np.int64)
    starts = np.flatnonzero(np.r_[True, np.diff(bins) > 0])
    ends = np.r_[starts[1:], x.size]
    picks = np.array([s + int(np.argmin(late[s:e])) for s, e in zip(starts, ends, strict=True)])
    return x[picks], late[picks]


def _theil_sen(x: Float64Array, y: Float64Array) -> float:
    rows, columns = np.triu_indices(x.size, 1)
    return float(np.median((y[columns] - y[rows]) / (x[columns] - x[rows])))
