"""What is in track files: pictures, their brightness alone, sounds."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from kettle_core.picture.picture import Plane
from kettle_media.sound.sound_frames import samples_of
from kettle_media.take.packets import readable
from kettle_media.told import Told


def read_pictures(path: Path) -> Iterator[av.VideoFrame]:
    """Decoded frames of a track in order. Raises TakeError."""
    with Told(path), av.open(str(path)) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        yield from container.decode(stream)


def read_brightness(path: Path, from_s: float, count: int) -> Iterator[Plane]:
    """Luma planes of up to `count` frames from a time on, read only. Raises TakeError.

    Decoding begins at the keyframe before; of what is not given nothing is copied.
    """
    with Told(path), av.open(str(path)) as container:
        stream = container.streams.video[0]
        # Several threads are done sooner, but take half as much again.
        stream.codec_context.thread_count = 1
        stream.codec_context.options = {"skip_loop_filter": "all"}
        kept: list[Any] = []
        begun, given = False, 0
        for packet in readable(container, stream):
            if not begun:
                # Packets since the last keyframe before the place.
                kept = [packet] if packet.is_keyframe else [*kept, packet]
                if float(packet.pts * packet.time_base) < from_s - 0.001:
                    continue
                begun = True
                packets = kept
            else:
                packets = [packet]
            for frame in (f for p in packets for f in p.decode()):
                if frame.time >= from_s - 0.001 and given < count:
                    plane = frame.planes[0]
                    rows = np.frombuffer(memoryview(plane), np.uint8)
                    given += 1
                    yield rows.reshape(plane.height, plane.line_size)[:, : plane.width]
            if given >= count:
                return


def read_sound(path: Path) -> Iterator[NDArray[np.float32]]:
    """Decoded blocks of a track, (channels, samples) float32. Raises TakeError."""
    for _, block in read_sound_parts(path):
        yield block


def read_sound_parts(path: Path) -> Iterator[tuple[float, NDArray[np.float32]]]:
    """Decoded blocks with the time in s at which each lies in the file; silence for a packet
    that can't be decoded. Raises TakeError.
    """
    with Told(path), av.open(str(path)) as container:
        stream = container.streams.audio[0]
        channels = stream.codec_context.channels
        for packet in readable(container, stream):
            at_s = float(packet.pts * packet.time_base)
            try:
                frames = list(packet.decode())
            except av.error.InvalidDataError:
                length_s = float((packet.duration or 0) * packet.time_base)
                yield at_s, np.zeros((channels, round(length_s * stream.rate)), np.float32)
                continue
            for frame in frames:
                yield at_s, np.ascontiguousarray(samples_of(frame, channels), np.float32)
