"""The sounds of a program's lines: read from its sources, stretched at other speeds than 1."""

from collections import OrderedDict
from collections.abc import Mapping
from typing import Protocol

import numpy as np

from kettle_core.program.gain_lines import SoundLine
from kettle_core.sound.levels import Sound
from kettle_core.sound.tone import Tone
from kettle_core.timing.time_map import Source
from kettle_media.sound.stretching import stretched
from kettle_media.take.sound_track import MASTER_HZ

# Stretched so much at a time; neighbours go over into each other.
PART_SAMPLES, OVER_SAMPLES = 4 * MASTER_HZ, MASTER_HZ // 50
# What is stretched needs some of what lies before and after.
ROUND_SAMPLES = MASTER_HZ // 5
MOST_KEPT = 16
Key = tuple[SoundLine, int]


class Sounding(Protocol):
    """What can be heard of a source."""

    def sound(self, input_id: str, tone: Tone, first: int, count: int) -> Sound:
        """(channels, count) of an input from a sample of the source on, at 48 kHz."""
        ...


class LineSounds:
    """Reads lines of the sources of a program; parts that were stretched are kept for a while.

    A part is the same from wherever it is asked for, so that player and export agree.
    """

    def __init__(self, sources: Mapping[Source, Sounding]) -> None:
        self._sources = sources
        self._kept: OrderedDict[Key, Sound] = OrderedDict()

    def read(self, line: SoundLine, first: int, count: int) -> Sound:
        """(channels, count) of a line from a sample on, counted from the line's beginning."""
        if line.speed == 1:
            return self._source(line, line.from_sample + first, count)
        numbers = range(first // PART_SAMPLES, (first + count - 1) // PART_SAMPLES + 1)
        return np.concatenate(
            [self._within(line, n, first, first + count) for n in numbers], axis=1
        )

    def _source(self, line: SoundLine, first: int, count: int) -> Sound:
        return self._sources[line.source].sound(line.input_id, line.tone, first, count)

    def _within(self, line: SoundLine, number: int, first: int, end: int) -> Sound:
        """What of a part lies within [first, end); at its beginning the one before ends."""
        start = number * PART_SAMPLES
        begin, stop = max(first - start, 0), min(end - start, PART_SAMPLES)
        made = self._part(line, number)[:, begin:stop].copy()
        if number and begin < OVER_SAMPLES:
            over = min(stop, OVER_SAMPLES) - begin
            share = np.arange(begin, begin + over, dtype=np.float32) / OVER_SAMPLES * (np.pi / 2)
            tail = self._part(line, number - 1)[:, PART_SAMPLES + begin :][:, :over]
            # Phases differ, so powers are what adds up.
            made[:, :over] = made[:, :over] * np.sin(share) + tail * np.cos(share)
        return made

    def _part(self, line: SoundLine, number: int) -> Sound:
        """(channels, PART_SAMPLES + OVER_SAMPLES) from the beginning of a part on."""
        key = line, number
        if key not in self._kept:
            begin = number * PART_SAMPLES - ROUND_SAMPLES
            end = begin + PART_SAMPLES + OVER_SAMPLES + 2 * ROUND_SAMPLES
            first, until = line.source_sample(begin), line.source_sample(end)
            sound = self._source(line, first, until - first)
            made = stretched(sound, line.speed, MASTER_HZ, end - begin)
            self._kept[key] = made[:, ROUND_SAMPLES:-ROUND_SAMPLES]
        self._kept.move_to_end(key)
        while len(self._kept) > MOST_KEPT:
            self._kept.popitem(last=False)
        return self._kept[key]
