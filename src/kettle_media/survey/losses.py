"""What is missing in a track."""

from dataclasses import dataclass

import numpy as np

from kettle_core.timing.pauses import Pauses
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.info import TrackInfo
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import FILLED, NOTED, Times

MOST_GAPS = 2000
# Shorter ones are jitter: of a sound, and of pictures in frames.
LEAST_NS, LEAST_FRAMES = 5_000_000.0, 0.8
# Holes nearer to each other are one.
APART_NS = NS_PER_S // 10
# A pause begins and ends for each track with its next capture.
EDGE_NS = NS_PER_S // 4


@dataclass(frozen=True)
class Gap:
    """A stretch of record time, half-open, of which a track has nothing; `frames` of a picture."""

    from_ns: int
    until_ns: int
    frames: int = 0


def gaps_of(track: TrackInfo, rows: Times, sync: TakeSync, pauses: Pauses) -> tuple[Gap, ...]:
    """Where a track has holes; what a pause leaves out is none."""
    # Silence that was put in is a hole; a picture that is as the one before was there.
    is_there = rows["kept"] != FILLED
    rows = rows[is_there if track.is_picture else is_there & (rows["kept"] != NOTED)]
    captured_ns = sync.of(track.name).captured_ns(rows["pts_ns"], sync.start_ns)
    if track.is_picture:
        frame_ns = NS_PER_S / track.mode.fps
        lengths_ns, least_ns = np.full(rows.size, float(frame_ns)), LEAST_FRAMES * float(frame_ns)
    else:
        lengths_ns, least_ns = rows["samples"] * (NS_PER_S / track.mode.sample_rate_hz), LEAST_NS
    ends_ns = captured_ns + lengths_ns
    found: list[Gap] = []
    for n in np.flatnonzero(captured_ns[1:] - ends_ns[:-1] > least_ns):
        gap = Gap(int(ends_ns[n]), int(captured_ns[n + 1]), int(rows["dropped"][n + 1]))
        if _is_paused(gap, pauses):
            continue
        if found and gap.from_ns - found[-1].until_ns < APART_NS:
            gap = Gap(found[-1].from_ns, gap.until_ns, found.pop().frames + gap.frames)
        found.append(gap)
    return tuple(found[:MOST_GAPS])


def _is_paused(gap: Gap, pauses: Pauses) -> bool:
    """Whether a gap lies in what a pause left out, give or take what captures come late."""
    return any(
        gap.from_ns >= start - EDGE_NS and (end is None or gap.until_ns <= end + EDGE_NS)
        for start, end in pauses.unwritten
    )
