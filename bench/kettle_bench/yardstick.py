"""How fast the machine is just now, by the same work done again and again."""

import math
import threading
import time
from pathlib import Path

import numpy as np

from kettle_core.rig.encoder_settings import track_settings
from kettle_media.take.tracks import PictureWriter
from kettle_studio.demo import demo_rig

FRAMES, GRAIN, SEED = 4, 6.0, 1
EVERY_S = 2.0


class Yardstick:
    """Encodes a few frames every two seconds, and tells what that took.

    Machines share their cores with others and are not as fast at one time as at another: what
    was measured at two times is compared by what the same work took beside it. It rests between
    as long at either time, as a core that has rested is slower.
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
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        while not self._over.wait(EVERY_S):
            began_s = time.thread_time()
            for frame in self._frames:
                self._writer.write(frame, self._written * self._frame_ns)
                self._written += 1
            self._took_s.append(time.thread_time() - began_s)

    def took_s(self) -> float:
        """Processor time of the work, the median since this was asked last, s."""
        found, self._took_s = self._took_s, []
        return float(np.median(found)) if found else math.nan

    def close(self) -> None:
        """End, and let its file go."""
        self._over.set()
        self._thread.join()
        self._writer.close()
