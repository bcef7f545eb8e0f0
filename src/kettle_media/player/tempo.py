"""Sound played faster or slower at the same pitch."""

from fractions import Fraction
from typing import Any

import av
import numpy as np
from av.error import FFmpegError

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound
from kettle_media.take.sound_track import MASTER_HZ

LIMITS = (0.5, 2.0)


class Tempo:
    """Stretches (2, N) blocks at 48 kHz in time, by pieces that overlap (libavfilter's atempo).

    Parameters
    ----------
    rate : how many times as fast, 0.5 to 2

    Raises
    ------
    SoundError
        If the rate lies outside of that.
    """

    def __init__(self, rate: float) -> None:
        if not LIMITS[0] <= rate <= LIMITS[1]:
            raise SoundError(f"A take is played 0.5 to 2 times as fast, not {rate:g}.")
        self._rate, self._pts = rate, 0
        self._graph: Any = None
        if rate == 1:
            return
        graph = av.filter.Graph()
        source = graph.add_abuffer(
            sample_rate=MASTER_HZ, format="flt", layout="stereo", time_base=Fraction(1, MASTER_HZ)
        )
        tempo = graph.add("atempo", f"{rate:.6f}")
        sink = graph.add("abuffersink")
        source.link_to(tempo)
        tempo.link_to(sink)
        graph.configure()
        self._graph = graph

    def process(self, block: Sound) -> Sound:
        """What is ready after another block."""
        if self._graph is None or not block.shape[1]:
            return block
        packed = np.ascontiguousarray(block.T, np.float32).reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(packed, format="flt", layout="stereo")
        frame.sample_rate, frame.pts = MASTER_HZ, self._pts
        frame.time_base = Fraction(1, MASTER_HZ)
        self._pts += block.shape[1]
        self._graph.push(frame)
        return self._pulled()

    def flush(self) -> Sound:
        """The rest."""
        if self._graph is None:
            return np.zeros((2, 0), np.float32)
        self._graph.push(None)
        return self._pulled()

    def _pulled(self) -> Sound:
        parts = [np.zeros((2, 0), np.float32)]
        while True:
            try:
                frame = self._graph.pull()
            except (BlockingIOError, EOFError, FFmpegError):
                break
            parts.append(frame.to_ndarray().reshape(-1, 2).T)
        return np.concatenate(parts, axis=1)
