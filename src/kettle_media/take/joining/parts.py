"""A part of a track as it lies on the disk, and which parts make the whole."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np

from kettle_media.take.packets import Packet
from kettle_media.take.times import KEPT, Times, written_ms

# Times in a file are rounded to ms.
ROUNDED_MS = 2


@dataclass(frozen=True)
class Part:
    """A file of a track, what its times say, and the packets that can be read of it."""

    path: Path
    rows: Times
    packets: list[Packet]

    @property
    def is_told(self) -> bool:
        """Whether its times say of anything that it is in the file."""
        return bool(np.any(self.rows["kept"] == KEPT))

    @cached_property
    def first_ns(self) -> int:
        """Where the first that is in the file lies; what is only noted before it shows nothing."""
        return int(self.rows["pts_ns"][np.argmax(self.rows["kept"] == KEPT)])

    @cached_property
    def first_ms(self) -> int:
        """The same as it stands in the file."""
        return int(written_ms(self.rows)[np.argmax(self.rows["kept"] == KEPT)])

    @property
    def ends_ms(self) -> float:
        """Where the last packet that can be read ends, as far as the file says."""
        last = self.packets[-1]
        return last.at_ms + last.length_s * 1000


def chosen_parts(parts: Sequence[Part]) -> list[Part]:
    """The parts that make the whole, in order: each is used until the next one begins.

    A later part begins with what its recorder has written again. One that ended before the one
    before it did has nothing of its own; one that begins before the one before it did has all of
    that.
    """
    found: list[Part] = []
    for part in parts:
        if not part.is_told or not part.packets:
            continue
        if found and part.ends_ms < found[-1].ends_ms:
            continue
        while found and part.first_ns < found[-1].first_ns:
            found.pop()
        found.append(part)
    return found


def vanished(parts: Sequence[Part], there: Sequence[Packet], frame_s: float) -> int:
    """How many packets of parts are not in what has been made of them.

    Of pictures (`frame_s` above 0) each needs one within half a frame; of a sound, whose samples
    are its time, its place within one stretch of `there`.
    """
    at = np.array([packet.at_ms for packet in there])
    mine = np.array([packet.at_ms for part in parts for packet in part.packets])
    after = np.clip(np.searchsorted(at, mine), 0, at.size - 1)
    before = np.clip(np.searchsorted(at, mine + ROUNDED_MS, "right") - 1, 0, at.size - 1)
    if frame_s:
        before = np.clip(after - 1, 0, at.size - 1)
        near = np.minimum(np.abs(at[after] - mine), np.abs(at[before] - mine))
        return int(np.count_nonzero(near > max(frame_s * 500, ROUNDED_MS)))
    ends = at + [packet.length_s * 1000 for packet in there]
    lasts = [packet.length_s * 1000 for part in parts for packet in part.packets]
    out = (mine < at[before] - ROUNDED_MS) | (mine + lasts > ends[before] + ROUNDED_MS)
    return int(np.count_nonzero(out))
