"""A track's clock over a take: how far it ran from the master, by its stamps and by its map."""

from dataclasses import dataclass

import numpy as np

from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.info import TrackInfo
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import NOTED, Times

BINS = 60
# So many of all stamps are taken to be on time: shorter blocks, as in a pause, come sooner.
EARLY = 0.05


@dataclass(frozen=True)
class ClockPoint:
    """At a record time, s: by how many ms the clock is behind where it was at the beginning.

    `stamp_ms` is the earliest stamp thereabouts (a stamp is late, never early), `map_ms` what was
    made of all of them.
    """

    at_s: float
    stamp_ms: float
    map_ms: float


def clock_points(track: TrackInfo, rows: Times, sync: TakeSync) -> tuple[ClockPoint, ...]:
    """The earliest stamps of equal parts of a take."""
    rows = rows[rows["kept"] != NOTED]
    if not rows.size:
        return ()
    found = sync.of(track.name)
    track_ns = rows["pts_ns"]
    mapped_ns = found.clock.to_master_ns(track_ns)
    late_ns = rows["master_ns"] - mapped_ns
    # A block is stamped when all of it is there; what counts is how stamps lie to each other.
    late_ns = late_ns - np.quantile(late_ns, EARLY)
    # How far the map ran from a clock that counts as the master does.
    ran_ns = mapped_ns - track_ns - (mapped_ns[0] - track_ns[0])
    bins = np.array_split(np.arange(rows.size), min(BINS, rows.size))
    earliest = [part[int(np.argmin(late_ns[part]))] for part in bins]
    return tuple(
        ClockPoint(
            round((float(mapped_ns[n]) - sync.start_ns) / NS_PER_S, 2),
            round(float(ran_ns[n] + late_ns[n]) / 1e6, 3),
            round(float(ran_ns[n]) / 1e6, 3),
        )
        for n in earliest
    )
