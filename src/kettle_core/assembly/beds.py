"""Music beds of our own: made by computation, so that they loop without a seam and belong to all.

A bed is a sum of tones whose frequencies are multiples of one over its length: its end goes on
into its beginning by itself. Levels are about -20 dBFS RMS.
"""

from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound.levels import Sound
from kettle_core.sound.stage import RATE_HZ

LOOP_S = 16
LEVEL_RMS = 0.1
# Semitones over A2, four chords one after the other.
A2_HZ = 110.0
# Tones that all begin at once would be a stroke.
SPREAD = 2.4
CHORDS = ((0, 7, 12, 16), (-4, 8, 12, 15), (3, 7, 10, 15), (-2, 5, 10, 14))
STROKES = 16
Wave = NDArray[np.float64]
Partial = tuple[float, float, float]


def _time() -> Wave:
    return np.arange(LOOP_S * RATE_HZ) / RATE_HZ


def _fitting(hz: float) -> float:
    """The nearest frequency of which whole periods fit the loop."""
    return round(hz * LOOP_S) / LOOP_S


def _swell(number: int, of: int, width: float) -> Wave:
    """How present one of several parts is over the loop: up and down round its middle."""
    middle = (number + 0.5) / of
    away = np.abs((_time() / LOOP_S - middle + 0.5) % 1 - 0.5) * of
    return np.where(away < width, 0.5 + 0.5 * np.cos(np.pi * away / width), 0.0)


def _tones(partials: Iterable[Partial]) -> Wave:
    """The sum of tones, by way of their spectrum: (Hz, amplitude, phase), none above 20 kHz."""
    spectrum = np.zeros(LOOP_S * RATE_HZ // 2 + 1, np.complex128)
    for hz, amplitude, phase in partials:
        spectrum[round(hz * LOOP_S)] += amplitude * np.exp(1j * (phase - np.pi / 2))
    return np.asarray(np.fft.irfft(spectrum * (LOOP_S * RATE_HZ / 2)))


def _partials(hz: float, shares: Sequence[float], phase: float = 0.0) -> list[Partial]:
    return [((n + 1) * hz, share, phase * (n + 1)) for n, share in enumerate(shares)]


def _chords(tone: Callable[[float, int], list[Partial]], width: float = 1.0) -> Wave:
    found = np.zeros(LOOP_S * RATE_HZ)
    for number, chord in enumerate(CHORDS):
        partials: list[Partial] = []
        for place, semitone in enumerate(chord):
            partials += tone(_fitting(A2_HZ * 2 ** (semitone / 12)), place)
        found += _swell(number, len(CHORDS), width) * _tones(partials)
    return found


def _strings(side: int) -> Wave:
    """Wide chords that come and go."""

    def tone(hz: float, place: int) -> list[Partial]:
        other = hz + (place + 1 + side) / LOOP_S
        one = _partials(hz, (1, 0.45, 0.3, 0.12), SPREAD * place)
        return one + _partials(other, (1, 0.4, 0.2), place + side)

    return _chords(tone)


def _bells(side: int) -> Wave:
    """Single soft strokes, one after the other, that ring out over the end."""
    found, rings = np.zeros(LOOP_S * RATE_HZ), 6 * RATE_HZ
    since = np.arange(rings) / RATE_HZ
    # It has rung out before it is cut off.
    shape = np.exp(-since * 1.6) * (1 - np.exp(-since * 180)) * np.clip(6 - since, 0, 1)
    for number in range(STROKES):
        chord = CHORDS[number * len(CHORDS) // STROKES]
        hz = 2 * A2_HZ * 2 ** (chord[(5 * number) % 4] / 12)
        ring = sum(
            share * np.sin(2 * np.pi * (n + 1) * hz * since)
            for n, share in enumerate((1, 0.25, 0.35, 0.06))
        )
        pan = 0.75 + 0.25 * (-1) ** (number + side)
        places = np.arange(rings) + number * LOOP_S * RATE_HZ // STROKES
        found[places % found.size] += pan * shape * ring
    return found


def _ground(side: int) -> Wave:
    """A low, warm ground with a slow breath."""
    breath = 0.7 + 0.3 * np.sin(2 * np.pi * 4 * _time() / LOOP_S + side)

    def tone(hz: float, place: int) -> list[Partial]:
        if place < 2:
            return _partials(_fitting(hz / 2), (1, 0.5, 0.2), SPREAD * place)
        return _partials(hz, (0.3, 0.1), SPREAD * place + side)

    return breath * _chords(tone, 1.2)


BEDS: dict[str, tuple[str, Callable[[int], Wave]]] = {
    "strings": ("Slow strings", _strings),
    "bells": ("Soft bells", _bells),
    "ground": ("Low ground", _ground),
}


@lru_cache(maxsize=len(BEDS))
def bed(name: str) -> Sound:
    """A bed as a loop, (2, LOOP_S seconds) at 48 kHz. Raises KeyError."""
    _, make = BEDS[name]
    made = np.stack([make(side) for side in (0, 1)])
    return np.asarray(made * (LEVEL_RMS / np.sqrt(np.mean(made**2))), np.float32)


def looped(loop: Sound, first: int, count: int) -> Sound:
    """(channels, count) of a loop from any sample on."""
    return loop[:, np.arange(first, first + count) % loop.shape[1]]
