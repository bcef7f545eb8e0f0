"""Sample peak and true peak, and where a sound clips.

References
----------
ITU-R BS.1770-5, annex 2 (true peak by oversampling at least four times).
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound.levels import CLIP_LEVEL, Sound, ratio_to_db

OVERSAMPLING = 8
TAPS = 48
MAX_PLACES = 1000
FFT_SAMPLES = 4096


def _phases() -> NDArray[np.float32]:
    """Filters for the seven places between two samples, (TAPS, 7)."""
    places = np.arange(TAPS) - (TAPS // 2 - 1)
    window = np.kaiser(OVERSAMPLING * TAPS + 1, 8.0)
    rows = []
    for part in range(1, OVERSAMPLING):
        x = places - part / OVERSAMPLING
        shape = np.interp(x / (TAPS / 2), np.linspace(-1, 1, window.size), window)
        taps = np.sinc(x) * shape
        rows.append(taps / taps.sum())
    return np.stack(rows, axis=1).astype(np.float32)


PHASES = _phases()
_SPECTRA = np.conj(np.fft.rfft(PHASES.T, FFT_SAMPLES))
# No value between samples is larger than this times the largest sample near by.
LARGEST_RISE = float(np.abs(PHASES).sum(axis=0).max())


def between_samples(sound: NDArray[np.float32]) -> NDArray[np.float32]:
    """Largest size between each sample and the next, at seven places of one channel.

    Parameters
    ----------
    sound : (N,) float32 ndarray; of its first 23 and last 24 samples nothing can be said

    Returns
    -------
    (N - 47,) float32 ndarray; entry n lies between samples n + 23 and n + 24
    """
    windows = np.lib.stride_tricks.sliding_window_view(sound, TAPS)
    return np.asarray(np.abs(windows @ PHASES).max(axis=1))


def largest_between(sound: NDArray[np.float32]) -> float:
    """The largest value of `between_samples`, quicker for a long sound."""
    step = FFT_SAMPLES - TAPS + 1
    count = sound.size - TAPS + 1
    short = -count % step
    padded = np.pad(sound, (0, short))
    windows = np.lib.stride_tricks.sliding_window_view(padded, FFT_SAMPLES)[::step]
    spectrum = np.fft.rfft(windows)
    largest = 0.0
    for phase in _SPECTRA:
        values = np.fft.irfft(spectrum * phase, FFT_SAMPLES)[:, :step].reshape(-1)[:count]
        largest = max(largest, float(values.max()), -float(values.min()))
    return largest


@dataclass(frozen=True)
class Peaks:
    """Peaks of a sound and its clipped samples; `clips` are (start, length) in samples."""

    sample_peak_dbfs: float
    true_peak_dbtp: float
    clipped_samples: int
    clips: tuple[tuple[int, int], ...]


class PeakMeter:
    """Measures peaks block by block, exactly, and looks between samples only where it matters.

    A stretch of 10 ms whose samples are so small that nothing between them can pass the peak
    found so far is left out, which changes no result.
    """

    STRETCH = 480

    def __init__(self, channels: int) -> None:
        self._edge = np.zeros((channels, TAPS - 1), np.float32)
        self._sample_peak = self._true_peak = 0.0
        self._taken = self._clipped = 0
        self._clips: list[tuple[int, int]] = []

    def take(self, block: Sound) -> None:
        """Add (channels, N) samples."""
        if not block.shape[1]:
            return
        size = np.abs(block)
        peak = float(size.max())
        self._sample_peak = max(self._sample_peak, peak)
        self._true_peak = max(self._true_peak, peak)
        if peak >= CLIP_LEVEL:
            self._note_clips(size >= CLIP_LEVEL)
        self._taken += block.shape[1]
        self._look_between(np.concatenate([self._edge, block], axis=1))

    def read(self) -> Peaks:
        """The peaks of all that was taken; what lies behind the end counts as silence."""
        rest = np.concatenate([self._edge, np.zeros_like(self._edge)], axis=1)
        true = max(self._true_peak, *(largest_between(x) for x in rest))
        return Peaks(
            ratio_to_db(self._sample_peak), ratio_to_db(true), self._clipped, tuple(self._clips)
        )

    def _look_between(self, joined: Sound) -> None:
        self._edge = joined[:, -(TAPS - 1) :].copy()
        length = joined.shape[1] - (TAPS - 1)
        for channel in joined:
            starts = np.arange(0, length, self.STRETCH)
            size = np.abs(channel)
            highest = np.maximum.reduceat(size, starts)
            # A stretch's filters reach into the next one.
            highest = np.maximum(highest, np.append(highest[1:], size[starts[-1] :].max()))
            loudest = starts[int(highest.argmax())]
            for first, last in self._worth_a_look(highest, starts, loudest):
                part = channel[first : min(last, length) + TAPS - 1]
                self._true_peak = max(self._true_peak, largest_between(part))

    def _worth_a_look(
        self, highest: NDArray[np.float32], starts: NDArray[np.int64], loudest: int
    ) -> Iterator[tuple[int, int]]:
        """The loudest stretch, then runs of stretches that may still pass it."""
        if highest.max() * LARGEST_RISE <= self._true_peak:
            return
        yield loudest, loudest + self.STRETCH
        may = np.concatenate([[False], highest * LARGEST_RISE > self._true_peak, [False]])
        edges = np.flatnonzero(np.diff(may.astype(np.int8)))
        for first, last in zip(edges[::2], edges[1::2], strict=True):
            yield int(starts[first]), int(starts[last - 1]) + self.STRETCH

    def _note_clips(self, clipped: NDArray[np.bool_]) -> None:
        self._clipped += int(np.count_nonzero(clipped))
        anywhere = np.concatenate([[False], clipped.any(axis=0), [False]])
        edges = np.flatnonzero(np.diff(anywhere.astype(np.int8)))
        for start, end in zip(edges[::2], edges[1::2], strict=True):
            place = self._taken + int(start)
            if self._clips and sum(self._clips[-1]) == place:
                first, length = self._clips.pop()
                self._clips.append((first, length + int(end - start)))
            elif len(self._clips) < MAX_PLACES:
                self._clips.append((place, int(end - start)))


def measure_peaks(sound: Sound) -> Peaks:
    """Peaks of a whole (channels, samples) sound."""
    meter = PeakMeter(sound.shape[0])
    for at in range(0, sound.shape[1], 480_000):
        meter.take(sound[:, at : at + 480_000])
    return meter.read()
