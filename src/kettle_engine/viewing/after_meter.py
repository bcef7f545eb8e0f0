"""The level of one live sound after its chain, while a page looks at it."""

import threading
from typing import Any

import numpy as np
import soxr

from kettle_core.rig.rig import Input
from kettle_core.sound.levels import (
    SILENCE_DBFS,
    Sound,
    measure_level,
    strip_position,
    to_channels,
)
from kettle_core.sound.loudness import LoudnessMeter
from kettle_core.sound.mixing import to_integers
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import tone_chain
from kettle_engine.viewing.meter import HOLD_S
from kettle_media.sound.suppressors import voice_keeper

MOST_BLOCKS = 100


class AfterMeter:
    """Runs the blocks of a sound through its chain when it is read; nobody reads, nothing costs."""

    def __init__(self, item: Input) -> None:
        self.input = item
        mode = item.mode
        self._chain = tone_chain(item.tone, mode.channels, voice_keeper)
        self._slow = None
        if mode.sample_rate_hz != RATE_HZ:
            self._slow = soxr.ResampleStream(
                mode.sample_rate_hz, RATE_HZ, mode.channels, dtype="float32"
            )
        self._loudness = LoudnessMeter(mode.channels, RATE_HZ)
        self._blocks: list[Sound] = []
        self._sound = np.zeros((1, 0), np.float32)
        self._lock = threading.Lock()
        self._held_dbfs, self._held_left_s = SILENCE_DBFS, 0.0

    def take(self, block: Sound) -> None:
        """Add a block as it came; unread, only the last second is kept."""
        with self._lock:
            self._blocks.append(block)
            del self._blocks[:-MOST_BLOCKS]

    def heard(self) -> bytes:
        """What was read last as mono 16-bit samples at 48 kHz, little end first."""
        return to_integers(to_channels(self._sound, 1), 16).astype("<i2").tobytes()

    def read(self) -> dict[str, Any]:
        """Peak and held peak in dBFS with their places on a strip, momentary loudness."""
        with self._lock:
            blocks, self._blocks = self._blocks, []
        if blocks:
            came = np.concatenate(blocks, axis=1)
            if self._slow:
                came = self._slow.resample_chunk(np.ascontiguousarray(came.T)).T
            sound = self._chain.process(np.ascontiguousarray(came, np.float32))
        else:
            sound = np.zeros((self.input.mode.channels, 0), np.float32)
        self._sound = sound
        self._loudness.take(sound)
        level = measure_level(sound)
        self._held_left_s -= sound.shape[1] / RATE_HZ
        if level.peak_dbfs >= self._held_dbfs or self._held_left_s <= 0:
            self._held_dbfs, self._held_left_s = level.peak_dbfs, HOLD_S
        return {
            "input": self.input.id,
            "held_dbfs": round(self._held_dbfs, 1),
            "peak_at": round(strip_position(level.peak_dbfs), 4),
            "held_at": round(strip_position(self._held_dbfs), 4),
            "momentary_lufs": round(self._loudness.momentary_lufs(), 1),
        }
