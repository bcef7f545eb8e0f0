"""Sounds for tests, (channels, samples) float32 at 48 kHz."""

import numpy as np

from kettle_core.sound.levels import db_to_ratio

RATE_HZ = 48_000


def sine(hz, seconds, peak, channels=2, phase=0.0, rate_hz=RATE_HZ):
    t = np.arange(round(seconds * rate_hz)) / rate_hz
    wave = peak * np.sin(2 * np.pi * hz * t + phase)
    return np.tile(wave, (channels, 1)).astype(np.float32)


def steps(*parts, hz=1000, channels=2):
    """Tones of (dBFS or None, seconds) one after another, the phase going on."""
    levels = np.concatenate(
        [
            np.full(round(s * RATE_HZ), 0.0 if dbfs is None else db_to_ratio(dbfs))
            for dbfs, s in parts
        ]
    )
    wave = np.sin(2 * np.pi * hz * np.arange(levels.size) / RATE_HZ) * levels
    return np.tile(wave, (channels, 1)).astype(np.float32)


def noise(seed, seconds, rms, channels=1):
    rng = np.random.default_rng(seed)
    return (rms * rng.standard_normal((channels, round(seconds * RATE_HZ)))).astype(np.float32)


def swelling_noise(seed, seconds, channels=1):
    """Noise up to 20 kHz that comes from nothing and goes to nothing; its RMS is about 0.5."""
    spectrum = np.fft.rfft(noise(seed, seconds, 1.0, channels))
    spectrum[:, round(20_000 * seconds) :] = 0
    swell = np.hanning(round(seconds * RATE_HZ))
    return (np.fft.irfft(spectrum) * swell).astype(np.float32)


def words(seconds, level=0.1, on_s=0.6, off_s=0.7, seed=7):
    """Something like words: harmonics of a gliding pitch in bursts; (1, N)."""
    t = np.arange(round(seconds * RATE_HZ)) / RATE_HZ
    rng = np.random.default_rng(seed)
    pitch = 140 + 25 * np.sin(2 * np.pi * 0.9 * t) + 9 * np.sin(2 * np.pi * 3.1 * t)
    phase = 2 * np.pi * np.cumsum(pitch) / RATE_HZ
    tone = sum(np.sin(phase * k + k * k) / k**0.7 for k in range(1, 24))
    place = t % (on_s + off_s)
    shape = np.clip(np.minimum(place / 0.02, (on_s - place) / 0.05), 0, 1)
    wave = tone * shape * (1 + 0.2 * rng.standard_normal(t.size))
    return (level * wave / np.std(wave[shape > 0.5])).astype(np.float32)[None]


def hum(frequency_hz, seconds, rms, harmonics=10):
    """Mains hum: odd harmonics stronger; `frequency_hz` may be a number or follow time; (1, N)."""
    count = round(seconds * RATE_HZ)
    phase = 2 * np.pi * np.cumsum(np.broadcast_to(frequency_hz, count)) / RATE_HZ
    parts = [
        np.sin(n * phase + n * n) / n**0.8 * (1.0 if n % 2 else 0.5)
        for n in range(1, harmonics + 1)
    ]
    wave = np.sum(parts, axis=0)
    return (rms * wave / wave.std()).astype(np.float32)[None]


def si_sdr_db(found, truth):
    """Scale-invariant signal-to-distortion ratio."""
    a, b = found.ravel().astype(np.float64), truth.ravel().astype(np.float64)
    scale = (a @ b) / (b @ b)
    return 10 * np.log10(scale**2 * (b @ b) / ((a - scale * b) @ (a - scale * b)))
