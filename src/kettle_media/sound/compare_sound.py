"""Some seconds of a sound before and after its chain: two files to listen to, and numbers."""

from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound.hum import find_hum
from kettle_core.sound.levels import Sound
from kettle_core.sound.loudness import LoudnessMeter
from kettle_core.sound.proposal import propose_tone
from kettle_core.sound.shaping import with_gain
from kettle_core.sound.stage import RATE_HZ, run_through
from kettle_core.sound.tone import Tone, placed, tone_chain
from kettle_core.sound.true_peak import measure_peaks
from kettle_core.sound.voice import find_voice, frame_energy, measure_voice_and_noise
from kettle_media.sound.sound_file import SoundFile, write_sound_file
from kettle_media.sound.suppressors import voice_keeper

BANDS = 64
LOWEST_HZ, HIGHEST_HZ = 40.0, 20_000.0
EQUAL_LUFS = -20.0
HIGHEST_PEAK_DBTP = -1.0


def compare_sound(raw: Path, tone: Tone, before_to: Path, after_to: Path) -> dict[str, Any]:
    """Run a sound through a chain and measure both.

    The two files are equally loud, so that the ear judges the sound and not the level: at
    -20 LUFS, or below where a peak would clip.

    Parameters
    ----------
    raw : a sound file as it came from the device
    before_to, after_to : the .flac files to write

    Returns
    -------
    dict of plain values: `before` and `after` with levels in dBFS and LUFS, `history` in LUFS
    each 0.1 s, `spectrum` in dB at `bands_hz`, `floor` (the 10th percentile of it in time);
    `voice_frames` as runs (from, to) of 10 ms; `hum`, and `proposal` with the fields of a tone,
    or None

    Raises
    ------
    SoundError
        If the file can't be read or written.
    """
    came = SoundFile(raw).read_whole()
    before = placed(came, tone)
    after = run_through(tone_chain(tone, came.shape[0], voice_keeper, came), came)
    voice = find_voice(after)
    hum = find_hum(before)
    heard = measure_voice_and_noise(frame_energy(before), voice)
    proposal = propose_tone(tone, heard, hum)
    found: dict[str, Any] = {
        "seconds": came.shape[1] / RATE_HZ,
        "bands_hz": [round(float(x), 1) for x in _band_edges()[:-1]],
        "hum": {"frequency_hz": hum.frequency_hz, "sure": hum.sure} if hum else None,
        "proposal": {"tone": asdict(proposal.tone), "reasons": proposal.reasons}
        if proposal
        else None,
        "voice_frames": _runs(voice),
    }
    gains = []
    for name, sound in (("before", before), ("after", after)):
        meter = LoudnessMeter(sound.shape[0], RATE_HZ)
        meter.take(sound)
        lufs = meter.read().integrated_lufs
        peaks = measure_peaks(sound)
        levels = measure_voice_and_noise(frame_energy(sound), voice)
        spectrum, floor = _spectra(sound)
        found[name] = {
            **asdict(levels),
            "integrated_lufs": lufs,
            "true_peak_dbtp": peaks.true_peak_dbtp,
            "clipped_samples": peaks.clipped_samples,
            "history": [round(float(v), 1) for v in meter.history_lufs()],
            "spectrum": spectrum,
            "floor": floor,
        }
        gains.append((lufs, peaks.true_peak_dbtp))
    target = min(EQUAL_LUFS, *(lufs + HIGHEST_PEAK_DBTP - peak for lufs, peak in gains))
    for path, sound, (lufs, _) in ((before_to, before, gains[0]), (after_to, after, gains[1])):
        silent = lufs <= -70
        write_sound_file(path, with_gain(sound, 0.0 if silent else target - lufs), RATE_HZ)
    return found


def _runs(voice: NDArray[np.bool_]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], voice.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _band_edges() -> NDArray[np.float64]:
    return np.geomspace(LOWEST_HZ, HIGHEST_HZ, BANDS + 1)


def _spectra(sound: Sound) -> tuple[list[float], list[float]]:
    """Mean level of each band and what it falls to in the pauses, in dBFS."""
    mono = sound.mean(axis=0)
    size = 8192
    if mono.size < size:
        mono = np.pad(mono, (0, size - mono.size))
    windows = np.lib.stride_tricks.sliding_window_view(mono, size)[:: size // 2]
    spectra = np.fft.rfft(windows * np.hanning(size))
    power = (spectra.real**2 + spectra.imag**2) * (8 / 3 / size**2)
    hertz = np.fft.rfftfreq(size, 1 / RATE_HZ)
    starts = np.searchsorted(hertz, _band_edges())
    cumulated = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)
    ends = np.maximum(starts[1:], starts[:-1] + 1)
    bands = (cumulated[:, ends] - cumulated[:, starts[:-1]]) / (ends - starts[:-1])
    in_db = 10 * np.log10(np.maximum(bands, 1e-13))
    loud = 10 * np.log10(np.maximum(bands.mean(axis=0), 1e-13))
    quiet = np.percentile(in_db, 10, axis=0)
    return [round(float(v), 1) for v in loud], [round(float(v), 1) for v in quiet]
