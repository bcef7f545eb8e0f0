"""Cells of a program's sound: packets that are the same where all is the same that they hang on."""

import hashlib
from collections.abc import Iterator, Mapping, Sequence

from kettle_core.program.gain_lines import SoundLine
from kettle_core.program.plan import Plan, StemPlan
from kettle_core.rig.format import ProgramFormat
from kettle_core.timing.time_map import Source
from kettle_media.program.cells import Cell
from kettle_media.program.mix import SETTLED_SAMPLES
from kettle_media.take.sound_track import MASTER_HZ

VERSION = 2
# An AAC packet has so many samples; the first one comes before the program and is silent.
PACKET_SAMPLES = 1024
CELL_PACKETS = 480
# What comes later is heard earlier only by ducking and limiter.
AFTER_SAMPLES = MASTER_HZ


def sound_cells_of(
    plan: Plan, written: ProgramFormat, identities: Mapping[Source, str]
) -> tuple[Cell, ...]:
    """A plan's sound in cells, counted in packets; one without a key where none can be kept.

    Parameters
    ----------
    plan, written : what is heard, and how it is encoded
    identities : of every source a text that is another one when its sounds are
    """
    total = -(-plan.samples // PACKET_SAMPLES) + 1
    if written.sound_codec != "aac" or written.sample_rate_hz != MASTER_HZ:
        return (Cell(0, total, ""),)
    head = [VERSION, written.sound_kbps, written.channels, plan.ducking, plan.ceiling_dbtp]
    lines = sorted(plan.lines, key=lambda line: line.first_sample)
    found = []
    for first in range(0, total, CELL_PACKETS):
        end = min(total, first + CELL_PACKETS)
        begin = (first - 1) * PACKET_SAMPLES
        around = (
            max(0, begin - SETTLED_SAMPLES),
            min(plan.samples, end * PACKET_SAMPLES + AFTER_SAMPLES),
        )
        gains = plan.gains(around[0], around[1] - around[0])
        fades = "" if gains.min() == 1 else hashlib.sha256(gains.tobytes()).hexdigest()
        heard = sorted(repr(row) for row in _heard(lines, *around, begin, identities))
        text = repr((head, end - first, around[0] - begin, around[1] - begin, heard, fades))
        found.append(Cell(first, end, hashlib.sha256(text.encode()).hexdigest()[:32]))
    return tuple(found)


def _heard(
    lines: Sequence[SoundLine], first: int, end: int, zero: int, identities: Mapping[Source, str]
) -> Iterator[tuple[object, ...]]:
    """What of lines lies within samples [first, end), counted from `zero` on."""
    for line in lines:
        begin, stop = max(first, line.first_sample), min(end, line.end_sample)
        if begin >= stop:
            continue
        inner = [p[0] for p in line.points if begin < p[0] < stop - 1]
        edges = dict.fromkeys((begin, *inner, stop - 1))
        gains = [(at - zero, round(float(line.gains(at, 1)[0]), 6)) for at in edges]
        place = line.source_sample(begin - line.first_sample)
        source = identities.get(line.source, line.source.id)
        yield (
            source,
            line.input_id,
            line.tone,
            line.speed,
            line.is_voice,
            line.under_voices,
            place,
            gains,
            any(line.fades) and (line.fades, line.first_sample - zero, line.end_sample - zero),
        )


def stem_key(stem: StemPlan, samples: int, identities: Mapping[Source, str]) -> str:
    """A text that is another one when anything of a stem is."""
    lines = [(identities.get(line.source, ""), line) for line in stem.lines]
    text = repr((VERSION, stem.channels, samples, lines))
    return hashlib.sha256(text.encode()).hexdigest()[:32]
