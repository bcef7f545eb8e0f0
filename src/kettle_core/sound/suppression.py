"""Noise suppression: how strong, and in step with the sound that goes in.

The engines that tell voice from noise are libraries; `kettle_media.sound.suppressors` has them.
"""

from collections.abc import Callable
from typing import Protocol

import numpy as np

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound

ENGINES = ("thorough", "light")


class VoiceKeeper(Protocol):
    """An engine for one channel at 48 kHz that keeps the voice and leaves out the rest.

    As many samples come out as went in, at the same place.
    """

    def process(self, samples: Sound) -> Sound:
        """Take (N,) float32 samples, give those that are ready."""
        ...

    def flush(self) -> Sound:
        """Give what is kept back."""
        ...


class NoiseSuppression:
    """Mixes what an engine leaves of each channel with the sound as it came.

    Parameters
    ----------
    make_engine : gives a new engine, one for each channel
    channels : int
    strength : 0 to 1, the share of the engine's sound; 0 leaves every sample as it is

    Raises
    ------
    SoundError
        If the strength lies outside 0 to 1.
    """

    def __init__(
        self, make_engine: Callable[[], VoiceKeeper], channels: int, strength: float
    ) -> None:
        if not 0 <= strength <= 1:
            raise SoundError(f"Noise suppression goes from 0 to 100 %, got {strength:.0%}.")
        self._strength = np.float32(strength)
        self._engines = [make_engine() for _ in range(channels)] if strength else []
        self._dry = np.zeros((channels, 0), np.float32)
        self._wet = [np.zeros(0, np.float32) for _ in range(channels)]

    def process(self, block: Sound) -> Sound:
        """Take (channels, N) samples, give those that are ready."""
        if not self._engines:
            return block
        self._dry = np.concatenate([self._dry, block], axis=1)
        return self._mixed([e.process(x) for e, x in zip(self._engines, block, strict=True)])

    def flush(self) -> Sound:
        """The samples still kept back."""
        if not self._engines:
            return self._dry
        return self._mixed([engine.flush() for engine in self._engines])

    def _mixed(self, wet: list[Sound]) -> Sound:
        joined = [np.concatenate(pair) for pair in zip(self._wet, wet, strict=True)]
        ready = min(self._dry.shape[1], *(x.size for x in joined))
        self._wet = [x[ready:] for x in joined]
        dry, self._dry = self._dry[:, :ready], self._dry[:, ready:]
        kept = np.stack([x[:ready] for x in joined])
        return np.asarray(dry + self._strength * (kept - dry), dtype=np.float32)
