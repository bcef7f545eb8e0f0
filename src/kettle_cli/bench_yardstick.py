"""How fast the machine is just now, by the same work done again and again."""

import time
from pathlib import Path

import numpy as np

from kettle_core.rig.encoder_settings import track_settings
from kettle_media.take.tracks import PictureWriter
from kettle_studio.demo import demo_rig

FRAMES, GRAIN, SEED = 4, 6.0, 1


class Yardstick:
    """Encodes a few frames whenever it is asked to, and tells what that took.

    Machines share their cores with others and are not as fast at one time as at another: what
    was measured at two times is compared by what the same work took beside it.
    """

    def __init__(self, folder: Path) -> None:
        item = next(i for i in demo_rig().inputs if i.kind == "webcam")
        size = (item.mode.height * 3 // 2, item.mode.width)
        random = np.random.default_rng(SEED)
        slope = np.linspace(40, 200, size[1])[np.newaxis, :]
        self._frames = [
            np.clip(slope + random.normal(0, GRAIN, size), 16, 235).astype(np.uint8)
            for _ in range(FRAMES)
        ]
        settings = track_settings(item.mode, demo_rig().track_of(item))
        self._writer = PictureWriter(folder / "yardstick.mkv", item.mode, settings)
        self._frame_ns = round(10**9 / item.mode.fps)
        self._written = 0
        self._took_s: list[float] = []
        # The first frames open what the others find open.
        self.take()
        self._took_s.clear()

    def take(self) -> None:
        """Do the work once more."""
        began_s = time.thread_time()
        for frame in self._frames:
            self._writer.write(frame, self._written * self._frame_ns)
            self._written += 1
        self._took_s.append(time.thread_time() - began_s)

    def took_s(self) -> float:
        """Processor time of the work, in the mean since this was asked last, s."""
        found = float(np.mean(self._took_s))
        self._took_s.clear()
        return found

    def close(self) -> None:
        """Let its file go."""
        self._writer.close()
