"""What is missing in a track, and how it was written second by second."""

import contextlib
import json
from dataclasses import dataclass

import numpy as np

from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import FILLED, NOTED, Times
from kettle_media.take.track_index import TrackIndex

MOST_GAPS = 2000
# Shorter ones are jitter: of a sound, and of pictures in frames.
LEAST_NS, LEAST_FRAMES = 5_000_000.0, 0.8
# Holes nearer to each other are one.
APART_NS = NS_PER_S // 10
# Values of a plot at most; of longer takes each stands for more seconds.
MOST_VALUES = 600
MOST_HEALTH_BYTES = 16_000_000
MOST_HAPPENED = 5000


@dataclass(frozen=True)
class Gap:
    """A stretch of record time, half-open, of which a track has nothing; `frames` of a picture."""

    from_ns: int
    until_ns: int
    frames: int = 0


@dataclass(frozen=True)
class Written:
    """How a track was written, a value every `every_s`."""

    every_s: int
    mbit_per_s: tuple[float, ...]
    late_ms: tuple[float, ...]
    dropped: tuple[int, ...]


def gaps_of(track: TrackInfo, rows: Times, sync: TakeSync) -> tuple[Gap, ...]:
    """Where a track has holes."""
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
        if found and gap.from_ns - found[-1].until_ns < APART_NS:
            gap = Gap(found[-1].from_ns, gap.until_ns, found.pop().frames + gap.frames)
        found.append(gap)
    return tuple(found[:MOST_GAPS])


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


@dataclass(frozen=True)
class Happened:
    """A click, key or touch at a record time, in words."""

    at_ns: int
    what: str
    words: str = ""


def happened(folder: TakeFolder) -> tuple[Happened, ...]:
    """What was clicked, pressed and touched; the pointer's way is left out."""
    found: list[Happened] = []
    with contextlib.suppress(OSError), (folder.path / "events.jsonl").open("rb") as file:
        for line in file:
            # A kill may have cut a line off.
            with contextlib.suppress(ValueError, KeyError, TypeError, AttributeError):
                row = json.loads(line)
                if row["what"] != "pointer" and len(found) < MOST_HAPPENED:
                    words = str(row.get("key") or "")[:40]
                    found.append(Happened(int(row["at_ns"]), str(row["what"])[:20], words))
    return tuple(found)


def encoder_loads(folder: TakeFolder, length_ns: int) -> tuple[tuple[float, float], ...]:
    """(s, load of the busiest encoder) as the recorder told it; empty where it told nothing."""
    found: list[tuple[float, float]] = []
    with contextlib.suppress(OSError), (folder.path / "health.jsonl").open("rb") as file:
        for line in file.read(MOST_HEALTH_BYTES).splitlines():
            # A kill may have cut a line off.
            with contextlib.suppress(ValueError, KeyError, TypeError, AttributeError):
                row = json.loads(line)
                loads = row["encoder_loads"].values()
                if loads and 0 <= row["at_ns"] <= length_ns:
                    found.append((row["at_ns"] / NS_PER_S, max(map(float, loads))))
    step = max(1, -(-len(found) // MOST_VALUES))
    return tuple((round(s, 1), round(load, 3)) for s, load in found[::step])
