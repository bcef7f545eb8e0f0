"""How a track was written second by second, and how busy the encoders were."""

import contextlib
from dataclasses import dataclass

import numpy as np

from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.folder import TakeFolder
from kettle_media.take.json_lines import read_json_lines
from kettle_media.take.times import Times
from kettle_media.take.track_index import TrackIndex

# Values of a plot at most; of longer takes each stands for more seconds.
MOST_VALUES = 600


@dataclass(frozen=True)
class Written:
    """How a track was written, a value every `every_s`."""

    every_s: int
    mbit_per_s: tuple[float, ...]
    late_ms: tuple[float, ...]
    dropped: tuple[int, ...]


def how_written(index: TrackIndex, rows: Times, length_ns: int) -> Written:
    """Bitrate, lateness and drops of a track over a take."""
    every_s = max(1, -(-length_ns // (MOST_VALUES * NS_PER_S)))
    count = max(1, -(-length_ns // (every_s * NS_PER_S)))
    packets = index.packets
    bits = np.zeros(count)
    at = np.clip((packets["ms"] - packets["ms"][0]) // (1000 * every_s), 0, count - 1)
    np.add.at(bits, at, packets["size"] * 8.0)
    at_ns = rows["pts_ns"] - rows["pts_ns"][0] if rows.size else rows["pts_ns"]
    at = np.clip(at_ns // (every_s * NS_PER_S), 0, count - 1)
    late_ns = rows["master_ns"] - rows["pts_ns"]
    late_ms = np.zeros(count)
    if rows.size:
        # Against what the clock says a delivery should have come at.
        np.maximum.at(late_ms, at, (late_ns - np.median(late_ns)) / 1e6)
    dropped = np.zeros(count, np.int64)
    np.add.at(dropped, at, rows["dropped"])
    return Written(
        every_s,
        tuple(round(float(b) / every_s / 1e6, 3) for b in bits),
        tuple(round(float(x), 1) for x in late_ms),
        tuple(int(n) for n in dropped),
    )


def encoder_loads(folder: TakeFolder, length_ns: int) -> tuple[tuple[float, float], ...]:
    """(s, load of the busiest encoder) as the recorder told it; empty where it told nothing."""
    found: list[tuple[float, float]] = []
    for row in read_json_lines(folder.path / "health.jsonl"):
        with contextlib.suppress(ValueError, KeyError, TypeError, AttributeError):
            loads = row["encoder_loads"].values()
            if loads and 0 <= row["at_ns"] <= length_ns:
                found.append((row["at_ns"] / NS_PER_S, max(map(float, loads))))
    step = max(1, -(-len(found) // MOST_VALUES))
    return tuple((round(s, 1), round(load, 3)) for s, load in found[::step])
