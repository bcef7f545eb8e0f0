"""Voice over background: how far the voice stands above what plays, and ducking."""

from collections import deque
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import SoundError
from kettle_core.fields import within
from kettle_core.sound.filters import filtered, no_state
from kettle_core.sound.levels import Sound, db_to_ratio
from kettle_core.sound.loudness import k_weighting
from kettle_core.sound.stage import FRAME_SAMPLES, RATE_HZ, FrameStage
from kettle_core.sound.voice import VoiceDetector, frame_energy

FloatArray = NDArray[np.float64]
# Listeners who know the words follow them at 10 dB, most others need 15; beyond 28 the
# background is a disturbance more than a background.
COVERS_DB = 5.0
LEAST_DB = 10.0
WANTED_DB = 16.0
MOST_DB = 28.0
BACKGROUND_ABOVE_DBFS = -70.0
LEAST_TOGETHER_S = 1.0
GAIN_LIMITS_DB = (-30.0, 12.0)
EVENLY = np.arange(FRAME_SAMPLES) / FRAME_SAMPLES


@dataclass(frozen=True)
class Balance:
    """Voice against background while both sound.

    `voice_over_background_db` and `proposed_gain_db` (for the background) are None where the
    two never sound together long enough; `word` is for programs, `verdict` for people.
    """

    voice_over_background_db: float | None
    word: str
    verdict: str
    proposed_gain_db: float | None
    together_s: float


class BalanceMeter:
    """Sets a voice against its background, both as they go into the mix, block by block.

    Both are K-weighted; only stretches of 10 ms count in which there is voice and the
    background is not silent.
    """

    def __init__(self, voice_channels: int, background_channels: int) -> None:
        self._detector = VoiceDetector()
        self._voice = WeightedEnergy(voice_channels)
        self._other = WeightedEnergy(background_channels)
        self._spoken: list[NDArray[np.bool_]] = []

    def take(self, voice: Sound, background: Sound) -> None:
        """Add (channels, N) blocks at 48 kHz on one time axis."""
        self._spoken.append(self._detector.process(voice))
        self._voice.take(voice)
        self._other.take(background)

    def read(self) -> Balance:
        """The balance of all that was taken."""
        spoken = np.concatenate([np.zeros(0, bool), *self._spoken])
        voice, other = self._voice.read(), self._other.read()
        length = min(spoken.size, voice.size, other.size)
        spoken, voice, other = spoken[:length], voice[:length], other[:length]
        together = spoken & (other > 10 ** (BACKGROUND_ABOVE_DBFS / 10))
        together_s = float(together.sum() * FRAME_SAMPLES / RATE_HZ)
        if not spoken.any():
            words = "There is no voice to compare with."
            return Balance(None, "no voice", words, None, together_s)
        if together_s < LEAST_TOGETHER_S:
            words = "Voice and background hardly sound together."
            return Balance(None, "apart", words, None, together_s)
        # Loud stretches of the background are what covers words: its upper quarter counts.
        loud = float(np.percentile(_half_seconds(other, together), 75))
        ratio_db = float(10 * np.log10(voice[together].mean() / loud))
        return judge_balance(ratio_db, together_s)


def measure_balance(voice: Sound, background: Sound) -> Balance:
    """The balance of two whole (channels, N) sounds at 48 kHz."""
    meter = BalanceMeter(voice.shape[0], background.shape[0])
    meter.take(voice, background)
    return meter.read()


def judge_balance(ratio_db: float, together_s: float) -> Balance:
    """The verdict on a ratio in dB, and the gain for the background that mends it."""
    gain_db = 0.0
    if ratio_db < LEAST_DB:
        word = "too loud"
        verdict = "The background is too loud for the voice."
        if ratio_db < COVERS_DB:
            verdict = "The background covers the voice."
        gain_db = ratio_db - WANTED_DB
    elif ratio_db > MOST_DB:
        word, verdict = "too quiet", "The background is hardly heard beside the voice."
        gain_db = ratio_db - MOST_DB + 2
    else:
        word, verdict = "in balance", "The voice stands clear of the background."
    low, high = GAIN_LIMITS_DB
    gain_db = float(np.clip(np.floor(gain_db * 2) / 2, low, high))
    return Balance(ratio_db, word, verdict, gain_db, together_s)


class WeightedEnergy:
    """K-weighted mean square of each 10 ms of a sound, all channels together."""

    def __init__(self, channels: int) -> None:
        self._sections = k_weighting(RATE_HZ)
        self._state = no_state(self._sections, channels)
        self._rest = np.zeros((channels, 0), np.float32)
        self._energies = [np.zeros(0)]

    def take(self, block: Sound) -> None:
        """Add (channels, N) samples."""
        weighted, self._state = filtered(self._sections, block, self._state)
        joined = np.concatenate([self._rest, weighted.astype(np.float32)], axis=1)
        energy = frame_energy(joined)
        self._energies.append(energy * block.shape[0])
        self._rest = joined[:, energy.size * FRAME_SAMPLES :]

    def read(self) -> FloatArray:
        """(F,) for each whole 10 ms so far."""
        self._energies = [np.concatenate(self._energies)]
        return self._energies[0]


def _half_seconds(energy: FloatArray, used: NDArray[np.bool_]) -> FloatArray:
    """Mean energy of each half second, of its used frames only."""
    starts = np.arange(0, energy.size, 50)
    counts = np.add.reduceat(used.astype(np.float64), starts)
    sums = np.add.reduceat(energy * used, starts)
    return np.asarray(sums[counts > 0] / counts[counts > 0])


DUCKING_LIMITS = {
    "depth_db": (1.0, 40.0),
    "attack_ms": (10.0, 1000.0),
    "hold_ms": (0.0, 5000.0),
    "release_ms": (10.0, 10_000.0),
}


@dataclass(frozen=True)
class Ducking:
    """How far the background goes down under a voice, and how fast; times in ms."""

    on: bool = False
    depth_db: Annotated[float, within(*DUCKING_LIMITS["depth_db"])] = 12.0
    attack_ms: Annotated[float, within(*DUCKING_LIMITS["attack_ms"])] = 120.0
    hold_ms: Annotated[float, within(*DUCKING_LIMITS["hold_ms"])] = 400.0
    release_ms: Annotated[float, within(*DUCKING_LIMITS["release_ms"])] = 800.0


class Ducker:
    """Lowers a background while there is voice.

    It looks ahead by the attack: when the first syllable comes, the background is down
    already. After the voice it stays down for the hold and comes back within the release.
    Gains move evenly in dB. What comes out lies where it came in; the voice itself is not
    touched.

    Raises
    ------
    SoundError
        If a value of the ducking lies outside its limits.
    """

    def __init__(self, channels: int, ducking: Ducking) -> None:
        for name, (low, high) in DUCKING_LIMITS.items():
            value = getattr(ducking, name)
            if not low <= value <= high:
                unit = "dB" if name.endswith("db") else "ms"
                word = name.rsplit("_", 1)[0]
                raise SoundError(
                    f"The {word} of ducking is {low:g} to {high:g} {unit}, got {value:g}.", name
                )
        self._detector = VoiceDetector()
        self._gains = DuckingGains(ducking)
        self._stage = _Gained(channels, self._gains)

    def process(self, voice: Sound, background: Sound) -> Sound:
        """Take blocks of one length, give what is ready of the background."""
        self._gains.hear(self._detector.process(voice))
        return self._stage.process(background)

    def flush(self) -> Sound:
        """The background still kept back."""
        return self._stage.flush()


class DuckingGains:
    """The gain in dB of each 10 ms, given where the voice is."""

    def __init__(self, ducking: Ducking) -> None:
        frame_ms = 1000 * FRAME_SAMPLES / RATE_HZ
        self.ahead_frames = max(1, round(ducking.attack_ms / frame_ms))
        self._hold_frames = round(ducking.hold_ms / frame_ms)
        self._depth_db = ducking.depth_db
        self._down_db = ducking.depth_db / self.ahead_frames
        self._up_db = ducking.depth_db / max(1, round(ducking.release_ms / frame_ms))
        self._heard: deque[bool] = deque()
        self._gain_db = 0.0
        self._held = self._hold_frames + 1

    def hear(self, voice: NDArray[np.bool_]) -> None:
        """Add frames with and without voice."""
        self._heard.extend(bool(v) for v in voice)

    def next_db(self) -> tuple[float, float]:
        """Gain at the beginning and end of the next frame; what is not known yet is silence."""
        before = self._gain_db
        soon = any(self._heard[n] for n in range(min(self.ahead_frames + 1, len(self._heard))))
        if self._heard and self._heard.popleft():
            self._held = 0
        else:
            self._held += 1
        if soon:
            self._gain_db = max(-self._depth_db, before - self._down_db)
        elif self._held > self._hold_frames:
            self._gain_db = min(0.0, before + self._up_db)
        return before, self._gain_db


class _Gained(FrameStage):
    """A background with the gains of a ducking, which look ahead."""

    def __init__(self, channels: int, gains: DuckingGains) -> None:
        super().__init__(channels)
        self._gains = gains
        self.delay_samples = (gains.ahead_frames + 1) * FRAME_SAMPLES
        self._kept = deque(
            np.zeros((channels, FRAME_SAMPLES), np.float32) for _ in range(gains.ahead_frames + 1)
        )
        self._skip = gains.ahead_frames + 1

    def _frame(self, frame: Sound) -> Sound:
        self._kept.append(frame)
        late = self._kept.popleft()
        if self._skip:
            self._skip -= 1
            return late
        before, after = self._gains.next_db()
        if before == after == 0:
            return late
        if before == after:
            return late * np.float32(db_to_ratio(before))
        steps = before + (after - before) * EVENLY
        return np.asarray(late * np.power(10.0, steps / 20), np.float32)
