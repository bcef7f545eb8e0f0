"""Planes shrunk by area with libswscale, for the composer: six times as fast as in NumPy."""

import av
import numpy as np
from av.video.reformatter import Interpolation, VideoReformatter
from numpy.typing import NDArray

Plane = NDArray[np.uint8]


class Shrinker:
    """A `kettle_core.picture.resample.Shrink`. Not for several threads at once."""

    def __init__(self) -> None:
        self._reformatter = VideoReformatter()

    def __call__(self, plane: Plane, width: int, height: int) -> Plane:
        """A (rows, columns) plane at a smaller size, (height, width)."""
        source = av.VideoFrame.from_numpy_buffer(np.ascontiguousarray(plane), format="gray8")
        small = self._reformatter.reformat(
            source, width, height, "gray8", interpolation=Interpolation.AREA
        )
        return np.asarray(small.to_ndarray(), np.uint8)
