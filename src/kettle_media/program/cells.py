"""Cells: the parts of a program of which each hangs on nothing but itself.

A cell is a closed group of frames that begins with a keyframe. Its key says all that its frames
hang on; two cells of one key have the same frames. So what a program shows already need not be
composed and encoded again: its packets are taken over.
"""

import contextlib
import hashlib
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

from kettle_core.program.plan import Plan
from kettle_core.program.stretch import Stretch
from kettle_core.rig.encoder_settings import EncoderSettings
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source
from kettle_media.durable import replace_file

VERSION = 3


@dataclass(frozen=True, slots=True)
class Cell:
    """Frames or packets [first, end) of a program, and what they hang on."""

    first: int
    end: int
    key: str


def cells_of(
    plan: Plan, settings: EncoderSettings, identities: Mapping[Source, str]
) -> tuple[Cell, ...]:
    """A plan in cells.

    Parameters
    ----------
    plan, settings : what is shown, and how it is encoded
    identities : of every source a text that is another one when its pictures are

    Notes
    -----
    They end where a piece does, and at multiples of the keyframe distance of *source* time: so
    they stay the same when something before them is taken out.
    """
    head = [VERSION, plan.frame_size, plan.fps, plan.scaling, settings]
    found = []
    for first, end in _bounds(plan, settings.keyframe_s):
        seen = [_seen(s, first, end, plan.fps) for s in _between(plan, first, end)]
        used = sorted({identities.get(s.source, s.source.id) for s in _between(plan, first, end)})
        dims = plan.fades_within(first, end) and [plan.share_at(n) for n in range(first, end)]
        text = repr((head, seen, used, end - first, dims))
        found.append(Cell(first, end, hashlib.sha256(text.encode()).hexdigest()[:32]))
    return tuple(found)


def _between(plan: Plan, first: int, end: int) -> Iterator[Stretch]:
    return (s for s in plan.stretches if s.first_frame < end and s.end_frame > first)


def _bounds(plan: Plan, every_s: Fraction) -> Iterator[tuple[int, int]]:
    fps = plan.fps
    starts = set()
    before: Stretch | None = None
    for stretch in plan.stretches:
        goes_on = (
            before is not None
            and (before.source, before.speed) == (stretch.source, stretch.speed)
            and before.source_ns(before.end_frame, fps) == stretch.from_ns
        )
        if not goes_on:
            starts.add(stretch.first_frame)
        # Source time goes by so much a frame; the first frame at or after each multiple.
        step_ns = NS_PER_S * stretch.speed / fps
        every_ns = every_s * NS_PER_S
        # A multiple may lie between this stretch's first frame and the one before it.
        number = (stretch.from_ns - step_ns) // every_ns + 1
        while True:
            frame = stretch.first_frame - int((stretch.from_ns - number * every_ns) // step_ns)
            if frame >= stretch.end_frame:
                break
            starts.add(frame)
            number += 1
        before = stretch
    rising = sorted(starts)
    return zip(rising, [*rising[1:], plan.frames], strict=True)


def _seen(stretch: Stretch, first: int, end: int, fps: Fraction) -> object:
    """What a cell shows of a stretch, with frames counted from the cell's beginning."""
    begin = max(first, stretch.first_frame)
    until = min(end, stretch.end_frame)
    return begin - first, until - first, stretch.seen_from(begin, fps)


@dataclass(frozen=True)
class Composed:
    """A program that is there: its cells by their keys, each with the checksum of its packets.

    `sounds` are those of its sound; `stems` has what each stem's file hangs on.
    """

    path: Path
    cells: Mapping[str, tuple[Cell, int]] = field(default_factory=dict)
    sounds: Mapping[str, tuple[Cell, int]] = field(default_factory=dict)
    stems: Mapping[str, str] = field(default_factory=dict)


def read_composed(program: Path) -> Composed:
    """What is known of a program; without cells if that is nothing or of another file."""
    unknown: tuple[type[Exception], ...] = (OSError, ValueError, KeyError, TypeError)
    with contextlib.suppress(*unknown):
        found: dict[str, Any] = json.loads(cells_path(program).read_text())
        if found["version"] == VERSION and found["bytes"] == program.stat().st_size:
            stems = {str(name): str(key) for name, key in found["stems"].items()}
            return Composed(program, _read(found["cells"]), _read(found["sounds"]), stems)
    return Composed(program)


def _read(rows: Sequence[Any]) -> Mapping[str, tuple[Cell, int]]:
    return {key: (Cell(first, end, key), crc) for first, end, key, crc in rows if key}


def with_sums(cells: Sequence[Cell], sums: Sequence[int]) -> Mapping[str, tuple[Cell, int]]:
    """Cells by their keys, each with its checksum."""
    return {c.key: (c, crc) for c, crc in zip(cells, sums, strict=True) if c.key}


def write_composed(made: Composed) -> None:
    """Keep what a program's cells are. Raises OSError."""
    rows = {
        name: [[c.first, c.end, c.key, crc] for c, crc in found.values()]
        for name, found in (("cells", made.cells), ("sounds", made.sounds))
    }
    head = {"version": VERSION, "bytes": made.path.stat().st_size, "stems": dict(made.stems)}
    replace_file(cells_path(made.path), json.dumps({**head, **rows}).encode())


def cells_path(program: Path) -> Path:
    """The file beside a program that says what its cells are."""
    return program.with_suffix(".cells.json")
