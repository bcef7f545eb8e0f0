"""A recorded sound on the master's time axis at 48 kHz, from any place on.

It is resampled in blocks that begin anew at an anchor every 2 s and wherever the clock's map
bends, each with some sound before it (pre-roll) so that the filter has settled. So a jump gives
the same samples as reading on, and where blocks meet there is no step: every sample is taken at
the place that the map says, to a fraction of a sample.
"""

import contextlib
from collections import OrderedDict
from dataclasses import dataclass
from itertools import groupby
from math import ceil, floor
from pathlib import Path
from typing import Protocol

import numpy as np
import soxr
from av.error import FFmpegError
from numpy.typing import NDArray

from kettle_core.rig.devices import Mode
from kettle_core.sound.shaping import TAPS, fraction_taps
from kettle_core.timing.clock_map import ClockMap, Piece
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.sound.sound_frames import samples_of
from kettle_media.take.track_index import PacketReader, track_index

MASTER_HZ = 48_000
ANCHOR_SAMPLES = 2 * MASTER_HZ
PRE_ROLL_SAMPLES = 2048
KEPT_BLOCKS = 6
# A fraction of a sample below this is none.
LEAST_FRACTION = 1e-4
Samples = NDArray[np.float32]


class Raw(Protocol):
    """Samples as they were recorded; silence where there are none."""

    def read(self, first: int, count: int) -> Samples:
        """(channels, count) from a sample on, which may lie before 0."""
        ...


class RawTrack:
    """A sound track's samples as they lie in its file; packets that are damaged are silent."""

    def __init__(self, path: Path, channels: int) -> None:
        index = track_index(path)
        self._channels = channels
        firsts = index.packets["first"]
        # Hours have many: they take no more than they need.
        self._firsts = firsts.astype(np.min_scalar_type(int(firsts[-1])))
        self._reader = PacketReader(path, index)
        self._decoder = index.decoder()
        self._decoded: tuple[int, Samples] = (-1, np.zeros((channels, 0), np.float32))

    def read(self, first: int, count: int) -> Samples:
        """(channels, count) from a sample of the file on."""
        made = np.zeros((self._channels, count), np.float32)
        number = max(0, int(np.searchsorted(self._firsts, first, side="right")) - 1)
        while number < self._firsts.size and int(self._firsts[number]) < first + count:
            at = int(self._firsts[number]) - first
            block = self._block(number)
            kept = block[:, max(0, -at) : count - at]
            if kept.shape[1]:
                start = max(0, at)
                made[:, start : start + kept.shape[1]] = kept
            number += 1
        return made

    def close(self) -> None:
        """Close the files."""
        self._reader.close()

    def _block(self, number: int) -> Samples:
        if self._decoded[0] != number:
            parts: list[Samples] = []
            with contextlib.suppress(FFmpegError, OSError, ValueError):
                for frame in self._decoder.decode(self._reader.read(number)):
                    parts.append(samples_of(frame, self._channels).astype(np.float32))
            if not parts:
                parts = [np.zeros((self._channels, 0), np.float32)]
            self._decoded = (number, np.concatenate(parts, axis=1))
        return self._decoded[1]


@dataclass(frozen=True)
class _Block:
    """Samples [first, end) at 48 kHz: taken from `place` of the raw sound on, `step` apart."""

    first: int
    end: int
    place: float
    step: float


class SoundTrack:
    """Reads a sound at record times, in samples at 48 kHz from the take's start on.

    Parameters
    ----------
    raw : the samples as they were recorded
    mode : their rate and channels
    clock : from the track's time to the master's
    first_ns : track time of the first raw sample
    origin_ns : master time of sample 0; a latency is part of it

    Within a segment of the clock's map the sound runs through without a step. Where a segment
    begins later than the one before ends there is silence, where it begins earlier its beginning
    is left out. Before the first and after the last sample there is silence.
    """

    def __init__(
        self, raw: Raw, mode: Mode, clock: ClockMap, first_ns: int, origin_ns: float
    ) -> None:
        self._raw, self._rate_hz, self.channels = raw, mode.sample_rate_hz, mode.channels
        self._first_ns, self._origin_ns, self._clock = first_ns, origin_ns, clock
        self._straights = self._straight_parts()
        self._kept: OrderedDict[tuple[int, int], Samples] = OrderedDict()

    def read(self, first: int, count: int) -> Samples:
        """(channels, count) float32 from a sample on, which may lie before 0."""
        made = np.zeros((self.channels, count), np.float32)
        for straight in self._straights:
            at = max(first, straight.first)
            until = min(first + count, straight.end)
            while at < until:
                block = self._block_of(straight, at)
                stop = min(until, block.end)
                ready = self._ready(block)
                made[:, at - first : stop - first] = ready[:, at - block.first : stop - block.first]
                at = stop
        return made

    def raw_places(self, samples: NDArray[np.int64]) -> NDArray[np.float64]:
        """Where samples at 48 kHz lie in the raw sound, (N,) rising; NaN where there is silence."""
        places = np.full(samples.size, np.nan)
        for part in self._straights:
            a, b = np.searchsorted(samples, [part.first, part.end])
            places[a:b] = part.place + (samples[a:b] - part.first) * part.step
        return places

    def _straight_parts(self) -> list[_Block]:
        """Where the map is straight, in rising order without overlaps; without anchors yet."""
        found: list[_Block] = []
        done = -(2**62)
        segments = [list(g) for _, g in groupby(self._clock.pieces, lambda p: p.segment)]
        for n, pieces in enumerate(segments):
            begins_ns = max(self._first_ns, pieces[0].start_ns) if n else self._first_ns
            ends_ns = segments[n + 1][0].start_ns if n + 1 < len(segments) else None
            for k, piece in enumerate(pieces):
                start_ns = begins_ns if k == 0 else max(begins_ns, piece.start_ns)
                stop_ns = pieces[k + 1].start_ns if k + 1 < len(pieces) else ends_ns
                if stop_ns is not None and stop_ns <= start_ns:
                    continue
                first = max(done, ceil(self._sample_at(piece, start_ns)))
                end = 2**62 if stop_ns is None else ceil(self._sample_at(piece, stop_ns))
                if end <= first:
                    continue
                found.append(self._block(piece, first, end))
                done = end
        return found

    def _sample_at(self, piece: Piece, track_ns: int) -> float:
        master_ns = piece.master_ns + (track_ns - piece.start_ns) * piece.slope
        return (master_ns - self._origin_ns) * MASTER_HZ / NS_PER_S

    def _block(self, piece: Piece, first: int, end: int) -> _Block:
        master_ns = self._origin_ns + first * NS_PER_S / MASTER_HZ
        track_ns = piece.start_ns + (master_ns - piece.master_ns) / piece.slope
        place = (track_ns - self._first_ns) * self._rate_hz / NS_PER_S
        return _Block(first, end, place, self._rate_hz / (piece.slope * MASTER_HZ))

    @staticmethod
    def _block_of(straight: _Block, at: int) -> _Block:
        """The block from anchor to anchor within a straight part."""
        anchor = at // ANCHOR_SAMPLES * ANCHOR_SAMPLES
        first, end = max(straight.first, anchor), min(straight.end, anchor + ANCHOR_SAMPLES)
        place = straight.place + (first - straight.first) * straight.step
        return _Block(first, end, place, straight.step)

    def _ready(self, block: _Block) -> Samples:
        key = (block.first, block.end)
        found = self._kept.pop(key, None)
        if found is None:
            found = self._resampled(block)
            if len(self._kept) >= KEPT_BLOCKS:
                self._kept.popitem(last=False)
        self._kept[key] = found
        return found

    def _resampled(self, block: _Block) -> Samples:
        count, step = block.end - block.first, block.step
        # Even the filter of a much lower rate has settled after so many of its samples.
        before = ceil(PRE_ROLL_SAMPLES * max(1.0, step))
        start = floor(block.place) - before
        raw = self._raw.read(start, ceil(count * step) + 2 * before)
        if abs(step - 1) < 1e-12:
            made = raw
        else:
            made = soxr.resample(np.ascontiguousarray(raw.T), step * MASTER_HZ, MASTER_HZ)
            made = np.asarray(made.reshape(-1, self.channels).T, np.float32)
        place = (block.place - start) / step
        whole = ceil(place - LEAST_FRACTION)
        late = whole - place  # so much of a sample it must be taken earlier than `whole`
        if late < LEAST_FRACTION:
            return made[:, whole : whole + count].copy()
        used = made[:, whole - TAPS // 2 : whole + count + TAPS // 2 - 1]
        # In single precision twice as fast, and exact to -130 dB.
        taps = fraction_taps(late).astype(np.float32)
        return np.stack([np.convolve(x, taps, "valid") for x in used])
