"""Pictures at another size with libswscale and OpenCV: six times as fast as in NumPy."""

from collections import OrderedDict
from collections.abc import Callable
from fractions import Fraction
from functools import partial
from math import ceil, floor
from typing import Any, TypeVar

import av
import cv2
import numpy as np
from av.filter import Graph
from av.video.reformatter import Interpolation, VideoReformatter

from kettle_core.picture.resample import Line, Plane, Planes, Resampler
from kettle_media.picture.frame_planes import planes_of

# The methods by their names in a format (`kettle_core.rig.format.SCALINGS`).
METHODS = {
    "area": Interpolation.AREA,
    "bicubic": Interpolation.BICUBIC,
    "lanczos": Interpolation.LANCZOS,
}
A_SECOND = Fraction(1)
# Of the sizes that come one after the other; layers that are dragged larger have many.
MOST_KEPT = 12
# Factors for which cv2.boxFilter is twice as fast as cv2.INTER_AREA and gives the same means.
QUICK_BOXES = (3, 5)


class Shrinker:
    """A `kettle_core.picture.resample.Shrink`. Not for several threads at once."""

    def __init__(self, scaling: str = "area") -> None:
        self._scaling = scaling
        # One for each pair of sizes: it would be set up anew whenever they change.
        self._planes: OrderedDict[tuple[int, ...], VideoReformatter] = OrderedDict()
        self._pictures: OrderedDict[tuple[int, ...], _PictureScaler | _WholeFactor] = OrderedDict()

    def __call__(self, plane: Plane, width: int, height: int) -> Plane:
        """A (rows, columns) plane at a smaller size, (height, width)."""
        plane = plane if plane.strides[1] == 1 else np.ascontiguousarray(plane)
        source = av.VideoFrame.from_numpy_buffer(plane, format="gray8")
        scaler = _kept(self._planes, (*plane.shape, height, width), lambda *_: VideoReformatter())
        # A second thread costs more than it saves.
        small = scaler.reformat(
            source, width, height, "gray8", interpolation=METHODS[self._scaling], threads=1
        )
        return np.asarray(small.to_ndarray(), np.uint8)

    def picture(self, planes: Planes, width: int, height: int) -> Planes | None:
        """Y, U and V of a picture at a smaller size; None where pixels of a row are apart."""
        if not all(p.strides[1] == 1 for p in planes):
            return None
        sizes = (*planes[0].shape, height, width)
        scaler = _kept(self._pictures, sizes, partial(_picture_scaler, self._scaling))
        return scaler.scaled(planes)


def _picture_scaler(
    scaling: str, rows: int, columns: int, height: int, width: int
) -> "_PictureScaler | _WholeFactor":
    by, rest = divmod(columns, width)
    if scaling == "area" and not rest and rows == by * height:
        return _WholeFactor(by)
    return _PictureScaler(scaling, rows, columns, height, width)


class _WholeFactor:
    """Pictures shrunk by a whole factor, by area, chroma co-sited with the even columns in both.

    Much faster than libswscale, which has no other way for whole factors.
    """

    def __init__(self, by: int) -> None:
        self._by = by
        # What a sample of chroma covers begins so many samples before the one at its place,
        # mostly between two: of either it is a part.
        begin = (1 - by) / 4
        self._before, self._later = -floor(begin), begin - floor(begin)

    def scaled(self, planes: Planes) -> Planes:
        """All three planes at the smaller size."""
        y, u, v = planes
        return self._shrunk(y), self._chroma(u), self._chroma(v)

    def _shrunk(self, plane: Plane) -> Plane:
        by, (rows, columns) = self._by, plane.shape
        if by in QUICK_BOXES:
            means = cv2.boxFilter(plane, -1, (by, by), anchor=(0, 0))
            return np.asarray(means[::by, ::by][: rows // by, : columns // by], np.uint8)
        size = columns // by, rows // by
        return np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA), np.uint8)

    def _chroma(self, plane: Plane) -> Plane:
        before, later = self._before, self._later
        mixed = np.empty_like(plane)
        # Left of the picture it goes on with its outermost samples.
        mixed[:, :before] = plane[:, :1]
        early, late = plane[:, :-before], plane[:, 1 : plane.shape[1] - before + 1]
        cv2.addWeighted(early, 1 - later, late, later, 0, dst=mixed[:, before:])
        return self._shrunk(mixed)


class _PictureScaler:
    """Pictures of one size at another one, chroma co-sited with the even columns in both."""

    def __init__(self, scaling: str, rows: int, columns: int, height: int, width: int) -> None:
        self._graph = Graph()
        self._graph.threads = 1
        form = av.VideoFormat("yuv420p", columns, rows)
        self._source = self._graph.add_buffer(None, columns, rows, form, time_base=A_SECOND)
        how = f"flags={scaling}+accurate_rnd:in_chroma_loc=left:out_chroma_loc=left"
        scale = self._graph.add("scale", f"{width}:{height}:{how}")
        self._sink = self._graph.add("buffersink")
        self._source.link_to(scale)
        scale.link_to(self._sink)
        self._graph.configure()
        # The first column of chroma covers something left of the picture, where libswscale does
        # not go on with the outermost samples.
        down = Line(height // 2, 0.0, rows / height, 0, rows // 2)
        step = columns / width
        across = Line(1, (1 - step) / 4, step, 0, min(ceil(step), columns // 2))
        self._first = Resampler(down, across) if scaling == "area" else None

    def scaled(self, planes: Planes) -> Planes:
        """All three planes at the other size."""
        lent = [np.asarray(_Lent(plane)) for plane in planes]
        frame = av.VideoFrame.from_dlpack(lent, "yuv420p")
        frame.pts, frame.time_base = 0, A_SECOND
        self._source.push(frame)
        small: Any = self._sink.pull()
        y, u, v = planes_of(small)
        if self._first:
            for made, plane in ((u, planes[1]), (v, planes[2])):
                made[:, :1] = self._first.sample(plane)
        return y, u, v


class _Lent:
    """A plane as one that may be written to, which is all that DLPack takes; nobody does."""

    def __init__(self, plane: Plane) -> None:
        self._plane = plane
        self.__array_interface__ = {**plane.__array_interface__, "data": (plane.ctypes.data, False)}


Kind = TypeVar("Kind")


def _kept(
    kept: OrderedDict[tuple[int, ...], Kind], sizes: tuple[int, ...], make: Callable[..., Kind]
) -> Kind:
    """What is kept for sizes, or made for them; of the others those that were used last."""
    found = kept.pop(sizes, None) or make(*sizes)
    if len(kept) >= MOST_KEPT:
        kept.popitem(last=False)
    kept[sizes] = found
    return found


class Scaler:
    """Frames at another size, for tracks that are written smaller, and back again.

    Not for several threads at once.
    """

    def __init__(self, width: int, height: int, scaling: str = "area") -> None:
        self._size = (width, height)
        self._reformatter, self._method = VideoReformatter(), METHODS[scaling]

    def scaled(self, frame: av.VideoFrame) -> av.VideoFrame:
        """A yuv420p frame at the size; its times are not kept."""
        return self._reformatter.reformat(frame, *self._size, "yuv420p", interpolation=self._method)
