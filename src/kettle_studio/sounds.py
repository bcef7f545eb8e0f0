"""The studio's sounds: one lesson of voice, knocks, music and program sounds at 48 kHz.

Tables hold one lesson each and go round, in 16 bits; a device reads them at its own clock's
moments.
"""

from collections.abc import Iterable
from pathlib import Path

import av
import numpy as np
import soxr
from numpy.typing import NDArray

from kettle_studio import script
from kettle_studio.kept import kept

RATE_HZ = 48_000
LOOP_SAMPLES = script.LOOP_S * RATE_HZ
MOUTH_HZ = 200
ASSETS = Path(__file__).parent / "assets"
FULL_SCALE = 32_767
BLEED_DB = -34.0
BLEED_DELAY_S = 0.0003
Sound = NDArray[np.float32]
Table = NDArray[np.int16]


def _table(sound: Sound) -> Table:
    return np.rint(np.clip(np.atleast_2d(sound), -1, 1) * FULL_SCALE).astype(np.int16)


def sound_of(table: Table) -> Sound:
    """A table's samples from -1 to 1, (channels, N)."""
    return table.astype(np.float32) / np.float32(FULL_SCALE)


@kept
def voice() -> Table:
    """Odile's voice, (1, LOOP_SAMPLES)."""
    return _table(_voice())


@kept
def knocks() -> Table:
    """The bone folder on the bench, (1, LOOP_SAMPLES)."""
    return _repeated(_knock(), script.KNOCKS_S)


@kept
def music() -> Table:
    """What the bench radio plays, (2, LOOP_SAMPLES)."""
    return _table(_music() * np.float32(0.16))


@kept
def snaps() -> Table:
    """What Quirefold plays, (1, LOOP_SAMPLES)."""
    return _repeated(_snap(), script.snaps_s())


@kept
def system(pings: bool) -> Table:
    """All that the computer plays, with the bells of messages or without, (2, LOOP_SAMPLES)."""
    heard = sound_of(music()) + sound_of(snaps())
    if pings:
        heard += sound_of(_repeated(_ping(), [second for second, *_ in script.MESSAGES]))
    return _table(heard)


@kept
def headset() -> Table:
    """The voice near by, the knocks, and a little of what the headphones play, (1, N)."""
    heard = 0.45 * sound_of(voice()) + 0.5 * sound_of(knocks())
    late = np.arange(LOOP_SAMPLES, dtype=np.float64) - BLEED_DELAY_S * RATE_HZ
    played = system(False).mean(axis=0, keepdims=True).astype(np.int16)
    return _table(heard + np.float32(10 ** (BLEED_DB / 20)) * read_at_all(played, late))


@kept
def far(seed: int, channels: int, reverb_s: float, highest_hz: float) -> Table:
    """The voice and the knocks from far away: mostly the room, without highs; (channels, N)."""
    spectrum = np.fft.rfft(0.10 * sound_of(voice())[0] + 0.3 * sound_of(knocks())[0])
    frequency_hz = np.fft.rfftfreq(LOOP_SAMPLES, 1 / RATE_HZ)
    rng = np.random.default_rng(seed)
    t = np.arange(round(2 * reverb_s * RATE_HZ)) / RATE_HZ
    heard = []
    for channel in range(channels):
        # Sound takes 3 ms a metre; then the room, which falls by 60 dB in its reverberation time.
        room = rng.standard_normal(t.size) * 10 ** (-3 * t / reverb_s) * 0.05
        room[: round(0.004 * RATE_HZ)] = 0
        room[round((0.0040 + 0.0002 * channel) * RATE_HZ)] = 1.0
        through = spectrum * np.fft.rfft(room, LOOP_SAMPLES)
        through /= 1 + (frequency_hz / highest_hz) ** 4
        heard.append(np.fft.irfft(through, LOOP_SAMPLES).astype(np.float32))
    return _table(np.stack(heard))


@kept
def mouth() -> Sound:
    """How far the mouth is open, 0 to 1, at MOUTH_HZ."""
    from scipy.ndimage import uniform_filter1d  # half a second to import

    energy = uniform_filter1d(np.square(sound_of(voice())[0].astype(np.float64)), RATE_HZ // 50)
    loudness = np.sqrt(np.maximum(energy, 0))
    opening = loudness[:: RATE_HZ // MOUTH_HZ] / np.percentile(loudness[loudness > 0.005], 95)
    return np.asarray(np.clip(opening, 0, 1), dtype=np.float32)


def mouth_at(world_s: float) -> float:
    """How far the mouth is open, 0 to 1."""
    table = mouth()
    place = (world_s % script.LOOP_S) * MOUTH_HZ
    low = int(place)
    share = place - low
    return float(table[low % table.size] * (1 - share) + table[(low + 1) % table.size] * share)


def _voice() -> Sound:
    with av.open(str(ASSETS / "voice.flac")) as container:
        rate_hz = container.streams.audio[0].rate
        parts = [frame.to_ndarray().reshape(-1) for frame in container.decode(audio=0)]
    samples = np.concatenate(parts).astype(np.float32) / 32768
    voice = soxr.resample(samples, rate_hz, RATE_HZ)
    return np.resize(voice, LOOP_SAMPLES).astype(np.float32)


def _repeated(sound: Sound, seconds: Iterable[float]) -> Table:
    """One sound at several moments of the lesson."""
    made = np.zeros(LOOP_SAMPLES, np.float32)
    for second in seconds:
        made[(round(second * RATE_HZ) + np.arange(sound.size)) % LOOP_SAMPLES] += sound
    return _table(made)


def _snap() -> Sound:
    t = np.arange(round(0.12 * RATE_HZ)) / RATE_HZ
    tone = np.sin(2 * np.pi * 1850 * t) + 0.6 * np.sin(2 * np.pi * 2780 * t)
    rng = np.random.default_rng(11)
    click = rng.standard_normal(t.size) * np.exp(-t / 0.002)
    return ((0.35 * tone * np.exp(-t / 0.022) + 0.3 * click) * 0.5).astype(np.float32)


def _ping() -> Sound:
    t = np.arange(round(0.7 * RATE_HZ)) / RATE_HZ
    first = np.sin(2 * np.pi * 1046 * t) * np.exp(-t / 0.16)
    later = np.maximum(t - 0.12, 0)
    second = np.sin(2 * np.pi * 1396 * later) * np.exp(-later / 0.2) * (t > 0.12)
    return np.asarray((first + second) * 0.09, dtype=np.float32)


def _knock() -> Sound:
    t = np.arange(round(0.15 * RATE_HZ)) / RATE_HZ
    rng = np.random.default_rng(12)
    wood = np.sin(2 * np.pi * 310 * t) + 0.5 * np.sin(2 * np.pi * 790 * t + 1)
    burst = rng.standard_normal(t.size) * np.exp(-t / 0.003)
    return ((0.5 * wood * np.exp(-t / 0.03) + 0.5 * burst) * 0.35).astype(np.float32)


def _music() -> Sound:
    """Slow plucked chords, 16 s, four times a lesson."""
    bar_samples = 4 * RATE_HZ
    chords = (
        (196.0, 246.9, 293.7),
        (164.8, 196.0, 246.9),
        (130.8, 196.0, 261.6),
        (146.8, 220, 293.7),
    )
    out = np.zeros((2, 4 * bar_samples), np.float32)
    t = np.arange(bar_samples) / RATE_HZ
    for bar, chord in enumerate(chords):
        for place in range(8):
            pitch = chord[(place * 2) % 3] * (2 if place % 3 == 2 else 1)
            note = sum(np.sin(2 * np.pi * pitch * k * t) / k**1.6 for k in (1, 2, 3, 4))
            note = note * np.exp(-t / 0.7) * np.minimum(t / 0.004, 1)
            start = bar * bar_samples + place * RATE_HZ // 2
            places = (start + np.arange(bar_samples)) % out.shape[1]
            pan = 0.5 + 0.3 * np.sin(place * 1.3 + bar)
            out[0, places] += (note * (1 - pan)).astype(np.float32)
            out[1, places] += (note * pan).astype(np.float32)
    return np.tile(out / np.abs(out).max(), 4)


def read_at(table: Table, places: NDArray[np.float64]) -> Sound:
    """Values of a (..., N) table between its samples, by cubic interpolation, going round.

    `places` are sample numbers, rising, within some blocks of each other.
    """
    whole = np.floor(places).astype(np.int64)
    x = (places - whole).astype(np.float32)
    first = int(whole[0]) - 1
    span = int(whole[-1]) - first + 3
    if 0 <= first <= table.shape[-1] - span:
        near = table[..., first : first + span]
    else:
        near = table[..., (first + np.arange(span)) % table.shape[-1]]
    at = whole - first
    scaled = near * np.float32(1 / FULL_SCALE)
    before, here, after, later = (np.take(scaled, at + k, axis=-1) for k in (-1, 0, 1, 2))
    # Catmull-Rom
    bend = 2 * before - 5 * here + 4 * after - later
    twist = 3 * (here - after) + later - before
    value = here + 0.5 * x * (after - before + x * (bend + x * twist))
    return np.asarray(value, dtype=np.float32)


def read_at_all(table: Table, places: NDArray[np.float64]) -> Sound:
    """`read_at` for a whole table, in pieces."""
    pieces = np.array_split(places, 64)
    return np.concatenate([read_at(table, piece) for piece in pieces], axis=-1)


def hum_sound(level_dbfs: float, rate_hz: int, seconds: int = 7) -> Sound:
    """Mains hum of 50 Hz with harmonics, (1, N) at a rate; goes round without a seam."""
    t = np.arange(seconds * rate_hz) / rate_hz
    parts = ((50, 1.0), (100, 0.7), (150, 0.35), (250, 0.2), (350, 0.1))
    hum = np.sum([size * np.sin(2 * np.pi * hz * t + hz) for hz, size in parts], axis=0)
    level = 10 ** (level_dbfs / 20)
    return np.asarray((hum / np.std(hum) * level)[None, :], dtype=np.float32)


@kept
def noise_sound(seed: int, level_dbfs: float, rate_hz: int = RATE_HZ) -> Sound:
    """Room or fan noise, stronger in the lows, (1, N) at a rate; 7 s that go round."""
    rng = np.random.default_rng(seed)
    white = rng.standard_normal(7 * rate_hz)
    spectrum = np.fft.rfft(white)
    frequency_hz = np.fft.rfftfreq(white.size, 1 / rate_hz)
    shaped = np.fft.irfft(spectrum / np.sqrt(np.maximum(frequency_hz, 30)), white.size)
    level = 10 ** (level_dbfs / 20)
    return np.asarray((shaped / shaped.std() * level)[None, :], dtype=np.float32)
