"""Chapters of a program: where the steps of its takes begin."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from html import escape

from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.laid import laid
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import to_ns

# When a step begins in take time, ns, and what it is called; rising.
Steps = Sequence[tuple[int, str]]


@dataclass(frozen=True)
class Chapter:
    """A part of a program, from a program time on until the next one.

    `step` is the number of the step of `take` that it is; "" for what comes before all steps.
    """

    at_ns: int
    title: str
    take: str = ""
    step: int = 0


def chapters(
    cuts: CutList, fps: Fraction, steps: Mapping[str, Steps], opening: str
) -> tuple[Chapter, ...]:
    """The chapters of a cut list, rising; none where its takes have no steps.

    A step whose beginning was taken out begins with the first of it that is seen. What comes
    before all steps is a chapter called `opening`, as players want one at 0.
    """
    found: list[Chapter] = []
    for one in laid(cuts, fps):
        piece = one.piece
        if not one.is_seen:
            continue
        of_take = steps.get(piece.take, ())
        for at_ns, step in _within(of_take, piece.from_ns, piece.until_ns):
            title = of_take[step][1]
            if not found or found[-1].title != title:
                found.append(Chapter(to_ns(one.program_ns(at_ns)), title, piece.take, step))
    if found and found[0].at_ns:
        found.insert(0, Chapter(0, opening))
    return tuple(found)


def _within(steps: Steps, from_ns: int, until_ns: int) -> list[tuple[int, int]]:
    """When steps of a stretch begin, with their numbers; the one that is on begins with it."""
    before = [number for number, (at_ns, _) in enumerate(steps) if at_ns <= from_ns]
    inside = [(at_ns, n) for n, (at_ns, _) in enumerate(steps) if from_ns < at_ns < until_ns]
    return [(from_ns, before[-1]), *inside] if before else inside


def as_webvtt(found: Sequence[Chapter], length_ns: int) -> str:
    """Chapters as a WebVTT file (W3C, "WebVTT: The Web Video Text Tracks Format")."""
    ends = [chapter.at_ns for chapter in found[1:]] + [length_ns]
    cues = [
        f"{stamp(chapter.at_ns)} --> {stamp(end_ns)}\n{_cue_text(chapter.title)}\n"
        for chapter, end_ns in zip(found, ends, strict=True)
    ]
    return "\n".join(["WEBVTT\n", *cues])


def _cue_text(title: str) -> str:
    """A title in one line, as the standard has it written.

    >>> _cue_text("<2> &  more -->")
    '&lt;2&gt; &amp; more --&gt;'
    """
    return escape(" ".join(title.split()), quote=False)


def stamp(at_ns: int) -> str:
    """Hours, minutes, seconds with thousandths.

    >>> stamp(3_725_250_000_000)
    '01:02:05.250'
    """
    seconds, ms = divmod(round(at_ns * 1000 / NS_PER_S), 1000)
    minutes, seconds = divmod(seconds, 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours:02d}:{minutes:02d}:{seconds:02d}.{ms:03d}"
