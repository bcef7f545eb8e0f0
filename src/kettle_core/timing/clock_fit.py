"""A device clock as a line that maps device nanoseconds to master nanoseconds."""

from dataclasses import dataclass

import numpy as np

from kettle_core.errors import TimingError
from kettle_core.timing.ticks import NS_PER_S, Float64Array, Int64Array

FIT_BIN_NS = NS_PER_S // 2
FIT_MAX_BINS = 240
MAX_SLOPE = 500e-6


@dataclass(frozen=True)
class ClockFit:
    """A device clock as a line.

    master_ns = anchor_master_ns + (device_ns - anchor_device_ns) / rate, with
    rate = 1 + drift_ppm * 1e-6.

    `drift_ppm` is how fast the device counts (positive: fast). Within `spread_ns` above the line
    lies a quarter of the earliest stamps: how sure the line is, whatever stalls lift the others.
    """

    anchor_device_ns: int
    anchor_master_ns: float
    drift_ppm: float
    spread_ns: float

    def device_to_master_ns(self, device_ns: Int64Array) -> Float64Array:
        """(N,) int64 device ns to (N,) float64 master ns."""
        elapsed = np.asarray(device_ns, dtype=np.int64) - self.anchor_device_ns
        return self.anchor_master_ns + elapsed / (1.0 + self.drift_ppm * 1e-6)


def fit_clock(
    device_ns: Int64Array, master_ns: Int64Array, drift_ppm: float | None = None
) -> ClockFit:
    """Fit a device clock to the master clock from pairs of stamps.

    A stamp is late by latency and by whatever the machine was doing, never early. So the line
    is laid under all stamps, as near to them as it can be: a linear program in two unknowns.
    Stalls lift stamps off the line and do not move it.

    Parameters
    ----------
    device_ns, master_ns : (N,) int64 ndarray, N >= 1; device times that stand still or step
        back, as some drivers give them, count like others
    drift_ppm : the rate where it is known; only the line's level is found then

    Returns
    -------
    ClockFit
        Its anchor is the first stamp's device time. The drift is taken as 0 where there are
        fewer than four half seconds of stamps, or where it would be beyond 500 ppm: that is
        no clock but a machine that stood still.

    Raises
    ------
    TimingError
        If the arrays are empty or differ in length.

    References
    ----------
    S. Moon, P. Skelly, D. Towsley (1999), Estimation and removal of clock skew from network
    delay measurements.
    """
    device = np.asarray(device_ns, dtype=np.int64)
    master = np.asarray(master_ns, dtype=np.int64)
    if device.size == 0 or device.size != master.size:
        raise TimingError(f"A clock needs stamps in pairs, got {device.size} and {master.size}.")
    order = np.argsort(device, kind="stable")
    device, master = device[order], master[order]
    x = (device - device[0]).astype(np.float64)
    late = (master - master[0]).astype(np.float64) - x
    x, late = _earliest_of_each_bin(x, late)
    if drift_ppm is None:
        slope = _slope_under(x, late) if x.size >= 4 else 0.0
    else:
        slope = 1.0 / (1.0 + drift_ppm * 1e-6) - 1.0
    level = late - slope * x
    lowest = float(level.min())
    # master elapsed = x * (1 + slope), so the device's rate is 1 / (1 + slope)
    drift_ppm = (1.0 / (1.0 + slope) - 1.0) * 1e6
    spread = float(np.percentile(level - lowest, 25))
    return ClockFit(int(device[0]), float(master[0] + lowest), drift_ppm, spread)


def _slope_under(x: Float64Array, late: Float64Array) -> float:
    """Slope of the line under all points with the least sum of distances; 0 at the limit."""
    total = x.sum()

    def height(slope: float) -> float:
        return float(x.size * (late - slope * x).min() + slope * total)

    low, high = -MAX_SLOPE, MAX_SLOPE
    for _ in range(60):  # the height is concave in the slope
        a, b = low + (high - low) / 3, high - (high - low) / 3
        if height(a) < height(b):
            low = a
        else:
            high = b
    slope = (low + high) / 2
    return slope if abs(slope) < 0.999 * MAX_SLOPE else 0.0


def _earliest_of_each_bin(x: Float64Array, late: Float64Array) -> tuple[Float64Array, Float64Array]:
    width = max(FIT_BIN_NS, x[-1] / FIT_MAX_BINS)
    bins = np.floor(x / width).astype(np.int64)
    starts = np.flatnonzero(np.r_[True, np.diff(bins) > 0])
    ends = np.r_[starts[1:], x.size]
    picks = np.array([s + int(np.argmin(late[s:e])) for s, e in zip(starts, ends, strict=True)])
    return x[picks], late[picks]
