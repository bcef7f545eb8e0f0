"""Samples in and out of the frames of sound that libav gives and takes."""

from fractions import Fraction
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

FULL_SCALE = {np.dtype(np.int32): 2.0**31, np.dtype(np.int16): 2.0**15}


def samples_of(frame: av.AudioFrame, channels: int) -> NDArray[Any]:
    """A frame's samples from -1 to 1, (channels, N), in whatever form they are."""
    values: NDArray[Any] = frame.to_ndarray()
    if values.shape[0] != channels:
        values = values.reshape(-1, channels).T
    if values.dtype == np.uint8:
        return values.astype(np.float32) / 128 - 1
    return values / FULL_SCALE.get(values.dtype, 1.0)


def frame_of(samples: NDArray[np.int32], rate_hz: int, layout: str, first: int) -> av.AudioFrame:
    """A frame of (channels, N) samples of 24 bits; `first` is the number of the first one."""
    packed = np.ascontiguousarray((samples << 8).T).reshape(1, -1)
    frame = av.AudioFrame.from_ndarray(packed, format="s32", layout=layout)
    frame.sample_rate, frame.pts = rate_hz, first
    frame.time_base = Fraction(1, rate_hz)
    return frame
