"""A small picture of where an export is, now and then."""

import time
from contextlib import suppress
from pathlib import Path

import av

from kettle_core.picture.picture import Plane
from kettle_media.durable import replace_file
from kettle_media.picture.frame_planes import frame_to_picture
from kettle_media.picture.jpeg import picture_to_page_jpeg
from kettle_media.picture.scaling import Scaler

EVERY_S = 1.5
WIDTH_PX, QUALITY = 320, 70


class Peek:
    """Writes a frame as JPEG from time to time; what can't be written is not shown."""

    def __init__(self, path: Path) -> None:
        self._path, self._next_s = path, 0.0

    def look(self, buffer: Plane) -> None:
        """Look at a frame (rows * 3 / 2, columns), I420."""
        now_s = time.monotonic()
        if now_s < self._next_s:
            return
        self._next_s = now_s + EVERY_S
        with suppress(OSError):
            frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
            height = round(WIDTH_PX * frame.height / frame.width / 2) * 2
            small = frame_to_picture(Scaler(WIDTH_PX, height).scaled(frame))
            replace_file(self._path, picture_to_page_jpeg(small, QUALITY), 0)

    def close(self) -> None:
        """Nothing is encoded any more."""
        with suppress(OSError):
            self._path.unlink(missing_ok=True)
