"""A sound of any length made to go on for ever: from its quietest place back to another one."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kettle_core.sound.levels import Sound
from kettle_core.sound.stage import RATE_HZ

STEP_SAMPLES = RATE_HZ // 100
OVER_SAMPLES = RATE_HZ // 20
# Loudness is looked at over so many steps.
LOOKED_STEPS = 10
Read = Callable[[int, int], Sound]


def quiet_loop(rms: NDArray[np.float64]) -> tuple[int, int]:
    """Where a sound goes back, and where to: samples [first, end) of 48 kHz.

    Parameters
    ----------
    rms : of each `STEP_SAMPLES` of it

    Returns
    -------
    tuple of int
        The quietest place of its first quarter and that of its last one.
    """
    if rms.size < 8 * LOOKED_STEPS:
        return 0, rms.size * STEP_SAMPLES
    smooth = np.convolve(rms, np.ones(LOOKED_STEPS) / LOOKED_STEPS, "same")
    quarter = rms.size // 4
    first = LOOKED_STEPS + int(np.argmin(smooth[LOOKED_STEPS:quarter]))
    end = rms.size - quarter + int(np.argmin(smooth[-quarter:-LOOKED_STEPS]))
    return first * STEP_SAMPLES, end * STEP_SAMPLES


def read_looped(read: Read, loop: tuple[int, int], first: int, count: int) -> Sound:
    """(channels, count) of a sound that goes on at its loop's beginning where its loop ends.

    Parameters
    ----------
    read : gives (channels, count) of the sound from a sample on
    loop : samples [first, end), longer than what goes over

    Notes
    -----
    Before the end it goes over into what lies before the beginning, within 50 ms, by equal power.
    """
    begin, end = loop
    length = end - begin
    found, at = [], first
    while at < first + count:
        place = at if at < end else begin + (at - end) % length
        number = min(first + count - at, end - place)
        found.append(_before_end(read, loop, place, number))
        at += number
    return np.concatenate(found, axis=1)


def _before_end(read: Read, loop: tuple[int, int], place: int, number: int) -> Sound:
    begin, end = loop
    sound = read(place, number)
    over_from = end - OVER_SAMPLES
    if place + number <= over_from:
        return sound
    start = max(place, over_from)
    share = (np.arange(start, place + number) - over_from) / OVER_SAMPLES * (np.pi / 2)
    coming = read(start - (end - begin), place + number - start)
    mixed = sound[:, start - place :] * np.cos(share) + coming * np.sin(share)
    return np.asarray(np.concatenate([sound[:, : start - place], mixed], axis=1), np.float32)
