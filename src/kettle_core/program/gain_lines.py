"""Gain lines: how loud every sound of a program is, sample by sample.

A line's points are (sample, gain in dB); between two points the amplitude moves evenly, from and
to −∞ dB as well. The program's samples are at 48 kHz.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kettle_core.program.stretch import Stretch, joined, sample_of
from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.rig.rig import Rig
from kettle_core.scene.scene import SceneSound
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import Tone
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source

RAMP_SAMPLES = RATE_HZ // 100
SILENT_DB = float("-inf")
# Sound crosses over at most so far from where its piece ends.
NEAR_SAMPLES = RATE_HZ // 20
Point = tuple[int, float]


@dataclass(frozen=True)
class SoundLine:
    """One input's sound in one piece of a program: samples [first, end).

    At `first_sample` lies sample `from_sample` of the source, counted at 48 kHz on record time.
    At another `speed` than 1 it is stretched: shorter or longer at the same pitch.
    """

    source: Source
    input_id: str
    first_sample: int
    end_sample: int
    from_sample: int
    points: tuple[Point, ...]
    tone: Tone = field(default=Tone())
    is_voice: bool = False
    speed: Fraction = Fraction(1)
    # Whether it gives way to voices whatever else does.
    under_voices: bool = False
    # In so many samples it comes out of silence and goes into it.
    fades: tuple[int, int] = (0, 0)

    def fading(self, begins: int, ends: int, into: int, out: int) -> "SoundLine":
        """The same where it is not of a piece [begins, ends); of one, it fades with it."""
        near = self.first_sample >= begins - NEAR_SAMPLES and self.end_sample <= ends + NEAR_SAMPLES
        if self.under_voices or not near:
            return self
        first = into if self.first_sample <= begins + NEAR_SAMPLES else 0
        last = out if self.end_sample >= ends - NEAR_SAMPLES else 0
        return replace(self, fades=(first, last))

    def source_sample(self, sample: int) -> int:
        """What of the source lies at a sample of the line, counted from its beginning."""
        return self.from_sample + round(sample * self.speed)

    def gains(self, first: int, count: int) -> NDArray[np.float32]:
        """Amplitude factors of `count` samples of the program from `first` on, (count,)."""
        places = np.arange(first, first + count)
        at = np.array([p[0] for p in self.points], np.float64)
        ratios = np.array([10 ** (p[1] / 20) for p in self.points])
        found = np.interp(places, at, ratios)
        found[(places < self.first_sample) | (places >= self.end_sample)] = 0
        into, out = self.fades
        if into:
            found *= np.clip((places - self.first_sample) / into, 0, 1)
        if out:
            found *= np.clip((self.end_sample - places) / out, 0, 1)
        return np.asarray(found, np.float32)


def lines_of_piece(
    stretches: Sequence[Stretch],
    rig: Rig,
    fps: Fraction,
    joined: tuple[bool, bool],
    moved: tuple[int, int] = (0, 0),
) -> tuple[SoundLine, ...]:
    """The lines of all sounds that are heard in a piece.

    Parameters
    ----------
    stretches : of the piece, without gaps
    rig : the take's rig, for each sound's chain
    fps : frame rate of the program
    joined : whether other pieces come before and after: there the sound crosses over within
        10 ms, half of them beyond the piece's end
    moved : by how many samples it does so later than the pictures, at the beginning and at the end
    """
    ids = {s.input_id: None for x in stretches for s in _heard(x)}
    seen_from = sample_of(stretches[0].first_frame, fps)
    first = seen_from + moved[0]
    end = sample_of(stretches[-1].end_frame, fps) + moved[1]
    half = RAMP_SAMPLES // 2
    begins, ends = first - half * joined[0], end + half * joined[1]
    found = []
    for input_id in ids:
        points = _points(stretches, input_id, fps)
        if joined[0]:
            until = first + half
            level = next((db for at, db in reversed(points) if at <= until), points[0][1])
            rest = [point for point in points[1:] if point[0] > until]
            points = [(begins, SILENT_DB), (until, level), *rest]
        if joined[1]:
            points = [point for point in points if point[0] < end - half] or points[:1]
            points = [*points, (end - half, points[-1][1]), (ends, SILENT_DB)]
        piece = stretches[0]
        before = round((seen_from - begins) * piece.speed)
        from_sample = round(piece.from_ns * RATE_HZ / NS_PER_S) - before
        item = rig.input(input_id)
        found.append(
            SoundLine(
                piece.source,
                input_id,
                begins,
                ends,
                from_sample,
                tuple(points),
                item.tone,
                item.kind in VOICE_KINDS,
                piece.speed,
            )
        )
    return tuple(found)


def line_of_file(stretch: Stretch, fps: Fraction, joined: tuple[bool, bool]) -> SoundLine:
    """The line of a file that fills a piece; at other pieces it crosses over within 10 ms."""
    half = RAMP_SAMPLES // 2
    first, end = sample_of(stretch.first_frame, fps), sample_of(stretch.end_frame, fps)
    begins, ends = first - half * joined[0], end + half * joined[1]
    coming = ((begins, SILENT_DB), (first + half, 0.0)) if joined[0] else ((first, 0.0),)
    going = ((end - half, 0.0), (ends, SILENT_DB)) if joined[1] else ((end, 0.0),)
    from_sample = round(stretch.from_ns * RATE_HZ / NS_PER_S)
    from_sample -= round((first - begins) * stretch.speed)
    points = (*coming, *going)
    return SoundLine(
        stretch.source, "sound", begins, ends, from_sample, points, speed=stretch.speed
    )


def _heard(stretch: Stretch) -> tuple[SceneSound, ...]:
    return (*stretch.scene.sounds, *(stretch.before.sounds if stretch.before else ()))


def _points(stretches: Sequence[Stretch], input_id: str, fps: Fraction) -> list[Point]:
    """The points of an input: level within a scene, 10 ms at a cut, a change-over's length."""
    points: list[Point] = []
    for stretch in stretches:
        start = sample_of(stretch.first_frame, fps)
        stop = sample_of(stretch.end_frame, fps)
        gain_db = next(
            (s.gain_db for s in stretch.scene.sounds if s.input_id == input_id), SILENT_DB
        )
        if not points:
            points.append((start, gain_db))
            continue
        if points[-1][1] == gain_db:
            continue
        until = stop if stretch.before is not None else min(stop, start + RAMP_SAMPLES)
        points += [(start, points[-1][1]), (until, gain_db)]
    return points


def differing_sounds(
    ours: Sequence[SoundLine], theirs: Sequence[SoundLine]
) -> tuple[tuple[int, int], ...]:
    """Samples [first, end) of a program in which something else is heard, joined where they touch.

    What ducking and limiter make of it may differ a little beyond.
    """
    both = (*ours, *theirs)
    marks = {s for x in both for s in (x.first_sample, x.end_sample, *(p[0] for p in x.points))}
    return joined(
        (first, end)
        for first, end in pairwise(sorted(marks))
        if _heard_in(ours, first, end) != _heard_in(theirs, first, end)
    )


def _heard_in(lines: Sequence[SoundLine], first: int, end: int) -> set[tuple[object, ...]]:
    """What is heard between two samples within which no line bends."""
    found: set[tuple[object, ...]] = set()
    for line in lines:
        if line.first_sample <= first < line.end_sample:
            gains = line.gains(first, 1)[0], line.gains(end - 1, 1)[0]
            if any(gains):
                place = line.source_sample(first - line.first_sample)
                levels = tuple(round(float(g), 6) for g in gains)
                found.add((line.source, line.input_id, line.tone, place, line.speed, levels))
    return found
