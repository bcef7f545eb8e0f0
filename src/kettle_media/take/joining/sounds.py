"""Parts of a sound laid one after the other by their times, with silence where one is missing."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.joining.parts import Part
from kettle_media.take.joining.unwritten import Unwritten
from kettle_media.take.packets import Packet
from kettle_media.take.times import FILLED, Times
from kettle_media.take.track_reading import read_sound_parts
from kettle_media.take.tracks import SoundWriter


@dataclass
class Laid:
    """What has been laid: rows of times with the samples they begin and end at.

    `silent` are half-open stretches of samples that were put in.
    """

    start_ns: int
    rate_hz: int
    samples: int = 0
    rows: list[Times] = field(default_factory=list)
    ends: list[np.ndarray] = field(default_factory=list)
    silent: list[tuple[int, int]] = field(default_factory=list)

    def add_rows(self, rows: Times, begun: int) -> None:
        """Rows of a part that was begun at a sample and ends where it is laid by now."""
        ends = begun + np.cumsum(rows["samples"], dtype=np.int64)
        there = ends - rows["samples"] < self.samples
        rows, ends = rows[there].copy(), ends[there]
        if ends.size and ends[-1] > self.samples:
            rows["samples"][-1] -= ends[-1] - self.samples
            ends[-1] = self.samples
        self.rows.append(rows)
        self.ends.append(ends)

    @property
    def heard(self) -> list[Packet]:
        """What lies between the stretches of silence that were put in, each as one."""
        edges = [0, *(at for stretch in self.silent for at in stretch), self.samples]
        return [
            Packet(
                round(self.start_ns / 1e6 + start * 1000 / self.rate_hz),
                (end - start) / self.rate_hz,
            )
            for start, end in zip(edges[::2], edges[1::2], strict=True)
            if end > start
        ]


def lay_sounds(parts: Sequence[Part], writer: SoundWriter, rate_hz: int, hole: int) -> Laid:
    """Write parts after each other; FLAC loses nothing when it is encoded again.

    `hole` is how many samples packets lie apart where some are missing between them. Raises
    TakeError where a part can't be read or the sound not be written.
    """
    start_ns = int(parts[0].rows["pts_ns"][0])
    laid = Laid(start_ns, rate_hz)

    def silence_until(at: int) -> None:
        writer.write_silence(at - laid.samples, start_ns)
        laid.silent.append((laid.samples, at))
        laid.samples = at

    for number, part in enumerate(parts):
        first_ns = int(part.rows["pts_ns"][0])
        place = round((first_ns - start_ns) * rate_hz / NS_PER_S)
        until = None
        if number + 1 < len(parts):
            until = round((parts[number + 1].first_ns - start_ns) * rate_hz / NS_PER_S)
        if place > laid.samples:
            silence_until(place)
        begun = laid.samples
        for at_s, block in read_sound_parts(part.path):
            at = max(begun, begun + round((at_s - first_ns / NS_PER_S) * rate_hz))
            if until is not None and at >= until:
                break
            if at - laid.samples > hole:
                silence_until(at)
            piece = block if until is None else block[:, : max(0, until - laid.samples)]
            if piece.shape[1]:
                writer.write(piece, start_ns)
                laid.samples += piece.shape[1]
        laid.add_rows(part.rows, begun)
    return laid


def laid_rows(laid: Laid, unwritten: Unwritten) -> Times:
    """Rows that follow each other without a gap: what is there, and silence between with how many
    blocks of it were lost.
    """
    sizes = [part.size for part in laid.rows]
    rows, ends = np.concatenate(laid.rows), np.concatenate(laid.ends)
    joints = np.zeros(rows.size, bool)
    joints[np.cumsum(sizes)[:-1]] = True
    for start, end in laid.silent:
        there = (ends <= start) | (ends - rows["samples"] >= end)
        rows, ends, joints = rows[there], ends[there], joints[there]
    begins = ends - rows["samples"]
    after_silence = np.r_[False, begins[1:] > ends[:-1]]
    for n in np.flatnonzero(joints | after_silence):
        block_ns = max(1, int(rows[n]["samples"])) * NS_PER_S // laid.rate_hz
        rows["dropped"][n] = unwritten.lost_between(rows[n - 1], rows[n], block_ns)
    at = np.flatnonzero(after_silence)
    silence = rows[at - 1]
    silence["pts_ns"] = laid.start_ns + ends[at - 1] * NS_PER_S // laid.rate_hz
    silence["kept"], silence["dropped"] = FILLED, 0
    silence["samples"] = begins[at] - ends[at - 1]
    return np.insert(rows, at, silence)
