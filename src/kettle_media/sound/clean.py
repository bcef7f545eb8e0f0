"""A sound file cleaned: the same length, each sample where it was, and what it did in numbers."""

import time
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kettle_core.errors import SoundError
from kettle_core.sound.hum import HumFilter
from kettle_core.sound.levels import Sound
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import Tone, tone_chain
from kettle_core.sound.voice import VoiceDetector, frame_energy, measure_voice_and_noise
from kettle_media.sound.sound_file import SoundFile, SoundFileWriter, in_pieces, resampled
from kettle_media.sound.suppressors import voice_keeper

LISTEN_S = 60


@dataclass(frozen=True)
class Cleaned:
    """Numbers of a sound before and after its chain, and how much time that took."""

    duration_s: float
    before: dict[str, float]
    after: dict[str, float]
    hum: dict[str, Any] | None
    not_numbers: int
    real_time_factor: float


def clean_file(
    source: SoundFile,
    target: Path,
    tone: Tone,
    on_progress: Callable[[float, float], None] = lambda done_s, whole_s: None,
) -> Cleaned:
    """Run a sound file through a chain.

    Parameters
    ----------
    source : any file, sample rate and channel count that `SoundFile` reads
    target : the .wav or .flac to write, at the source's sample rate and channel count

    Raises
    ------
    SoundError
        If the source is empty or the target can't be written.
    """
    if target.exists() and target.samefile(source.path):
        raise SoundError("The cleaned sound cannot go over its source; choose another name.", "out")
    began = time.process_time()
    counts = _Counts()
    heard = _beginning(source) if tone.hum != "off" else None
    chain = tone_chain(tone, source.channels, voice_keeper, heard)

    def cleaned() -> Iterator[Sound]:
        for block in in_pieces(source.at_rate()):
            yield counts.through(chain.process(counts.came(block)))
            on_progress(counts.samples / RATE_HZ, max(whole_s, counts.samples / RATE_HZ))
        yield counts.through(chain.flush())

    whole = sum(b.shape[1] for b in source.blocks())  # counted, as headers may lie
    if not whole:
        raise SoundError(f"{source.path.name} is empty; there is nothing to clean.")
    whole_s, length = whole / source.rate_hz, 0
    part = target.with_name(f".{target.stem}.part{target.suffix}")
    writer = SoundFileWriter(part, source.channels, source.rate_hz)
    try:
        for block in resampled(cleaned(), source.channels, RATE_HZ, source.rate_hz):
            kept = block[:, : whole - length]
            writer.write(kept)
            length += kept.shape[1]
        writer.write(np.zeros((source.channels, whole - length), np.float32))
        writer.close()
        part.replace(target)
    finally:
        writer.close()
        part.unlink(missing_ok=True)
    before, after = counts.measured()
    duration_s = counts.samples / RATE_HZ
    hum = next((s.hum for s in chain.stages if isinstance(s, HumFilter)), None)
    found = {**asdict(hum), "level_dbfs": hum.level_dbfs} if hum else None
    factor = (time.process_time() - began) / duration_s
    return Cleaned(duration_s, before, after, found, source.not_numbers, factor)


def _beginning(source: SoundFile) -> Sound:
    parts, have = [np.zeros((source.channels, 0), np.float32)], 0
    for block in source.at_rate():
        parts.append(block)
        have += block.shape[1]
        if have > LISTEN_S * RATE_HZ:
            break
    return np.concatenate(parts, axis=1)


class _Counts:
    """Energies of each 10 ms before and after, and where the voice is in what came out."""

    def __init__(self) -> None:
        self.samples = 0
        self._energies: tuple[list[Any], list[Any]] = ([], [])
        self._rests: list[Sound | None] = [None, None]
        self._detector = VoiceDetector()
        self._voice: list[Any] = []

    def came(self, block: Sound) -> Sound:
        self.samples += block.shape[1]
        self._note(0, block)
        return block

    def through(self, block: Sound) -> Sound:
        self._note(1, block)
        self._voice.append(self._detector.process(block))
        return block

    def _note(self, which: int, block: Sound) -> None:
        rest = self._rests[which]
        whole = block if rest is None else np.concatenate([rest, block], axis=1)
        energies = frame_energy(whole)
        self._energies[which].append(energies)
        self._rests[which] = whole[:, energies.size * 480 :]

    def measured(self) -> tuple[dict[str, float], dict[str, float]]:
        voice = np.concatenate(self._voice)
        before, after = (
            asdict(measure_voice_and_noise(np.concatenate(e), voice)) for e in self._energies
        )
        return before, after
