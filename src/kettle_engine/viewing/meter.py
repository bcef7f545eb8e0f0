"""The level of one live sound between two looks at it, and its last seconds to listen to."""

import threading
from collections import deque
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kettle_core.rig.rig import Input
from kettle_core.sound.levels import CLIP_LEVEL, SILENCE_DBFS, measure_level, strip_position
from kettle_core.sound.tone import placed
from kettle_core.sound.watch import SoundState, SoundWatch
from kettle_engine.rings.ring import SOUND_S, RingReader
from kettle_engine.viewing.watch import HEARS

HOLD_S = 1.5
# Blocks of an unwatched sound that are measured when somebody looks at it.
MOST_NEW = 100
# As far as its ring reaches, also where it has none.
KEPT_S = round(SOUND_S)
Block = NDArray[np.float32]


class Meter:
    """Collects blocks; `read` gives the level since the last look, peak hold and clips."""

    def __init__(self, item: Input) -> None:
        self.input = item
        # What the blocks come from, if that keeps the last seconds; they are kept here otherwise.
        self.ring: RingReader | None = None
        self._rate_hz = item.mode.sample_rate_hz
        self._new: list[Block] = []
        self._kept: deque[Block] = deque()
        self._kept_samples = 0
        self._lock = threading.Lock()
        self._clipped = 0
        self._held_dbfs = SILENCE_DBFS
        self._held_left_s = 0.0
        self._watch = SoundWatch(HEARS[item.kind])
        # Gets every block as well while a page looks at what the chain makes of it.
        self.after: Callable[[Block], None] | None = None

    def take(self, block: Block) -> None:
        """Add a block; of an unwatched sound only the last second is measured."""
        with self._lock:
            self._new.append(block)
            del self._new[:-MOST_NEW]
            if self.ring is None:
                self._keep(block)
        if after := self.after:
            after(block)

    def _keep(self, block: Block) -> None:
        self._kept.append(block)
        self._kept_samples += block.shape[1]
        while self._kept_samples - self._kept[0].shape[1] >= KEPT_S * self._rate_hz:
            self._kept_samples -= self._kept.popleft().shape[1]

    def read(self) -> dict[str, float]:
        """Levels in dBFS after the gain, their places on a strip; clips since it was opened."""
        with self._lock:
            blocks, self._new = self._new, []
        raw = np.concatenate(blocks, axis=1) if blocks else np.zeros((1, 0), np.float32)
        tone = self.input.tone
        level = measure_level(placed(raw, tone))
        clipped = max(level.clipped_samples, int(np.count_nonzero(np.abs(raw) >= CLIP_LEVEL)))
        elapsed_s = raw.shape[1] / self._rate_hz
        self._watch.take(level.peak_dbfs, clipped > 0, elapsed_s)
        self._held_left_s -= elapsed_s
        if level.peak_dbfs >= self._held_dbfs or self._held_left_s <= 0:
            self._held_dbfs, self._held_left_s = level.peak_dbfs, HOLD_S
        self._clipped += clipped
        return {
            "peak_dbfs": round(level.peak_dbfs, 1),
            "rms_dbfs": round(level.rms_dbfs, 1),
            "held_dbfs": round(self._held_dbfs, 1),
            "clipped": self._clipped,
            "peak_at": round(strip_position(level.peak_dbfs), 4),
            "held_at": round(strip_position(self._held_dbfs), 4),
        }

    def state(self) -> SoundState:
        """What the input hears."""
        return self._watch.state()

    def last(self, seconds: float) -> Block:
        """The last seconds as they came, (channels, samples) float32."""
        if self.ring:
            blocks = self.ring.recent(seconds)
        else:
            with self._lock:
                blocks = list(self._kept)
        if not blocks:
            return np.zeros((self.input.mode.channels, 0), np.float32)
        count = max(1, round(seconds * self._rate_hz))
        return np.concatenate(blocks, axis=1)[:, -count:]
