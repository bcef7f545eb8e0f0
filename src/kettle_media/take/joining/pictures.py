"""The times of a picture that was put together of parts."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.joining.parts import Part
from kettle_media.take.joining.unwritten import Unwritten
from kettle_media.take.packets import Packet
from kettle_media.take.times import KEPT, NOTED, TIMES, Times, written_ms


def joined_pictures(
    parts: Sequence[Part], there: Sequence[Packet], unwritten: Unwritten, frame_s: float
) -> Times:
    """Rows for just the packets that are there; a frame that is not is told as dropped.

    `frame_s` is how long a frame lasts.
    """
    there_ms = np.array([packet.at_ms for packet in there])
    joined = np.zeros(0, TIMES)
    for number, part in enumerate(parts):
        rows = _with_last_packet(part)
        stamps_ms = written_ms(rows)
        if number + 1 < len(parts):
            before = rows["pts_ns"] < parts[number + 1].first_ns
            rows, stamps_ms = rows[before], stamps_ms[before]
        rows = _as_there(rows, stamps_ms, there_ms)
        if joined.size:
            rows = rows[(rows["kept"] == KEPT) | (rows["pts_ns"] > joined["pts_ns"][-1])]
        if joined.size and rows.size:
            each_ns = round(frame_s * NS_PER_S)
            rows["dropped"][0] = unwritten.lost_between(joined[-1], rows[0], each_ns)
        joined = np.concatenate([joined, rows])
    return joined


def _with_last_packet(part: Part) -> Times:
    """Rows of a part, also for packets at its end that a kill left without a row."""
    rows = part.rows
    last = np.flatnonzero(rows["kept"] == KEPT)[-1]
    told_ms = int(written_ms(rows)[last])
    untold = [packet.at_ms for packet in part.packets if packet.at_ms > told_ms]
    if not untold:
        return rows
    more = np.repeat(rows[-1:], len(untold))
    passed_ns = np.array(untold, np.int64) * 1_000_000 - int(rows[-1]["pts_ns"])
    for name in ("device_ns", "master_ns", "pts_ns"):
        more[name] += passed_ns
    more["no"] += np.arange(1, len(untold) + 1)
    more["dropped"], more["kept"] = 0, KEPT
    return np.concatenate([rows, more[more["pts_ns"] > rows[-1]["pts_ns"]]])


def _as_there(rows: Times, stamps_ms: NDArray[np.int64], there_ms: NDArray[np.int64]) -> Times:
    rows = rows.copy()
    gone = (rows["kept"] == KEPT) & ~np.isin(stamps_ms, there_ms)
    rows["kept"][gone] = NOTED
    rows["dropped"][gone] += 1
    # What was noted after the first of those that are gone at the end shows nothing.
    last = np.flatnonzero(rows["kept"] == KEPT)
    start = int(last[-1]) if last.size else 0
    after = np.flatnonzero(gone[start:])
    return rows[: start + after[0]] if after.size else rows
