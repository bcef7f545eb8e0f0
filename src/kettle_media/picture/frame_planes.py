"""Frames of the library as planes."""

import av
import numpy as np

from kettle_core.picture.picture import Picture, Plane
from kettle_core.picture.resample import Planes


def frame_to_i420(frame: av.VideoFrame) -> Plane:
    """A decoded yuv420p frame as an I420 buffer (rows * 3 / 2, columns) of our own."""
    height, width = frame.height, frame.width
    buffer = np.empty((height * 3 // 2, width), np.uint8)
    flat, start = buffer.reshape(-1), 0
    for plane in frame.planes:
        rows, columns = plane.height, plane.width
        padded = np.frombuffer(memoryview(plane), np.uint8).reshape(rows, plane.line_size)
        flat[start : start + rows * columns].reshape(rows, columns)[:] = padded[:, :columns]
        start += rows * columns
    return buffer


def frame_to_picture(frame: av.VideoFrame) -> Picture:
    """A decoded yuv420p frame as planes, read only: they are the frame's own memory."""
    return Picture(*planes_of(frame))


def planes_of(frame: av.VideoFrame) -> Planes:
    """Y, U and V of a yuv420p frame: its own memory."""
    y, u, v = (
        np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)[
            :, : plane.width
        ]
        for plane in frame.planes
    )
    return y, u, v
