"""A recorded sound on the master's time axis, read piece by piece."""

from collections.abc import Iterator
from functools import lru_cache
from itertools import groupby
from pathlib import Path

import numpy as np
import soxr
from numpy.typing import NDArray

from kettle_core.rig.devices import Mode
from kettle_core.timing.clock_map import ClockMap, Piece
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.track_reading import read_sound

MASTER_HZ = 48_000
# The variable resampler is made for rates up to this much higher.
HIGHEST_RATIO = 1.1
Samples = NDArray[np.float32]


class MasterSound:
    """Resamples a track along its clock's map and lays it where it belongs, while it is read.

    Parameters
    ----------
    path : the track's file
    mode : its sample rate and channels
    clock : from the track's time to the master's
    first_ns : track time of the file's first sample
    origin_ns : master time of what is read first; a latency is part of it

    After the track's end `read` gives silence. Within a segment of the map the sound is resampled
    without a step; where a segment begins later than the one before ends there is silence, where
    it begins earlier its beginning is left out. The first segment is placed to the sample; the
    rest, up to half a sample, is in `late_samples`.
    """

    def __init__(
        self, path: Path, mode: Mode, clock: ClockMap, first_ns: int, origin_ns: float
    ) -> None:
        self._channels, self._rate_hz = mode.channels, mode.sample_rate_hz
        self._first_ns = first_ns
        starts = np.array([first_ns, *(p.start_ns for p in clock.pieces)], np.int64)
        places = (clock.to_master_ns(starts) - origin_ns) * MASTER_HZ / NS_PER_S
        self.late_samples = float(places[0]) - round(float(places[0]))
        self._place_of = dict(zip(starts.tolist(), places.tolist(), strict=True))
        self._segments = [
            list(pieces) for _, pieces in groupby(clock.pieces, lambda piece: piece.segment)
        ]
        self._parts = self._resampled(read_sound(path))
        self._pending: Samples = np.zeros((mode.channels, 0), np.float32)

    def read(self, samples: int) -> Samples:
        """The next (channels, samples) float32."""
        parts, have = [self._pending], self._pending.shape[1]
        while have < samples:
            part = next(self._parts, None)
            if part is None:
                part = np.zeros((self._channels, samples - have), np.float32)
            parts.append(part)
            have += part.shape[1]
        joined = np.concatenate(parts, axis=1)
        self._pending = joined[:, samples:]
        return joined[:, :samples]

    def _resampled(self, blocks: Iterator[Samples]) -> Iterator[Samples]:
        """All that is heard from the origin on, with silence between segments."""
        source = _Blocks(blocks, self._channels)
        done, begun = 0, self._first_ns
        for number, pieces in enumerate(self._segments):
            begun = max(begun, pieces[0].start_ns) if number else self._first_ns
            ends = self._segments[number + 1 :]
            count = self._samples_until(ends[0][0].start_ns) - source.taken if ends else None
            place = round(self._place_of[pieces[0].start_ns] if number else self._place_of[begun])
            if place > done:
                yield np.zeros((self._channels, place - done), np.float32)
                done = place
            left_out = done - place
            for part in self._segment(source, pieces, count):
                kept = part[:, min(left_out, part.shape[1]) :]
                left_out -= part.shape[1] - kept.shape[1]
                done += kept.shape[1]
                yield kept

    def _samples_until(self, track_ns: int) -> int:
        return max(0, round((track_ns - self._first_ns) * self._rate_hz / NS_PER_S))

    def _segment(
        self, source: "_Blocks", pieces: list[Piece], count: int | None
    ) -> Iterator[Samples]:
        """A segment's samples resampled, all its pieces by one resampler."""
        if len(pieces) == 1:
            rate_hz = self._rate_hz / pieces[0].slope
            stream = soxr.ResampleStream(rate_hz, MASTER_HZ, self._channels, dtype="float32")
            yield from _run(stream, source.take(count), self._channels, True)
            return
        stream = soxr.ResampleStream(
            HIGHEST_RATIO * self._rate_hz, MASTER_HZ, self._channels, dtype="float32", vr=True
        )
        early = round(variable_delay_s(self._rate_hz) * MASTER_HZ)
        left = count
        for n, piece in enumerate(pieces):
            last = n == len(pieces) - 1
            length = left
            if not last:
                length = self._samples_until(pieces[n + 1].start_ns) - source.taken
                length = max(0, length if left is None else min(length, left))
            stream.set_io_ratio(self._rate_hz / piece.slope, MASTER_HZ)
            for part in _run(stream, source.take(length), self._channels, last):
                if early < 0:  # it is early: the first samples come a little too soon
                    yield np.zeros((self._channels, -early), np.float32)
                    early = 0
                kept = part[:, min(early, part.shape[1]) :]
                early -= part.shape[1] - kept.shape[1]
                yield kept
            if left is not None and length is not None:
                left -= length


def _run(
    stream: soxr.ResampleStream, blocks: Iterator[Samples], channels: int, last: bool
) -> Iterator[Samples]:
    for block in blocks:
        yield _chunk(stream, block, False)
    if last:
        yield _chunk(stream, np.zeros((channels, 0), np.float32), True)


def _chunk(stream: soxr.ResampleStream, block: Samples, last: bool) -> Samples:
    made = stream.resample_chunk(np.ascontiguousarray(block.T), last=last)
    return np.asarray(made.reshape(-1, block.shape[0]).T, np.float32)


class _Blocks:
    """Blocks of a sound, taken by number of samples."""

    def __init__(self, blocks: Iterator[Samples], channels: int) -> None:
        self._blocks = blocks
        self._rest: Samples = np.zeros((channels, 0), np.float32)
        self.taken = 0

    def take(self, samples: int | None) -> Iterator[Samples]:
        """The next samples, or all that are left."""
        left = samples
        while left is None or left > 0:
            block = self._rest if self._rest.shape[1] else next(self._blocks, None)
            if block is None:
                return
            part = block if left is None else block[:, :left]
            self._rest = block[:, part.shape[1] :]
            self.taken += part.shape[1]
            left = None if left is None else left - part.shape[1]
            yield part


@lru_cache(maxsize=8)
def variable_delay_s(rate_hz: int) -> float:
    """How late the variable resampler gives a sound (s; negative: early), measured on a tone.

    It is constant, but the library does not say it.
    """
    tone_hz, seconds = 440.0, 2
    t = np.arange(rate_hz * seconds) / rate_hz
    tone = np.sin(2 * np.pi * tone_hz * t).astype(np.float32)
    stream = soxr.ResampleStream(HIGHEST_RATIO * rate_hz, MASTER_HZ, 1, dtype="float32", vr=True)
    stream.set_io_ratio(rate_hz, MASTER_HZ)
    heard = stream.resample_chunk(tone.reshape(-1, 1))[:, 0]
    span = slice(MASTER_HZ // 2, MASTER_HZ * 3 // 2)
    t = np.arange(heard.size)[span] / MASTER_HZ
    phase = np.angle(np.sum(heard[span] * np.exp(-2j * np.pi * tone_hz * t))) + np.pi / 2
    phase = (phase + np.pi) % (2 * np.pi) - np.pi
    return float(-phase / (2 * np.pi) / tone_hz)
