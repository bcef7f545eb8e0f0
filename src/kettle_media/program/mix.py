"""The sounds of a program: its mix, and its stems."""

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from kettle_core.errors import KettleError
from kettle_core.program.gain_lines import SoundLine
from kettle_core.program.plan import Plan, StemPlan
from kettle_core.sound.background import Ducker
from kettle_core.sound.levels import Sound, to_channels
from kettle_core.sound.limiter import Limiter
from kettle_core.sound.tone import panned_as
from kettle_media.durable import put_in_place
from kettle_media.sound.sound_file import SoundFileWriter
from kettle_media.take.sound_track import MASTER_HZ

SETTLED_SAMPLES = MASTER_HZ
# The sound of a line: (channels, count) from a sample on, counted from the line's beginning.
Read = Callable[[SoundLine, int, int], Sound]


def _add(into: Sound, line: SoundLine, first: int, read: Read, as_heard: bool) -> None:
    """Add what of a line lies within samples [first, first + N) of the program."""
    begin = max(first, line.first_sample)
    end = min(first + into.shape[1], line.end_sample)
    if end <= begin:
        return
    gains = line.gains(begin, end - begin)
    if not gains.any():
        return
    sound = read(line, begin - line.first_sample, end - begin)
    if as_heard:
        sound = panned_as(line.tone, sound)
    into[:, begin - first : end - first] += to_channels(sound, into.shape[0]) * gains


class ProgramMix:
    """The mix, piece by piece from a sample on: levels, pan, ducking, true peak limited.

    In mono it is mixed down first: what stands after the limiter raises nothing.

    Ducking and limiter remember what was before; begun anywhere but at the beginning they have
    forgotten it after `SETTLED_SAMPLES`.
    """

    def __init__(self, plan: Plan, read: Read, first: int = 0, channels: int = 2) -> None:
        self._plan, self._read = plan, read
        self._at = first
        ducks = plan.ducking.on or any(line.under_voices for line in plan.lines)
        self._ducker = Ducker(2, replace(plan.ducking, on=True)) if ducks else None
        self._channels = channels
        self._limiter = Limiter(channels, plan.ceiling_dbtp)
        self._straight = np.zeros((2, 0), np.float32)

    def read(self, samples: int) -> Sound:
        """Go on by so many samples; gives what is ready of the mix, (channels, N)."""
        first, self._at = self._at, self._at + samples
        straight = np.zeros((2, samples), np.float32)
        background = np.zeros((2, samples), np.float32)
        for line in self._plan.lines:
            ducked = line.under_voices or (self._plan.ducking.on and not line.is_voice)
            _add(background if ducked else straight, line, first, self._read, True)
        if self._plan.fade_in or self._plan.fade_out or self._plan.gain_db:
            gains = self._plan.gains(first, samples)
            straight *= gains
            background *= gains
        self._straight = np.concatenate([self._straight, straight], axis=1)
        if self._ducker is None:
            return self._limited(np.zeros_like(self._straight))
        voice = straight.mean(axis=0, keepdims=True)
        return self._limited(self._ducker.process(voice, background))

    def flush(self) -> Sound:
        """The rest of the mix."""
        left = np.zeros_like(self._straight)
        rest = self._limited(self._ducker.flush() if self._ducker else left)
        return np.concatenate([rest, self._limiter.flush()], axis=1)

    def _limited(self, background: Sound) -> Sound:
        """What is ready of the mix: as far as the backgrounds are."""
        ready = background.shape[1]
        mixed, self._straight = self._straight[:, :ready], self._straight[:, ready:]
        whole = np.asarray(mixed + background, np.float32)
        return self._limiter.process(to_channels(whole, self._channels))


class Stems:
    """Writes the stems of a program; what was there is replaced when all of them are whole."""

    def __init__(self, stems: Sequence[StemPlan], read: Read, folder: Path) -> None:
        self._stems, self._read, self._at = stems, read, 0
        self._parts = {s.id: folder / f".{s.id}.part.flac" for s in stems}
        self._targets = {s.id: folder / f"{s.id}.flac" for s in stems}
        if stems:
            folder.mkdir(exist_ok=True)
        dither = np.random.default_rng(0)
        self._writers = {
            s.id: SoundFileWriter(self._parts[s.id], s.channels, MASTER_HZ, dither) for s in stems
        }

    def go_to(self, sample: int) -> None:
        """Write each up to a sample of the program."""
        if sample <= self._at or not self._writers:
            return
        first, self._at = self._at, sample
        samples = sample - first
        for stem in self._stems:
            made = np.zeros((stem.channels, samples), np.float32)
            for line in stem.lines:
                _add(made, line, first, self._read, False)
            self._writers[stem.id].write(made)

    def finish(self) -> None:
        """Put all of them in place."""
        for writer in self._writers.values():
            writer.close()
        for name, part in self._parts.items():
            put_in_place(part, self._targets[name])

    def close(self) -> None:
        """Leave nothing behind, also when the work was broken off."""
        for writer in self._writers.values():
            # What broke it off has been told.
            with contextlib.suppress(KettleError):
                writer.close()
        for part in self._parts.values():
            part.unlink(missing_ok=True)
