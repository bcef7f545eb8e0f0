"""Whether a moving picture, or an archive of frames, is what it should be."""

import io
import zipfile
from pathlib import Path

import numpy as np
from PIL import Image

from kettle_core.picture.picture import picture_from_i420, picture_to_rgb
from kettle_media.assembly.finding import Finding
from kettle_media.program.renderer import Renderer
from kettle_media.program.show import Show
from kettle_media.told import Told

# Of 255, on the average over a frame.
MOST_OFF = 2.0


def check_archive(path: Path, show: Show) -> Finding:
    """The frames of an archive: all there, the one in the middle as it was meant.

    Raises TakeError if it can't be read.
    """
    frames = show.plan.frames
    with Told(path), zipfile.ZipFile(path) as archive:
        names = archive.namelist()
        good = len(names) == frames and archive.testzip() is None
        middle = frames // 2
        with Image.open(io.BytesIO(archive.read(names[middle]))) as image:
            there = np.asarray(image.convert("RGB"), np.float32)
    drawn = Renderer(show.plan, show.sources, show.masks).frame(middle)
    meant = picture_to_rgb(picture_from_i420(drawn)).astype(np.float32)
    off = float(np.abs(there - meant).mean()) if there.shape == meant.shape else 255.0
    words = f"{len(names)} of {frames}, the one in the middle {off:.1f} of 255 off"
    return Finding("Frames", words, good and off < MOST_OFF)


def check_moving(path: Path, frames: int, length_s: float) -> Finding:
    """The frames of a moving picture, and how long they are shown together.

    Raises TakeError if it can't be read.
    """
    with Told(path), Image.open(path) as image:
        there, shown_ms = int(getattr(image, "n_frames", 1)), 0.0
        for number in range(there):
            image.seek(number)
            image.load()
            shown_ms += float(image.info.get("duration", 0))
    words = f"{there} of {frames}, shown for {shown_ms / 1000:.2f} s, {length_s:.2f} s wanted"
    # Frames that are the same may be one that is shown longer; GIF counts hundredths of a second.
    good = 0 < there <= frames and abs(shown_ms / 1000 - length_s) < 0.1 + 0.06 * length_s
    return Finding("Frames", words, good)
