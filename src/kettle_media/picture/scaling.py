"""Pictures at another size with libswscale: six times as fast as in NumPy."""

from collections import OrderedDict

import av
import numpy as np
from av.video.reformatter import Interpolation, VideoReformatter
from numpy.typing import NDArray

Plane = NDArray[np.uint8]
# The methods by their names in a format (`kettle_core.rig.format.SCALINGS`).
METHODS = {
    "area": Interpolation.AREA,
    "bicubic": Interpolation.BICUBIC,
    "lanczos": Interpolation.LANCZOS,
}


# Of the sizes that come one after the other; layers that are dragged larger have many.
MOST_KEPT = 12


class Shrinker:
    """A `kettle_core.picture.resample.Shrink`. Not for several threads at once."""

    def __init__(self, scaling: str = "area") -> None:
        self._method = METHODS[scaling]
        # One for each pair of sizes: it would be set up anew whenever they change.
        self._kept: OrderedDict[tuple[int, ...], VideoReformatter] = OrderedDict()

    def __call__(self, plane: Plane, width: int, height: int) -> Plane:
        """A (rows, columns) plane at a smaller size, (height, width)."""
        source = av.VideoFrame.from_numpy_buffer(np.ascontiguousarray(plane), format="gray8")
        small = self._reformatter(*plane.shape, height, width).reformat(
            source, width, height, "gray8", interpolation=self._method
        )
        return np.asarray(small.to_ndarray(), np.uint8)

    def _reformatter(self, *sizes: int) -> VideoReformatter:
        found = self._kept.pop(sizes, None) or VideoReformatter()
        if len(self._kept) >= MOST_KEPT:
            self._kept.popitem(last=False)
        self._kept[sizes] = found
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
