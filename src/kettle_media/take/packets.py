"""The encoded packets of tracks: where they lie, and put into another container as they are."""

import contextlib
from collections.abc import Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any, NamedTuple

import av
from av.error import FFmpegError

from kettle_core.errors import TakeError
from kettle_media.durable import synced_meanwhile
from kettle_media.told import Told


class Packet(NamedTuple):
    """Where an encoded packet lies on the take's time, and how long it lasts if the file says."""

    at_ms: int
    length_s: float


class _Ticks:
    """Times of a stream's packets; a track of hours has more of them than Fractions are for."""

    def __init__(self, stream: Any) -> None:
        ms = stream.time_base * 1000
        self._ms, self._parts = ms.numerator, ms.denominator

    def at_ms(self, pts: int) -> int:
        return int((2 * pts * self._ms + self._parts) // (2 * self._parts))

    def packet(self, pts: int, duration: int | None) -> Packet:
        return Packet(self.at_ms(pts), (duration or 0) * self._ms / self._parts / 1000)


def read_packets(path: Path) -> list[Packet]:
    """Where the packets of a track lie. Raises TakeError if it can't be opened."""
    with Told(path), _opened(path) as container:
        stream = container.streams[0]
        ticks = _Ticks(stream)
        return [ticks.packet(p.pts, p.duration) for p in readable(container, stream)]


def rewrap(source: Path, target: Path, faststart: bool = False) -> int:
    """Put the same encoded packets into another container; returns how many there were.

    Raises
    ------
    TakeError
        If nothing in the source can be read.
    NoRoomError
        If the target can't be written.
    """
    return sum(len(times) for _, times in _copy([(source, None)], target, faststart))


def rewrap_parts(parts: Sequence[tuple[Path, int | None]], target: Path) -> list[Packet]:
    """Put the packets of one file after the other into one container, without encoding again.

    Parameters
    ----------
    parts : pairs of a file and the time in ms from which on its packets are left out
    target : the file to write; removed again if that fails

    Returns
    -------
    list of Packet
        What was written. What can't be read of a part, at its end or within, is left out.

    Raises
    ------
    TakeError
        If nothing can be read.
    NoRoomError
        If the target can't be written.
    """
    found = _copy(parts, target)
    return [ticks.packet(*times) for ticks, written in found for times in written]


def _copy(
    parts: Sequence[tuple[Path, int | None]], target: Path, faststart: bool = False
) -> list[tuple[_Ticks, list[tuple[int, int | None]]]]:
    """Do that; gives of each part the ticks of its times, and time and length of each packet."""
    options = {"movflags": "+faststart"} if faststart else {}
    found = []
    try:
        with Told(target, writing=True), av.open(str(target), "w", options=options) as after:
            copy = None
            for source, until_ms in parts:
                with Told(source), _opened(source) as before:
                    stream = before.streams[0]
                    if copy is None:
                        copy = after.add_stream_from_template(stream)
                        with Told(target, writing=True):
                            after.start_encoding()
                    ticks, written = _Ticks(stream), list[tuple[int, int | None]]()
                    found.append((ticks, written))
                    with synced_meanwhile(target):
                        for packet in readable(before, stream):
                            pts = packet.pts
                            if until_ms is not None and ticks.at_ms(pts) >= until_ms:
                                break
                            times = (pts, packet.duration)
                            packet.stream = copy
                            try:
                                after.mux(packet)
                            except (FFmpegError, OSError, ValueError):
                                # Told as of the target, not of the source around it.
                                with Told(target, writing=True):
                                    raise
                            written.append(times)
        if not any(written for _, written in found):
            raise TakeError(f"The track {parts[0][0].name} holds nothing that can be read.")
    except BaseException:
        target.unlink(missing_ok=True)
        raise
    return found


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[Any]:
    """A file to read packets from.

    Those of a picture have all that is asked of them in the file; without looking into them
    they are read in three quarters of the time. Of a sound that tells how long they last.
    """
    with av.open(str(path)) as container:
        if container.streams[0].type != "video":
            yield container
            return
    with av.open(str(path), options={"fflags": "noparse"}) as container:
        yield container


def repeat_packets(source: Path, target: Path, times: int, length_ms: int) -> None:
    """Put the packets of a track's first `length_ms` over and over into one long track.

    Raises
    ------
    TakeError
        If the source can't be read or the target can't be written.
    """
    with Told(target, writing=True), av.open(str(target), "w") as after:
        with Told(source), av.open(str(source)) as before:
            stream = before.streams[0]
            copy = after.add_stream_from_template(stream)
            held = [
                (bytes(p), round(p.pts * p.time_base * 1000), p.is_keyframe)
                for p in readable(before, stream)
            ]
        for n in range(times):
            for data, at_ms, is_keyframe in held:
                if at_ms < length_ms:
                    packet: Any = av.Packet(data)
                    packet.pts = packet.dts = at_ms + n * length_ms
                    packet.time_base, packet.is_keyframe = Fraction(1, 1000), is_keyframe
                    packet.stream = copy
                    after.mux(packet)


def readable(container: Any, stream: Any) -> Iterator[Any]:
    """Packets with data and a time; the last cluster of a killed file may end in the middle.

    When the first of a picture are to be decoded is not always guessed: so much before the first
    that it is known of, or, of a few frames alone, when they are shown, as no frame of ours waits
    for a later one.
    """
    waiting = []
    with contextlib.suppress(av.error.InvalidDataError):
        for packet in container.demux(stream):
            if packet.pts is None or not packet.size:
                continue
            if packet.dts is None:
                waiting.append(packet)
                continue
            if waiting:
                step = packet.duration or 1
                for before, late in enumerate(reversed(waiting), 1):
                    late.dts = packet.dts - before * step
                yield from waiting
                waiting = []
            yield packet
    for packet in waiting:
        packet.dts = packet.pts
        yield packet
