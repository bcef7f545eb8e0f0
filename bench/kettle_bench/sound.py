"""bench sound: voices cleaned, the whole chain, loudness and alignment of an hour."""

import io
import shutil
import subprocess
import sys
import time
import unittest
from argparse import Namespace
from pathlib import Path
from typing import Any

import numpy as np
import soxr

from kettle_cli.installing import need_debian
from kettle_cli.paths import ROOT
from kettle_core.errors import KettleError
from kettle_core.sound.background import Ducker, Ducking
from kettle_core.sound.hum import HumFilter
from kettle_core.sound.limiter import Limiter
from kettle_core.sound.loudness import LoudnessMeter
from kettle_core.sound.mixing import mix_sounds
from kettle_core.sound.offset import find_offset
from kettle_core.sound.stage import RATE_HZ, run_through
from kettle_core.sound.suppression import NoiseSuppression
from kettle_core.sound.tone import Tone, tone_chain
from kettle_core.sound.true_peak import PeakMeter
from kettle_core.sound.voice import frame_energy
from kettle_media.sound.sound_file import SoundFile
from kettle_media.sound.suppressors import voice_keeper
from kettle_studio import sounds
from kettle_studio.sounds import sound_of

VOICES = Path("/usr/share/sounds/alsa")
VOICE_TO_NOISE_DB = 5.0
CHAIN_S = 30
HOUR_S = 3600
PIECE_SAMPLES = 2400
DRIFT_PPM = 83.0
OFFSET_S = 3.2


def bench_sound(_: Namespace) -> int:
    """Measure what the sound room does to real voices, and what it costs."""
    _standards()
    _voices()
    _chain()
    _hour()
    return 0


def _standards() -> None:
    sys.path.insert(0, str(ROOT))
    names = [f"tests.core.sound.test_loudness.{x}" for x in ("Tech3341", "Tech3342")]
    suite = unittest.defaultTestLoader.loadTestsFromNames(names)
    found = unittest.TextTestRunner(stream=io.StringIO()).run(suite)
    failed = len(found.failures) + len(found.errors)
    print(f"EBU Tech 3341 and 3342: {found.testsRun - failed} of {found.testsRun} groups hold")


def _voices() -> None:
    _need_measures()
    from pesq import pesq
    from pystoi import stoi

    voice = _real_voices()
    wide = soxr.resample(voice, RATE_HZ, 16_000)

    def scores(sound: Any) -> str:
        found = sound[0].astype(np.float64)
        heard = pesq(16_000, wide, soxr.resample(found, RATE_HZ, 16_000), "wb")
        understood = stoi(voice, found, RATE_HZ)
        return f"SI-SDR {_si_sdr_db(found, voice):6.2f} dB  STOI {understood:.4f}  PESQ {heard:.2f}"

    clean = _suppressed(voice[None].astype(np.float32), "thorough")
    print(f"clean speech, thorough 100 %: {scores(clean)}, late by {_late_samples(clean, voice)}")
    for name, noise in _noises(voice).items():
        sound = (voice + noise).astype(np.float32)[None]
        print(f"{name} at {VOICE_TO_NOISE_DB:g} dB")
        print(f"  as it came          {scores(sound)}")
        print(f"  light               {scores(_suppressed(sound, 'light'))}")
        print(f"  thorough alone      {scores(_suppressed(sound, 'thorough'))}")
        first = run_through(HumFilter(1, heard=sound), sound)
        ours = _suppressed(first, "thorough")
        print(f"  hum, then thorough  {scores(ours)}, late by {_late_samples(ours, voice)}")
        after = _suppressed(sound, "thorough")
        after = run_through(HumFilter(1, heard=after), after)
        print(f"  thorough, then hum  {scores(after)}")


def _chain() -> None:
    """Two microphones with everything on and system audio, in the pieces pages are shown."""
    samples = CHAIN_S * RATE_HZ
    voice = sound_of(sounds.voice())[0][:samples] * np.float32(0.4)
    rng = np.random.default_rng(2)
    near = (voice + 0.003 * rng.standard_normal(samples)).astype(np.float32)[None]
    music = sound_of(sounds.system(False))[:, :samples]
    full = Tone(hum="auto", suppression=100, low_cut=True, echo=50, auto_gain=True, limiter=True)
    chains = [tone_chain(full, 1, voice_keeper) for _ in range(2)]
    ducker, limiter = Ducker(2, Ducking(on=True)), Limiter(2)
    ready = [np.zeros((n, 0), np.float32) for n in (1, 1, 2)]
    began = time.process_time()
    for at in range(0, samples, PIECE_SAMPLES):
        block = near[:, at : at + PIECE_SAMPLES]
        outs = [chain.process(block) for chain in chains]
        outs.append(ducker.process(block, music[:, at : at + PIECE_SAMPLES]))
        ready = [np.concatenate(x, axis=1) for x in zip(ready, outs, strict=True)]
        size = min(x.shape[1] for x in ready)
        limiter.process(mix_sounds([(x[:, :size], 0.0) for x in ready], size))
        ready = [x[:, size:] for x in ready]
    cores = (time.process_time() - began) / CHAIN_S
    began = time.process_time()
    for _ in range(2):
        engine = voice_keeper("thorough")
        for at in range(0, samples, PIECE_SAMPLES):
            engine.process(near[0, at : at + PIECE_SAMPLES])
    alone = (time.process_time() - began) / CHAIN_S
    print(
        f"whole chain, two microphones and system audio: {cores:.2f} core (limit 0.6), "
        f"{cores / alone:.2f} times the two engines alone"
    )


def _hour() -> None:
    lesson = np.tile(
        sound_of(sounds.system(False)), (1, HOUR_S * RATE_HZ // sounds.LOOP_SAMPLES + 1)
    )
    minute = 60 * RATE_HZ
    loud, peaks = LoudnessMeter(2, RATE_HZ), PeakMeter(2)
    pieces = [lesson[:, at : at + minute] for at in range(0, HOUR_S * RATE_HZ, minute)]
    took = _seconds(loud, pieces)
    print(f"loudness of an hour of stereo: {took:.1f} s (limit 8)")
    took = _seconds(peaks, pieces)
    print(f"true peak of an hour of stereo: {took:.1f} s (limit 60)")
    rng = np.random.default_rng(3)
    voice = np.tile(sound_of(sounds.voice())[0], HOUR_S * RATE_HZ // sounds.LOOP_SAMPLES + 2)
    # So that no minute is like the one before.
    voice += 0.02 * rng.standard_normal(voice.size).astype(np.float32)
    other = soxr.resample(voice, RATE_HZ, RATE_HZ * (1 + DRIFT_PPM * 1e-6))
    first, size = round(OFFSET_S * RATE_HZ), HOUR_S * RATE_HZ
    rms = float(voice.std())
    ours = voice[first : first + size] + rms * rng.standard_normal(size).astype(np.float32)
    theirs = other[:size] + rms * rng.standard_normal(size).astype(np.float32)
    began = time.process_time()
    found = find_offset(ours, theirs, RATE_HZ)
    took = time.process_time() - began
    if found is None:
        raise KettleError("The hour's common sound was not found.")
    off_ms = found.offset_ms - OFFSET_S * 1000 * (1 + DRIFT_PPM * 1e-6)
    print(
        f"align of two hours at 0 dB: {took:.1f} s (limit 10), off by {off_ms:+.3f} ms "
        f"and {found.drift_ppm - DRIFT_PPM:+.4f} ppm (limits 0.2, 0.2)"
    )


def _seconds(meter: LoudnessMeter | PeakMeter, pieces: list[Any]) -> float:
    began = time.process_time()
    for piece in pieces:
        meter.take(piece)
    meter.read()
    return time.process_time() - began


def _need_measures() -> None:
    """Install what measures voices, which no user needs, and some real ones."""
    need_debian("alsa-utils", VOICES / "Front_Center.wav")
    pip = [sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--require-hashes"]
    try:
        import pesq  # noqa: F401
        import pystoi  # noqa: F401
    except ImportError:
        if not shutil.which("cc"):
            raise KettleError("Measuring voices needs a C compiler; install gcc.") from None
        for name, more in (("bench", []), ("pesq", ["--no-build-isolation"])):
            lock = str(ROOT / "requirements" / f"{name}.lock")
            subprocess.run([*pip, *more, "-r", lock], check=True)


def _real_voices() -> Any:
    parts = []
    for path in sorted(VOICES.glob("*_*.wav")):
        file = SoundFile(path)
        parts.append(file.read_whole().mean(axis=0))
    voice = np.concatenate(parts * 2).astype(np.float64)
    return voice / np.abs(voice).max() / 2


def _noises(voice: Any) -> dict[str, Any]:
    """Noises 5 dB under the voice while it speaks."""
    rng = np.random.default_rng(5)
    t = np.arange(voice.size) / RATE_HZ
    energy = frame_energy(voice[None].astype(np.float32))
    rms = np.sqrt(energy[energy > energy.max() * 1e-4].mean()) * 10 ** (-VOICE_TO_NOISE_DB / 20)
    hertz = np.fft.rfftfreq(voice.size, 1 / RATE_HZ)
    spectrum = np.fft.rfft(rng.standard_normal(voice.size)) / np.sqrt(np.maximum(hertz, 30))
    fan = np.fft.irfft(spectrum, voice.size)
    blades = sum(np.sin(2 * np.pi * 137 * k * t + k) * 0.5 / k for k in range(1, 6))
    hum = sum(
        np.sin(2 * np.pi * 50.03 * n * t + n * n) * n**-0.8 * (1 if n % 2 else 0.4)
        for n in range(1, 16)
    )
    found = {
        "hiss": rng.standard_normal(voice.size),
        "fan": fan / fan.std() + 0.3 * blades,
        "hum": hum + 0.05 * rng.standard_normal(voice.size),
    }
    return {name: noise / noise.std() * rms for name, noise in found.items()}


def _suppressed(sound: Any, engine: str) -> Any:
    return run_through(NoiseSuppression(lambda: voice_keeper(engine), 1, 1.0), sound)


def _late_samples(sound: Any, voice: Any) -> int:
    reach = 50
    part = sound[0, RATE_HZ : 3 * RATE_HZ]
    found = np.correlate(voice[RATE_HZ - reach : 3 * RATE_HZ + reach], part, "valid")
    return reach - int(np.argmax(found))


def _si_sdr_db(found: Any, truth: Any) -> float:
    scale = (found @ truth) / (truth @ truth)
    rest = found - scale * truth
    return float(10 * np.log10(scale**2 * (truth @ truth) / (rest @ rest)))
