"""Planes at another size and place: area when shrinking, Lanczos when growing, nothing at 1:1.

A line of samples is a step function: sample k covers the range k to k + 1. Every output sample
covers a range of it, given by where the first begins and how wide each is; a range that runs
beyond the usable samples goes on with the outermost one.
"""

from contextvars import ContextVar
from dataclasses import dataclass, replace
from functools import lru_cache
from math import ceil, floor
from typing import Protocol, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.uint8]
Planes = tuple[Plane, Plane, Plane]
Floats = NDArray[np.float32]
Values = TypeVar("Values", Plane, Floats)
MOST_SHRUNK, SLIGHT = 16, 1e-6
LANCZOS = 4
BLOCK = 16


class Shrink(Protocol):
    """What makes pictures smaller; by area, within 1 of what is done here."""

    def __call__(self, plane: Plane, width: int, height: int) -> Plane:
        """All of a plane at a smaller size."""
        ...

    def picture(self, planes: Planes, width: int, height: int) -> Planes | None:
        """All of Y, U and V of a picture with even sides at a smaller size with even sides.

        None where it can't be done at once.
        """
        ...


@dataclass(frozen=True)
class Line:
    """`count` outputs along one axis; output i covers `start + i * step` to one step on.

    In px of the source's axis; `step` is negative where it runs backwards. `low` and `high`
    bound the usable samples.
    """

    count: int
    start: float
    step: float
    low: int
    high: int

    @property
    def first(self) -> float:
        """The lower end of what is covered."""
        return self.start if self.step > 0 else self.start + self.count * self.step

    @property
    def forwards(self) -> "Line":
        """The same outputs in the order of the source."""
        return replace(self, start=self.first, step=abs(self.step))

    @property
    def inner(self) -> tuple[int, int]:
        """The first and the number of outputs that lie on usable samples, forwards; (0, 0) where
        it does not shrink, or they do not begin and end with whole samples.
        """
        width = abs(self.step)
        before = max(0, round((self.low - self.first) / width))
        after = max(0, round((self.first + self.count * width - self.high) / width))
        first, count = self.first + before * width, self.count - before - after
        length = count * width
        on_samples = abs(first - round(first)) < SLIGHT and abs(length - round(length)) < SLIGHT
        inside = first > self.low - SLIGHT and first + length < self.high + SLIGHT
        fits = count > 1 and 1 < width <= MOST_SHRUNK and on_samples and inside
        return (before, count) if fits else (0, 0)

    @property
    def whole_step(self) -> int:
        """The step where whole samples fall into every output, else 0."""
        width = abs(self.step)
        inside = self.first >= self.low and self.first + self.count * width <= self.high
        return int(width) if inside and width == int(width) and self.first % 1 == 0 else 0


# Memory for the values in between, a thread's own: new memory costs as much as sampling.
_KEPT: ContextVar[dict[str, Floats]] = ContextVar("scratch")


def _scratch(name: str, rows: int, columns: int) -> Floats:
    """A (rows, columns) array with anything in it, in the thread's memory of that name."""
    kept = _KEPT.get(None)
    if kept is None:
        kept = {}
        _KEPT.set(kept)
    found = kept.get(name)
    if found is None or found.size < rows * columns:
        found = kept[name] = np.empty(rows * columns, np.float32)
    return found[: rows * columns].reshape(rows, columns)


class Resampler:
    """Samples planes along both axes, again and again.

    A library's `shrink` is faster where whole samples are covered on the whole. Not for several
    threads at once.

    References
    ----------
    Duchon, Lanczos filtering in one and two dimensions, 1979 (four lobes, normalised).
    """

    def __init__(self, down: Line, across: Line, shrink: Shrink | None = None) -> None:
        self._down, self._across = down, across
        self._steps = down.whole_step, across.whole_step
        self._shrunk = None
        if shrink and down.inner[1] and across.inner[1] and self._steps != (1, 1):
            self._shrunk = _Shrunk(down.forwards, across.forwards, shrink)
        rows = down.high - down.low
        # Rows are put together faster than columns: they lie in memory as a product wants them.
        self._rows_first = down.count <= rows

    def sample(self, plane: Plane) -> Plane:
        """A plane sampled.

        Parameters
        ----------
        plane : (rows, columns) uint8

        Returns
        -------
        (down.count, across.count) uint8 ndarray
            At 1:1 a view of the source.
        """
        down, across = self._down, self._across
        if self._shrunk:
            return _turned_back(self._shrunk.sample(plane), down, across)
        if all(self._steps):
            return self._whole(plane)
        if abs(down.step) == abs(across.step) == 1:
            part = plane[down.low : down.high, across.low : across.high]
            part = part if part.strides[1] == 1 else np.ascontiguousarray(part)
            return _turned_back(_shifted(_shifted(part, down, 0), across, 1), down, across)
        part = plane[down.low : down.high, across.low : across.high]
        values = _scratch("values", *part.shape)
        np.copyto(values, part)
        out = _scratch("out", down.count, across.count)
        if self._rows_first:
            middle = _scratch("middle", down.count, part.shape[1])
            _sample_rows(values, down, middle)
            _sample_columns(middle, across, out)
        else:
            middle = _scratch("middle", part.shape[0], across.count)
            _sample_columns(values, across, middle)
            _sample_rows(middle, down, out)
        rounded = cv2.addWeighted(out, 1, out, 0, 0, dtype=cv2.CV_8U)
        return np.asarray(rounded, np.uint8)

    def _whole(self, plane: Plane) -> Plane:
        """Whole samples fall into every output."""
        down, across = self._down, self._across
        top, left = int(down.first), int(across.first)
        part = plane[
            top : top + down.count * self._steps[0],
            left : left + across.count * self._steps[1],
        ]
        if self._steps != (1, 1):
            size = (across.count, down.count)
            part = np.asarray(cv2.resize(part, size, interpolation=cv2.INTER_AREA), np.uint8)
        return _turned_back(part, down, across)


class _Shrunk:
    """Most of it by a library, and what lies beyond the usable samples from the outermost ones."""

    def __init__(self, down: Line, across: Line, shrink: Shrink) -> None:
        self._shrink, self._size = shrink, (down.count, across.count)
        (top, rows), (left, columns) = down.inner, across.inner
        self._rows, self._columns = slice(top, top + rows), slice(left, left + columns)
        self._source = _covered(down), _covered(across)
        self._beyond = _beyond(down), _beyond(across)

    def sample(self, plane: Plane) -> Plane:
        """A plane sampled, forwards."""
        out = np.empty(self._size, np.uint8)
        inner = out[self._rows, self._columns]
        rows, columns = inner.shape
        inner[:] = self._shrink(plane[self._source], columns, rows)
        rows_beyond, columns_beyond = self._beyond
        for outputs, at in rows_beyond:
            line = np.ascontiguousarray(plane[at : at + 1, self._source[1]])
            out[outputs, self._columns] = cv2.resize(line, (columns, 1), None, 0, 0, cv2.INTER_AREA)
        for outputs, at in columns_beyond:
            line = np.ascontiguousarray(plane[self._source[0], at : at + 1])
            out[self._rows, outputs] = cv2.resize(line, (1, rows), None, 0, 0, cv2.INTER_AREA)
            for others, row in rows_beyond:
                out[others, outputs] = plane[row, at]
        return out


def _covered(line: Line) -> slice:
    before, count = line.inner
    first = line.first + before * line.step
    return slice(round(first), round(first + count * line.step))


def _beyond(line: Line) -> list[tuple[slice, int]]:
    """Outputs before and after the usable samples, and the sample that they go on with."""
    before, count = line.inner
    found = []
    if before:
        found.append((slice(0, before), line.low))
    if before + count < line.count:
        found.append((slice(before + count, line.count), line.high - 1))
    return found


def _turned_back(plane: Plane, down: Line, across: Line) -> Plane:
    """A plane sampled forwards, with the lines that run backwards turned round."""
    if down.step < 0 or across.step < 0:
        code = -1 if down.step < 0 and across.step < 0 else (0 if down.step < 0 else 1)
        return np.asarray(cv2.flip(np.ascontiguousarray(plane), code), np.uint8)
    return plane if plane.strides[1] == 1 else np.ascontiguousarray(plane)


def _shifted(plane: Plane, line: Line, axis: int) -> Plane:
    """The usable samples at a scale of 1, forwards along an axis: means of two neighbours."""
    first = line.first - line.low
    whole = floor(first)
    share = first - whole
    last = whole + line.count + (share > 0)
    over = max(0, -whole), max(0, last - plane.shape[axis])
    if any(over):
        top, bottom, left, right = (*over, 0, 0) if axis == 0 else (0, 0, *over)
        edge = cv2.BORDER_REPLICATE
        plane = np.asarray(cv2.copyMakeBorder(plane, top, bottom, left, right, edge), np.uint8)
        whole += over[0]
    near = _span(plane, axis, whole, line.count)
    if share == 0:
        return near
    mixed = cv2.addWeighted(near, 1 - share, _span(plane, axis, whole + 1, line.count), share, 0)
    return np.asarray(mixed, np.uint8)


def _span(plane: Plane, axis: int, first: int, count: int) -> Plane:
    return plane[first : first + count] if axis == 0 else plane[:, first : first + count]


def resample(plane: Plane, down: Line, across: Line) -> Plane:
    """A plane sampled along both axes, once (see `Resampler.sample`)."""
    return Resampler(down, across).sample(plane)


def _sample_rows(values: Floats, line: Line, out: Floats) -> None:
    """(rows, columns) into (line.count, columns)."""
    for first, low, weights in _weights(line):
        np.matmul(weights, values[low : low + weights.shape[1]], out=out[first : first + BLOCK])


def _sample_columns(values: Floats, line: Line, out: Floats) -> None:
    """(rows, columns) into (rows, line.count)."""
    for first, low, weights in _weights(line):
        part = values[:, low : low + weights.shape[1]]
        np.matmul(part, weights.T, out=out[:, first : first + BLOCK])


@lru_cache(maxsize=256)
def _weights(line: Line) -> list[tuple[int, int, Floats]]:
    """A product with small blocks of the weights is faster than tap by tap.

    For every block of outputs: the first one, the first sample, (outputs, samples) weights.
    """
    index, weight = _taps(line)
    index -= line.low
    found = []
    for first in range(0, line.count, BLOCK):
        places, parts = index[first : first + BLOCK], weight[first : first + BLOCK]
        low = int(places.min())
        block = np.zeros((len(places), int(places.max()) + 1 - low), np.float32)
        rows = np.broadcast_to(np.arange(len(places))[:, None], places.shape)
        np.add.at(block, (rows, places - low), parts.astype(np.float32))
        found.append((first, low, block))
    return found


def _taps(line: Line) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Samples and weights of every output, (count, taps) each; weights of one sum to 1."""
    width = abs(line.step)
    low = line.start + np.arange(line.count) * line.step
    low = low if line.step > 0 else low - width
    if width >= 1:
        index = np.floor(low)[:, None] + np.arange(ceil(width) + 1)
        end = (low + width)[:, None]
        overlap = np.minimum(end, index + 1) - np.maximum(low[:, None], index)
        weight = np.maximum(overlap, 0.0)
    else:
        middle = low + width / 2 - 0.5
        index = np.floor(middle)[:, None] + np.arange(1 - LANCZOS, LANCZOS + 1)
        away = middle[:, None] - index
        weight = np.sinc(away) * np.sinc(away / LANCZOS) * (np.abs(away) < LANCZOS)
    weight /= weight.sum(axis=1, keepdims=True)
    return np.clip(index, line.low, line.high - 1).astype(np.int64), weight


def shrunk_by(plane: Plane, across: int, down: int) -> Plane:
    """A plane shrunk by whole factors; a rest of columns and rows is left out."""
    if across == down == 1:
        return plane
    rows, columns = plane.shape[0] // down, plane.shape[1] // across
    part = plane[: rows * down, : columns * across]
    return np.asarray(cv2.resize(part, (columns, rows), interpolation=cv2.INTER_AREA), np.uint8)


def whole_factor(scale: float, length: int) -> int:
    """By what whole factor samples are put together before sampling between them."""
    return max(1, min(floor(scale + 1e-6), length))


def doubled(plane: Values) -> Values:
    """Chroma-sized values at luma size: co-sited with the even columns, between the rows.

    References
    ----------
    ITU-T H.264, figure 6-1 and table E-2: chroma_sample_loc_type 0.
    """
    rows, columns = plane.shape
    tall = cv2.resize(plane, (columns, 2 * rows), interpolation=cv2.INTER_LINEAR)
    out: Values = np.empty((2 * rows, 2 * columns), plane.dtype)
    out[:, ::2] = tall
    after = np.concatenate([tall[:, 1:], tall[:, -1:]], axis=1)
    out[:, 1::2] = cv2.addWeighted(tall, 0.5, after, 0.5, 0)
    return out
