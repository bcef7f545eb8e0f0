"""Where somebody speaks, and how far the voice stands above the noise."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound.filters import filtered, no_state
from kettle_core.sound.levels import SILENCE_DBFS, Sound
from kettle_core.sound.stage import FRAME_SAMPLES, RATE_HZ

FloatArray = NDArray[np.float64]
FRAMES_PER_S = RATE_HZ // FRAME_SAMPLES
WINDOW = 2 * FRAME_SAMPLES
BAND_EDGES_HZ = (150, 300, 500, 800, 1200, 1800, 2700, 4000, 6000)
# A floor is the least of the last 1.5 s, in pieces of 0.25 s.
PIECE_FRAMES = 25
PIECES = 6
LEAST_DB = -85.0
STANDS_OUT_DB = 6.5
STAYS_DB = 3.5
HANG_FRAMES = 12
SETTLING_FRAMES = 2
# Of a level so much is that of the frame before.
KEPT_SHARE = 0.6
SMOOTHING = np.array([[1 - KEPT_SHARE, 0, 0, 1, -KEPT_SHARE, 0]])
# Smoothed noise lies this much above the least value seen of it.
LEAST_TO_MEAN_DB = 3.5


class VoiceDetector:
    """Says for each 10 ms whether there is voice, from how far eight bands stand out.

    Block sizes change nothing. A frame is judged from the 20 ms that end with it.
    """

    def __init__(self) -> None:
        edges = np.array(BAND_EDGES_HZ) * WINDOW / RATE_HZ
        self._starts = np.round(edges).astype(np.int64)
        self._widths = np.diff(self._starts)
        self._taper = np.hanning(WINDOW + 1)[:-1].astype(np.float32)
        self._waiting = np.zeros(FRAME_SAMPLES, np.float32)
        self._smooth: FloatArray | None = None
        self._pieces: list[FloatArray] = []
        self._least_before = np.full(self._widths.size, np.inf)
        self._least = np.full(self._widths.size, np.inf)
        self._frames = 0
        self._on = False
        self._hang = 0

    def process(self, block: Sound) -> NDArray[np.bool_]:
        """Take (channels, N) samples, give a truth for each frame of 480 that is complete."""
        mono = block.mean(axis=0) if block.shape[0] > 1 else block[0]
        joined = np.concatenate([self._waiting, mono])
        frames = joined.size // FRAME_SAMPLES - 1
        if frames <= 0:
            self._waiting = joined
            return np.zeros(0, bool)
        windows = np.lib.stride_tricks.sliding_window_view(joined, WINDOW)
        spectra = np.fft.rfft(windows[::FRAME_SAMPLES][:frames] * self._taper)
        power = spectra.real**2 + spectra.imag**2
        bands = np.add.reduceat(power, self._starts, axis=1)[:, :-1] / self._widths
        self._waiting = joined[frames * FRAME_SAMPLES :].copy()
        levels = 10 * np.log10(bands * (8 / 3 / WINDOW**2) + 1e-12)
        return self._judge(levels)

    def _judge(self, levels: FloatArray) -> NDArray[np.bool_]:
        """A truth for each row of (F, bands) levels in dB."""
        smooth = self._smoothed(levels)
        found = np.zeros(levels.shape[0], bool)
        at = max(0, min(SETTLING_FRAMES - self._frames, levels.shape[0]))
        self._frames += at
        while at < levels.shape[0]:
            # A piece ends with the frame whose number is a multiple of its length.
            end = min(at + PIECE_FRAMES - self._frames % PIECE_FRAMES, levels.shape[0])
            part = smooth[at:end]
            least = np.minimum.accumulate(np.vstack([self._least, part]), axis=0)[1:]
            floor = np.minimum(least, self._least_before)
            floor = np.maximum(floor + LEAST_TO_MEAN_DB, LEAST_DB)
            # The four bands that stand out most: a voice never fills all of them.
            out = np.sort(np.minimum(np.maximum(part - floor, 0), 30), axis=1)[:, -4:]
            found[at:end] = [self._is_voice(float(rise)) for rise in out.sum(axis=1) / 4]
            self._frames += end - at
            self._least = least[-1]
            if self._frames % PIECE_FRAMES == 0:
                self._pieces = [*self._pieces, self._least][-PIECES:]
                self._least_before = np.min(self._pieces, axis=0)
                self._least = part[-1]
            at = end
        return found

    def _smoothed(self, levels: FloatArray) -> FloatArray:
        """Levels smoothed over some frames; the first window is half empty and counts alone."""
        made = levels.copy()
        first = max(0, min(SETTLING_FRAMES - self._frames, levels.shape[0]))
        before = made[first - 1] if first else self._smooth
        state = no_state(SMOOTHING, levels.shape[1])
        if before is not None:
            state[0, :, 0] = KEPT_SHARE * before
        made[first:] = filtered(SMOOTHING, levels[first:].T, state)[0].T
        self._smooth = made[-1]
        return made

    def _is_voice(self, rise_db: float) -> bool:
        if rise_db > (STAYS_DB if self._on else STANDS_OUT_DB):
            self._on, self._hang = True, HANG_FRAMES
        elif self._hang:
            self._hang -= 1
        else:
            self._on = False
        return self._on


def find_voice(sound: Sound) -> NDArray[np.bool_]:
    """Whether there is voice in each 10 ms of a (channels, N) sound at 48 kHz; (N // 480,)."""
    parts = []
    detector = VoiceDetector()
    for at in range(0, sound.shape[1], RATE_HZ):
        parts.append(detector.process(sound[:, at : at + RATE_HZ]))
    return np.concatenate(parts) if parts else np.zeros(0, bool)


@dataclass(frozen=True)
class VoiceAndNoise:
    """RMS of the pauses and of the voice (without the noise under it), and the ratio of them.

    `voice_s` is how long there was voice; without any, the voice is -120 dBFS and the ratio 0.
    """

    noise_floor_dbfs: float
    voice_dbfs: float
    voice_to_noise_db: float
    voice_s: float


def measure_voice_and_noise(energy: FloatArray, voice: NDArray[np.bool_]) -> VoiceAndNoise:
    """Voice and noise of a sound, given where the voice is.

    To compare a sound before and after a filter, use the same `voice` for both: it is found
    best in the cleaner one.

    Parameters
    ----------
    energy : (F,) from `frame_energy`
    voice : (F,) from `find_voice`
    """
    frames = min(energy.size, voice.size)
    energy, voice = energy[:frames], voice[:frames]
    # What hangs over at the end of a word is neither.
    core = voice & np.roll(voice, -HANG_FRAMES)
    pauses = energy[~voice]
    if pauses.size >= 10:
        quiet = float(np.median(pauses))
    else:
        quiet = float(np.percentile(energy, 5)) if energy.size else 0.0
    floor_dbfs = energy_to_dbfs(quiet)
    if not core.any():
        return VoiceAndNoise(floor_dbfs, SILENCE_DBFS, 0.0, 0.0)
    spoken = max(float(energy[core].mean()) - quiet, 0.0)
    voice_dbfs = energy_to_dbfs(spoken)
    return VoiceAndNoise(
        floor_dbfs, voice_dbfs, voice_dbfs - floor_dbfs, float(voice.sum() / FRAMES_PER_S)
    )


def frame_energy(sound: Sound) -> FloatArray:
    """Mean square of each frame of 480 samples over all channels; (N // 480,)."""
    frames = sound.shape[1] // FRAME_SAMPLES
    cut = sound[:, : frames * FRAME_SAMPLES].reshape(sound.shape[0], frames, FRAME_SAMPLES)
    sums = np.einsum("cfs,cfs->f", cut, cut, dtype=np.float64)
    return np.asarray(sums / max(sound.shape[0] * FRAME_SAMPLES, 1))


def energy_to_dbfs(energy: float) -> float:
    """Level of a mean square, dBFS; silence for nothing."""
    return float(max(SILENCE_DBFS, 10 * np.log10(max(energy, 1e-15))))
