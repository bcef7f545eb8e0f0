"""Loudness: momentary, short-term, integrated, and its range.

References
----------
ITU-R BS.1770-5 (K-weighting, gating), EBU R 128, EBU Tech 3341 (times), EBU Tech 3342 (range).
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import SoundError
from kettle_core.sound.filters import filtered, no_state
from kettle_core.sound.levels import Sound

FloatArray = NDArray[np.float64]
SILENCE_LUFS = -120.0
STEPS_PER_S = 100
MOMENTARY_STEPS = 40
SHORT_TERM_STEPS = 300
GATE_LUFS = -70.0
# Left, right, centre, low frequencies, left and right surround: BS.1770-5, table 3.
CHANNEL_WEIGHTS = {5: (1, 1, 1, 1.41, 1.41), 6: (1, 1, 1, 0, 1.41, 1.41)}


def k_weighting(rate_hz: int) -> FloatArray:
    """The two filters of K-weighting as second-order sections for any sample rate.

    Parameters
    ----------
    rate_hz : int, above 4000

    Returns
    -------
    (2, 6) float64 ndarray; at 48 kHz the coefficients of BS.1770-5, tables 1 and 2
    """
    # The analogue filters behind the published coefficients, by the bilinear transform.
    k = np.tan(np.pi * min(1681.974450955533, 0.49 * rate_hz) / rate_hz)
    high, q = 10 ** (3.999843853973347 / 20), 0.7071752369554196
    band = high**0.4996667741545416
    norm = 1 + k / q + k * k
    shelf = [
        (high + band * k / q + k * k) / norm,
        2 * (k * k - high) / norm,
        (high - band * k / q + k * k) / norm,
        1.0,
        2 * (k * k - 1) / norm,
        (1 - k / q + k * k) / norm,
    ]
    k, q = np.tan(np.pi * 38.13547087602444 / rate_hz), 0.5003270373238773
    norm = 1 + k / q + k * k
    high_pass = [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / norm, (1 - k / q + k * k) / norm]
    return np.array([shelf, high_pass])


@dataclass(frozen=True)
class Loudness:
    """What a sound measured; levels in LUFS (-120 for silence), the range in LU."""

    integrated_lufs: float
    momentary_max_lufs: float
    short_term_max_lufs: float
    range_lu: float


class LoudnessMeter:
    """Measures a sound block by block; reading it does not change it.

    Energy is kept for each 10 ms, so that the sliding windows of 0.4 s and 3 s end every 10 ms;
    gating takes every tenth of them. An hour needs 3 MB.

    Parameters
    ----------
    channels : int, 1 to 8; of 5 and 6 the surround order is known, others count alike
    rate_hz : int, 8000 to 192000
    """

    def __init__(self, channels: int, rate_hz: int) -> None:
        if not 1 <= channels <= 8 or not 8000 <= rate_hz <= 192_000:
            raise SoundError(
                "Loudness is measured of 1 to 8 channels at 8 to 192 kHz, "
                f"got {channels} channels at {rate_hz} Hz."
            )
        self._rate_hz = rate_hz
        self._weights = np.array(CHANNEL_WEIGHTS.get(channels, (1,) * channels), np.float64)
        self._sections = k_weighting(rate_hz)
        self._state = no_state(self._sections, channels)
        self._rest = np.zeros(0)
        self._steps: list[FloatArray] = []
        self._taken = 0
        self._count = 0

    def take(self, block: Sound) -> None:
        """Add (channels, N) samples."""
        weighted, self._state = filtered(self._sections, block, self._state)
        np.multiply(weighted, weighted, out=weighted)
        power = np.concatenate([self._rest, self._weights @ weighted])
        first = self._taken - self._rest.size
        self._taken += block.shape[1]
        # Step n ends at sample round(n × rate / 100): exact in the mean at any rate.
        last = self._taken * STEPS_PER_S // self._rate_hz
        ends = self._ends(np.arange(self._count + 1, last + 1)) - first
        ends = ends[ends <= power.size]
        if ends.size == 0:
            self._rest = power
            return
        starts = np.concatenate([[0], ends[:-1]])
        sums = np.add.reduceat(power[: ends[-1]], starts)
        self._steps.append(sums / (ends - starts))
        self._count += ends.size
        self._rest = power[ends[-1] :]

    def _ends(self, steps: NDArray[np.int64]) -> NDArray[np.int64]:
        return (steps * self._rate_hz + STEPS_PER_S // 2) // STEPS_PER_S

    def _energy(self) -> FloatArray:
        if len(self._steps) > 1:
            self._steps = [np.concatenate(self._steps)]
        return self._steps[0] if self._steps else np.zeros(0)

    def momentary_lufs(self) -> float:
        """Loudness of the last 0.4 s."""
        return _last(self._recent(MOMENTARY_STEPS), MOMENTARY_STEPS)

    def short_term_lufs(self) -> float:
        """Loudness of the last 3 s."""
        return _last(self._recent(SHORT_TERM_STEPS), SHORT_TERM_STEPS)

    def _recent(self, steps: int) -> FloatArray:
        """The last steps, without joining all that came before: it is asked for live."""
        found: list[FloatArray] = []
        for part in reversed(self._steps):
            found.insert(0, part)
            if sum(part.size for part in found) >= steps:
                break
        return np.concatenate([np.zeros(0), *found])[-steps:]

    def read(self) -> Loudness:
        """The loudness of all that was taken."""
        energy = self._energy()
        momentary = _windows(energy, MOMENTARY_STEPS)
        short_term = _windows(energy, SHORT_TERM_STEPS)
        return Loudness(
            integrated_lufs=_integrated(momentary[::10]),
            momentary_max_lufs=_to_lufs(float(momentary.max(initial=0))),
            short_term_max_lufs=_to_lufs(float(short_term.max(initial=0))),
            range_lu=_range(short_term[::10]),
        )

    def history_lufs(self, every_s: float = 0.1, window_steps: int = MOMENTARY_STEPS) -> FloatArray:
        """Loudness of windows every so many seconds, momentary if not told; (N,) LUFS."""
        windows = _windows(self._energy(), window_steps)[:: round(every_s * STEPS_PER_S)]
        return np.asarray(-0.691 + 10 * np.log10(np.maximum(windows, 1e-12)))


def measure_loudness(sound: Sound, rate_hz: int) -> Loudness:
    """Loudness of a whole (channels, samples) sound. Raises SoundError."""
    meter = LoudnessMeter(sound.shape[0], rate_hz)
    for at in range(0, sound.shape[1], 10 * rate_hz):
        meter.take(sound[:, at : at + 10 * rate_hz])
    return meter.read()


def _to_lufs(energy: float) -> float:
    return float(max(SILENCE_LUFS, -0.691 + 10 * np.log10(max(energy, 1e-15))))  # eq. 2


def _last(energy: FloatArray, steps: int) -> float:
    return _to_lufs(float(energy.sum() / steps))


def _windows(energy: FloatArray, steps: int) -> FloatArray:
    """Mean energy of each window of so many steps; fewer where the sound is shorter: none."""
    if energy.size < steps:
        return np.zeros(0)
    sums = np.concatenate([[0.0], np.cumsum(energy)])
    return np.asarray(np.maximum(sums[steps:] - sums[:-steps], 0) / steps)


def _gate(lufs: float) -> float:
    return float(10 ** ((lufs + 0.691) / 10))


def _integrated(blocks: FloatArray) -> float:
    blocks = blocks[blocks > _gate(GATE_LUFS)]
    if blocks.size == 0:
        return SILENCE_LUFS
    blocks = blocks[blocks > blocks.mean() / 10]  # 10 LU under the mean: eq. 6 and 7
    return _to_lufs(float(blocks.mean()))


def _range(blocks: FloatArray) -> float:
    blocks = blocks[blocks > _gate(GATE_LUFS)]
    if blocks.size == 0:
        return 0.0
    blocks = blocks[blocks > blocks.mean() / 100]  # 20 LU under the mean: Tech 3342, 2
    low, high = np.percentile(10 * np.log10(blocks), (10, 95))
    return float(high - low)
