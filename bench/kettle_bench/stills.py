"""Files that benches want and nobody else."""

from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from kettle_core.rig.encoder_settings import ConstantQuality, EncoderSettings
from kettle_media.encoding import open_encoder


def write_still(path: Path, frames: int, fps: Fraction, size: tuple[int, int] = (64, 48)) -> None:
    """A file with one grey picture again and again, as a program has its frames."""
    settings = EncoderSettings(ConstantQuality(30), "ultrafast", threads=1)
    grey = np.full((size[1] * 3 // 2, size[0]), 128, np.uint8)
    with av.open(str(path), "w", format="mp4") as container:
        stream = open_encoder(container, settings, size, fps, 1 / fps)
        for number in range(frames):
            frame = av.VideoFrame.from_numpy_buffer(grey, format="yuv420p")
            frame.pts, frame.time_base = number, 1 / fps
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


def times_ns(path: Path) -> list[Fraction]:
    """When each frame of a file is shown, in ns, exactly as the file says."""
    with av.open(str(path)) as container:
        stream = container.streams.video[0]
        return sorted(
            p.pts * p.time_base * 1_000_000_000
            for p in container.demux(stream)
            if p.pts is not None and p.size
        )
