"""From a track's own time to the master's: a clock that wanders, jumps and is started again.

A stamp is late, never early. So the map lies under all stamps, as near to them as it can. Within
a segment (from one restart or jump to the next) it is continuous and bends only where a long
stretch of stamps asks for it; stalls lift stamps off it and do not bend it.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TimingError
from kettle_core.timing.clock_fit import MAX_SLOPE, fit_clock
from kettle_core.timing.ticks import NS_PER_S, Float64Array, Int64Array

# Knots may lie this far apart; the earliest stamp of each bin counts.
KNOT_S, BIN_S = 20.0, 2.0
# What a bend of 1 ppm must win, summed over bins: so many times what the bins scatter by, and no
# more than so many µs.
BEND_COST, BEND_COST_MOST_US = 30.0, 1000.0
# Slopes within this are one piece.
SAME_PPM = 0.05
# A stall may lift all stamps of this long, and hardly of more.
STALL_S = 10.0
# Of a segment shorter than this jitter moves the rate by more than clocks differ from restart to
# restart.
STEADY_S = 60.0


@dataclass(frozen=True)
class Piece:
    """A straight part of the map: from `start_ns` (track) on it begins at `master_ns`.

    `drift_ppm` is how fast the device counts (positive: fast). `segment` is the number of the
    restart or jump it follows.
    """

    start_ns: int
    master_ns: float
    drift_ppm: float
    segment: int

    @property
    def slope(self) -> float:
        """Master ns per track ns."""
        return 1.0 / (1.0 + self.drift_ppm * 1e-6)


@dataclass(frozen=True)
class ClockMap:
    """Track time to master time, in pieces; a quarter of the earliest stamps lie within
    `spread_ns` above it. Nowhere do all stamps of `STALL_S` lie more than `gap_ns` above it: so far
    a clock may have gone from a straight piece.
    """

    pieces: tuple[Piece, ...]
    spread_ns: float
    gap_ns: float = 0.0

    def to_master_ns(self, track_ns: Int64Array) -> Float64Array:
        """(N,) int64 track ns to (N,) float64 master ns; ends go on straight."""
        track = np.asarray(track_ns, np.int64)
        starts = np.array([p.start_ns for p in self.pieces], np.int64)
        at = np.maximum(np.searchsorted(starts, track, "right") - 1, 0)
        masters = np.array([p.master_ns for p in self.pieces])
        slopes = np.array([p.slope for p in self.pieces])
        return np.asarray(masters[at] + (track - starts[at]) * slopes[at])

    @property
    def drift_ppm(self) -> float:
        """The rate over the whole length, jumps left out; weighted by the pieces' lengths."""
        if len(self.pieces) == 1:
            return self.pieces[0].drift_ppm
        starts = np.array([p.start_ns for p in self.pieces], np.float64)
        lengths = np.diff(np.r_[starts, starts[-1] + max(1.0, starts[-1] - starts[-2])])
        return float(np.average([p.drift_ppm for p in self.pieces], weights=lengths))


def map_clock(track_ns: Int64Array, master_ns: Int64Array, segments: Int64Array) -> ClockMap:
    """Fit the map through pairs of stamps.

    Parameters
    ----------
    track_ns, master_ns : (N,) int64 ndarray, N >= 1; equal and falling ones are survived
    segments : (N,) int64 ndarray, rising: goes up by one at each restart or jump

    Returns
    -------
    ClockMap

    Raises
    ------
    TimingError
        If the arrays are empty or differ in length.
    """
    track, master = np.asarray(track_ns, np.int64), np.asarray(master_ns, np.int64)
    numbers = np.asarray(segments)
    if track.size == 0 or not track.size == master.size == numbers.size:
        raise TimingError(f"A clock needs stamps in pairs, got {track.size} and {master.size}.")
    stamps = {
        int(n): _sorted(track[numbers == n], master[numbers == n]) for n in np.unique(numbers)
    }
    fits = {n: _fit_segment(*of, n) for n, of in stamps.items()}
    if len(fits) > 1:
        lengths_s = {n: np.ptp(of[0]) / NS_PER_S for n, of in stamps.items()}
        rates = _shared_rates({n: pieces for n, (pieces, _) in fits.items()}, lengths_s)
        fits |= {n: _straight(*stamps[n], n, rate) for n, rate in rates.items()}
    pieces = tuple(piece for of, _ in fits.values() for piece in of)
    found = ClockMap(pieces, float(max(spread for _, spread in fits.values())))
    return replace(found, gap_ns=_gap_ns(found, stamps))


def _gap_ns(found: ClockMap, stamps: Mapping[int, tuple[Int64Array, Int64Array]]) -> float:
    """How far above the map the lowest stamp of any `STALL_S` lies."""
    gap = 0.0
    for track, master in stamps.values():
        above = master - found.to_master_ns(track)
        starts = np.flatnonzero(np.diff((track - track[0]) // int(STALL_S * NS_PER_S), prepend=-1))
        gap = max(gap, float(np.minimum.reduceat(above, starts).max()))
    return gap


def _sorted(track: Int64Array, master: Int64Array) -> tuple[Int64Array, Int64Array]:
    order = np.argsort(track, kind="stable")
    return track[order], master[order]


def _shared_rates(
    found: Mapping[int, list[Piece]], lengths_s: Mapping[int, float]
) -> dict[int, float]:
    """For short segments: the rate of the steady one beside them, or that of all short ones.

    A rate is the surer the longer its segment is, about by the square.
    """
    short = [n for n in found if lengths_s[n] < STEADY_S]
    if not short:
        return {}
    own = [found[n][0].drift_ppm for n in short]
    of_all = float(np.average(own, weights=[max(lengths_s[n], 1e-3) ** 2 for n in short]))
    numbers, rates = list(found), {}
    for n in short:
        at = numbers.index(n)
        beside = [k for k in numbers[max(0, at - 1) : at + 2] if k not in short]
        near = max(beside, key=lambda k: lengths_s[k], default=None)
        rates[n] = of_all if near is None else found[near][-1 if near < n else 0].drift_ppm
    return rates


def _straight(
    track: Int64Array, master: Int64Array, number: int, rate_ppm: float | None = None
) -> tuple[list[Piece], float]:
    line = fit_clock(track, master, rate_ppm)
    return [Piece(int(track[0]), line.anchor_master_ns, line.drift_ppm, number)], line.spread_ns


def _fit_segment(track: Int64Array, master: Int64Array, number: int) -> tuple[list[Piece], float]:
    origin, base = int(track[0]), int(master[0])
    straight = _straight(track, master, number)
    length_s = (track[-1] - origin) / NS_PER_S
    if length_s < STEADY_S:
        return straight
    x_s = (track - origin) / NS_PER_S
    late_us = ((master - base) - (track - origin)) / 1000.0
    x_s, late_us = _earliest(x_s, late_us)
    knots = np.linspace(0, length_s, max(2, round(length_s / KNOT_S)) + 1)
    values = _envelope(x_s, late_us, knots)
    if values is None:
        return straight
    slopes = np.diff(values) / np.diff(knots)
    if np.abs(slopes).max() > MAX_SLOPE * 1e6:
        return straight
    pieces: list[Piece] = []
    kept_ppm = np.inf
    for n, slope_ppm in enumerate(slopes):
        if abs(slope_ppm - kept_ppm) < SAME_PPM:
            continue
        kept_ppm = slope_ppm
        elapsed_s, value_us = float(knots[n]), float(values[n])
        start_ns = origin + round(elapsed_s * NS_PER_S)
        master_ns = base + elapsed_s * NS_PER_S + value_us * 1000
        drift_ppm = (1.0 / (1.0 + slope_ppm * 1e-6) - 1.0) * 1e6
        pieces.append(Piece(start_ns, master_ns, drift_ppm, number))
    above_us = late_us - np.interp(x_s, knots, values)
    return pieces, float(np.percentile(above_us, 25)) * 1000


def _earliest(x_s: Float64Array, late_us: Float64Array) -> tuple[Float64Array, Float64Array]:
    """The earliest stamp of each bin."""
    bins = (x_s // BIN_S).astype(np.int64)
    starts = np.flatnonzero(np.r_[True, np.diff(bins) > 0])
    ends = np.r_[starts[1:], x_s.size]
    picks = [s + int(np.argmin(late_us[s:e])) for s, e in zip(starts, ends, strict=True)]
    return x_s[picks], late_us[picks]


def _bend_cost_us(late_us: Float64Array) -> float:
    """What a bend of 1 ppm must win: the less the earliest stamps scatter, the surer is a bend.

    Of each three, the middle one is compared with the line between the others.
    """
    if late_us.size < 3:
        return BEND_COST_MOST_US
    scatter_us = float(np.median(np.abs(np.diff(late_us, 2)))) / (0.6745 * np.sqrt(6))
    return float(min(BEND_COST * scatter_us, BEND_COST_MOST_US))


def _envelope(
    x_s: Float64Array, late_us: Float64Array, knots: NDArray[np.float64]
) -> Float64Array | None:
    """Values at knots of the line under all points that bends as little as they allow.

    A linear program: the sum of the line's heights at the points, less what its bends cost, is
    as large as it can be.
    """
    from scipy.optimize import linprog  # half a second to import
    from scipy.sparse import coo_array, vstack

    count, points = knots.size, x_s.size
    cell = np.clip(np.searchsorted(knots, x_s, "right") - 1, 0, count - 2)
    share = (x_s - knots[cell]) / (knots[cell + 1] - knots[cell])
    rows = np.r_[np.arange(points), np.arange(points)]
    under = coo_array((np.r_[1 - share, share], (rows, np.r_[cell, cell + 1])),
                      shape=(points, 2 * count - 2))  # fmt: skip
    steps = np.diff(knots)
    bend = np.arange(count - 2)
    # Slope after less slope before, ± that, at most what the bend is said to be.
    curve = coo_array(
        (
            np.r_[1 / steps[:-1], -1 / steps[:-1] - 1 / steps[1:], 1 / steps[1:]],
            (np.r_[bend, bend, bend], np.r_[bend, bend + 1, bend + 2]),
        ),
        shape=(count - 2, 2 * count - 2),
    )
    size = coo_array((-np.ones(count - 2), (bend, count + bend)), shape=(count - 2, 2 * count - 2))
    heights = np.asarray(under.sum(axis=0)).reshape(-1)
    cost = np.r_[-heights[:count], np.full(count - 2, _bend_cost_us(late_us))]
    solved = linprog(
        cost,
        A_ub=vstack([under, curve + size, size - curve]).tocsr(),
        b_ub=np.r_[late_us, np.zeros(2 * count - 4)],
        bounds=[(None, None)] * count + [(0, None)] * (count - 2),
        method="highs",
    )
    return np.asarray(solved.x)[:count] if solved.status == 0 else None
