"""Frame numbers and nanoseconds: integers, with frame rates as `Fraction`."""

from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TimingError

NS_PER_S = 1_000_000_000

Int64Array = NDArray[np.int64]
Float64Array = NDArray[np.float64]


def frame_to_ns(frame_no: int, fps: Fraction) -> int:
    """Start of a frame in nanoseconds, half to even.

    >>> frame_to_ns(30, Fraction(30000, 1001))
    1001000000
    """
    if fps <= 0:
        raise TimingError(f"A frame rate must be above 0 fps, got {fps}.")
    return round(Fraction(frame_no * NS_PER_S) / fps)


def frame_at(captured_ns: np.ndarray, wanted_ns: np.ndarray, tolerance_ns: int) -> np.ndarray:
    """Which captured frame is shown at each wanted time.

    The latest one captured no later than `tolerance_ns` after the wanted time: with half a
    frame of the source as tolerance the shown picture is early as often as late.

    Parameters
    ----------
    captured_ns : (N,) rising, master time of capture
    wanted_ns : (M,) master times
    tolerance_ns : int

    Returns
    -------
    (M,) int64 ndarray of indices into `captured_ns`; the first frame before there is any
    """
    places = np.searchsorted(captured_ns, np.asarray(wanted_ns) + tolerance_ns, side="right") - 1
    return np.maximum(places, 0)


def runs(mask: NDArray[np.bool_]) -> Int64Array:
    """Where a mask is true without a break: (N, 2) half-open, rising.

    >>> runs(np.array([True, False, True, True])).tolist()
    [[0, 1], [2, 4]]
    """
    ends = np.flatnonzero(np.diff(np.r_[False, mask, False].astype(np.int8)))
    return np.asarray(ends.reshape(-1, 2), np.int64)
