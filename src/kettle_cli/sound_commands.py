"""clean, loudness, align and balance: what the sound room does, for any files."""

import json
import tempfile
from argparse import Namespace
from collections.abc import Iterator
from dataclasses import asdict
from typing import Any

import numpy as np

from kettle_cli.progress import Progress
from kettle_core.errors import SoundError
from kettle_core.sound.background import BalanceMeter
from kettle_core.sound.levels import Sound
from kettle_core.sound.loudness import LoudnessMeter
from kettle_core.sound.offset import find_offset
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import Tone
from kettle_core.sound.true_peak import PeakMeter
from kettle_media.sound.clean import clean_file
from kettle_media.sound.sound_file import SoundFile, in_pieces

SHOWN_CLIPS = 20


def clean(options: Namespace) -> int:
    """Clean a sound file: hum, noise, echo; the length stays, each sample where it was."""
    for name in ("suppress", "echo"):
        if not 0 <= getattr(options, name) <= 100:
            raise SoundError(f"--{name} goes from 0 to 100 %, got {getattr(options, name)}.", name)
    tone = Tone(
        hum=options.hum, suppression=options.suppress, engine=options.engine, echo=options.echo
    )
    source = SoundFile(options.source)
    tell = Progress("clean", "s")
    found = clean_file(source, options.out, tone, tell)
    if options.json:
        print(json.dumps(asdict(found), indent=1))
        return 0
    print(f"{options.out}: {found.duration_s:.3f} s, {source.channels} channels")
    for name, word, unit in (
        ("noise_floor_dbfs", "noise floor", "dBFS"),
        ("voice_dbfs", "voice level", "dBFS"),
        ("voice_to_noise_db", "voice to noise", "dB"),
    ):
        print(f"  {word:15} {found.before[name]:7.1f} → {found.after[name]:7.1f} {unit}")
    if found.hum:
        hum = found.hum
        count = len(hum["harmonics"])
        print(f"  hum             {hum['frequency_hz']:.2f} Hz and {count} harmonics taken out")
    elif options.hum != "off":
        print("  hum             none found")
    if found.not_numbers:
        print(f"  {found.not_numbers} values were not numbers and are silent now")
    print(f"  took            {found.real_time_factor:.3f} of real time on one core")
    return 0


def loudness(options: Namespace) -> int:
    """Measure a sound file: loudness, its range, true peak, sample peak, clipped samples."""
    source = SoundFile(options.file)
    loud, peaks = LoudnessMeter(source.channels, source.rate_hz), PeakMeter(source.channels)
    for block in in_pieces(source.blocks()):
        loud.take(block)
        peaks.take(block)
    level, peak = loud.read(), peaks.read()
    found: dict[str, Any] = {
        "integrated_lufs": level.integrated_lufs,
        "momentary_max": level.momentary_max_lufs,
        "shortterm_max": level.short_term_max_lufs,
        "range_lu": level.range_lu,
        "true_peak_dbtp": peak.true_peak_dbtp,
        "sample_peak_dbfs": peak.sample_peak_dbfs,
        "clipped_samples": peak.clipped_samples,
        "clips_at_s": [round(at / source.rate_hz, 4) for at, _ in peak.clips[:SHOWN_CLIPS]],
        "not_numbers": source.not_numbers,
    }
    if options.json:
        print(json.dumps({k: round(v, 3) if isinstance(v, float) else v for k, v in found.items()}))
        return 0
    print(f"integrated   {level.integrated_lufs:7.1f} LUFS")
    print(f"momentary    {level.momentary_max_lufs:7.1f} LUFS at most")
    print(f"short-term   {level.short_term_max_lufs:7.1f} LUFS at most")
    print(f"range        {level.range_lu:7.1f} LU")
    print(f"true peak    {peak.true_peak_dbtp:7.1f} dBTP")
    print(f"sample peak  {peak.sample_peak_dbfs:7.1f} dBFS")
    print(f"clipped      {peak.clipped_samples:7d} samples")
    return 0


def align(options: Namespace) -> int:
    """Find how much later, and how much faster, a sound is in OTHER than in REF."""
    with tempfile.TemporaryFile() as one, tempfile.TemporaryFile() as two:
        reference = SoundFile(options.reference).read_mono(one)
        other = SoundFile(options.other).read_mono(two)
        found = find_offset(reference, other, RATE_HZ)
    if found is None:
        words = f"{options.reference.name} and {options.other.name} have no common sound."
        if options.json:
            print(json.dumps({"common_sound": False, "confidence": 0.0, "message": words}))
        else:
            print(words)
        return 1
    if options.json:
        print(json.dumps({"common_sound": True, **asdict(found)}))
        return 0
    print(f"offset     {found.offset_ms:+.3f} ms")
    print(f"drift      {found.drift_ppm:+.3f} ppm")
    print(f"confidence {found.confidence:.2f}")
    print(f"residual   {found.residual_ms:.3f} ms")
    return 0


def balance(options: Namespace) -> int:
    """Measure how far a voice stands above a background, and what gain would mend it."""
    voice, background = SoundFile(options.voice), SoundFile(options.background)
    meter = BalanceMeter(voice.channels, background.channels)
    for ours, theirs in _side_by_side(voice, background):
        meter.take(ours, theirs)
    found = meter.read()
    if options.json:
        print(json.dumps(asdict(found)))
    elif found.voice_over_background_db is None:
        print(found.verdict)
    else:
        print(f"{found.verdict} {found.voice_over_background_db:+.1f} dB over it.")
        print(f"Proposed gain of the background: {found.proposed_gain_db:+.1f} dB")
    return 0 if found.voice_over_background_db is not None else 1


def _side_by_side(one: SoundFile, two: SoundFile) -> Iterator[tuple[Sound, Sound]]:
    """Blocks of one length of two files, as long as both last."""
    first, second = in_pieces(one.at_rate()), in_pieces(two.at_rate())
    ours, theirs = (np.zeros((f.channels, 0), np.float32) for f in (one, two))
    while True:
        if not ours.shape[1]:
            ours = next(first, ours)
        if not theirs.shape[1]:
            theirs = next(second, theirs)
        size = min(ours.shape[1], theirs.shape[1])
        if not size:
            return
        yield ours[:, :size], theirs[:, :size]
        ours, theirs = ours[:, size:], theirs[:, size:]
