"""One step of a sound's chain: blocks of any size in, the same samples out whatever the size."""

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np

from kettle_core.sound.levels import Sound

RATE_HZ = 48_000
FRAME_SAMPLES = 480


class Stage(Protocol):
    """A step of a chain.

    What comes out in all, `flush` included, is as long as what went in and lies at the same
    place: a stage that needs to look ahead keeps samples back instead of being late.
    """

    def process(self, block: Sound) -> Sound:
        """Take (channels, N) samples, give those that are ready."""
        ...

    def flush(self) -> Sound:
        """Give the samples still kept back; the stage is at its end then."""
        ...


class FrameStage(ABC):
    """A stage that computes in frames of one size, so that block sizes can't change a sample.

    `delay_samples` is how late `_frame` is; the base class takes it out again.
    """

    frame_samples = FRAME_SAMPLES
    delay_samples = 0

    def __init__(self, channels: int) -> None:
        self._channels = channels
        self._waiting = np.zeros((channels, 0), np.float32)
        self._taken = self._given = 0
        self._leave_out: int | None = None

    @abstractmethod
    def _frame(self, frame: Sound) -> Sound:
        """One frame in, one out: (channels, frame_samples) float32."""

    def process(self, block: Sound) -> Sound:
        """Take (channels, N) samples, give those that are ready."""
        self._taken += block.shape[1]
        return self._put(block)

    def flush(self) -> Sound:
        """The samples still kept back."""
        missing = self._taken - self._given
        parts = [np.zeros((self._channels, 0), np.float32)]
        nothing = np.zeros((self._channels, self.frame_samples), np.float32)
        while missing:
            parts.append(self._put(nothing)[:, :missing])
            missing -= parts[-1].shape[1]
        return np.concatenate(parts, axis=1)

    def _put(self, block: Sound) -> Sound:
        if self._leave_out is None:
            self._leave_out = self.delay_samples
        joined = np.concatenate([self._waiting, block], axis=1) if self._waiting.size else block
        size = self.frame_samples
        whole = joined.shape[1] // size * size
        self._waiting = joined[:, whole:].copy()
        if not whole:
            return np.zeros((self._channels, 0), np.float32)
        parts = [self._frame(joined[:, at : at + size]) for at in range(0, whole, size)]
        out = np.concatenate(parts, axis=1).astype(np.float32, copy=False)
        if self._leave_out:
            left_out = min(self._leave_out, out.shape[1])
            self._leave_out -= left_out
            out = out[:, left_out:]
        self._given += out.shape[1]
        return out


class EachSample:
    """A stage without memory: what `change` makes of a block."""

    def __init__(self, change: Callable[[Sound], Sound]) -> None:
        self._change = change
        self._last = np.zeros((1, 0), np.float32)

    def process(self, block: Sound) -> Sound:
        """Take a block, give it changed."""
        out = self._change(block)
        self._last = out[:, :0]
        return out

    def flush(self) -> Sound:
        """Nothing is ever kept back."""
        return self._last


class Chain:
    """Stages one after another, a stage themselves."""

    def __init__(self, stages: Sequence[Stage]) -> None:
        self.stages = tuple(stages)

    def process(self, block: Sound) -> Sound:
        """Take a block through all stages."""
        for stage in self.stages:
            block = stage.process(block)
        return block

    def flush(self) -> Sound:
        """What all stages kept back."""
        kept: Sound | None = None
        for stage in self.stages:
            if kept is None:
                kept = stage.flush()
            else:
                kept = np.concatenate([stage.process(kept), stage.flush()], axis=1)
        return np.zeros((1, 0), np.float32) if kept is None else kept


def run_through(stage: Stage, sound: Sound, block_samples: int = 48_000) -> Sound:
    """A whole (channels, N) sound through a stage; the length stays."""
    parts = [
        stage.process(sound[:, at : at + block_samples])
        for at in range(0, sound.shape[1], block_samples)
    ]
    return np.concatenate([*parts, stage.flush()], axis=1)
