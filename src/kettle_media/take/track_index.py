"""Where every packet of a track lies in its file, so that any place of it can be read at once.

The index is kept beside the track as NAME.index (a line of JSON, then rows of `PACKETS`) and made
anew when the track's file is another one. Packets are read straight from the file; nothing before
them is looked at.

It is no .npy file: NumPy reads the head of one with the parser of Python itself, which in 3.11
fails now and then where several threads do so at once (CPython issue 106905).
"""

import contextlib
import json
import os
import struct
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, BinaryIO

import av
import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_media.durable import replace_file
from kettle_media.sound.flac_frame import HEAD_BYTES, flac_samples
from kettle_media.take.packets import readable
from kettle_media.told import Told

VERSION = 2
# `first` and `samples` count samples of a sound; they are 0 for pictures.
PACKETS = np.dtype(
    [
        ("ms", "<i8"),
        ("offset", "<i8"),
        ("size", "<i4"),
        ("key", "<i1"),
        ("first", "<i8"),
        ("samples", "<i4"),
    ]
)
# A row of them as it is packed.
_ROW = struct.Struct("<qqibqi")
NO_PACKETS = np.zeros(0, PACKETS)
PIECE_PACKETS, MOST_HEAD_BYTES = 4096, 1 << 16
# A Matroska block begins with the track's number, a time and flags; then comes the packet.
BLOCK_HEAD_BYTES = 12
PCM_24 = "pcm_s24le"
# How far a sound's own count of samples may be from its times before the times are believed.
COUNT_S = 0.05


@dataclass(frozen=True)
class TrackIndex:
    """A track's packets in the order of the file, and what its decoder must know first.

    `head` is the line under which it is kept, if it is.
    """

    codec: str
    extradata: bytes
    packets: NDArray[np.void]
    head: bytes = b""

    def decoder(self) -> Any:
        """A decoder that can begin at any keyframe."""
        kind: Any = av.CodecContext
        decoder = kind.create(self.codec, "r")
        decoder.extradata = self.extradata
        decoder.thread_count = 1
        return decoder

    def read(self, file: BinaryIO, number: int) -> Any:
        """A packet by its number; its pts is its number too."""
        return _read(file, self.packets[number], number)


class PacketReader:
    """Reads packets of a track by their numbers; for one thread at a time.

    A track of hours has half a million: of an index that is kept no more is held than a piece.
    Raises TakeError if the track can't be opened.
    """

    def __init__(self, path: Path, index: TrackIndex) -> None:
        self.count = index.packets.size
        with contextlib.ExitStack() as opened:
            with Told(path):
                self._file = opened.enter_context(path.open("rb"))
            self._kept: BinaryIO | None = None
            with contextlib.suppress(OSError):
                kept = opened.enter_context(_kept_path(path).open("rb"))
                # Another one may have taken its place meanwhile.
                if index.head and kept.readline() == index.head:
                    self._kept, self._rows_from = kept, kept.tell()
            self._rows = NO_PACKETS if self._kept else index.packets
            self._first = 0
            self._opened = opened.pop_all()

    def read(self, number: int) -> Any:
        """A packet by its number; its pts is its number too."""
        if self._kept and not 0 <= number - self._first < self._rows.size:
            self._first = number - number % PIECE_PACKETS
            at = self._rows_from + self._first * PACKETS.itemsize
            held = os.pread(self._kept.fileno(), PIECE_PACKETS * PACKETS.itemsize, at)
            self._rows = np.frombuffer(held, PACKETS)
        return _read(self._file, self._rows[number - self._first], number)

    def close(self) -> None:
        """Close the files."""
        self._opened.close()


def _read(file: BinaryIO, row: np.void, number: int) -> Any:
    file.seek(int(row["offset"]))
    packet = av.Packet(file.read(int(row["size"])))
    packet.pts = packet.dts = number
    return packet


def _kept_path(path: Path) -> Path:
    return path.with_suffix(".index")


def track_index(path: Path) -> TrackIndex:
    """The index of a track's file, as it was kept or made now. Raises TakeError."""
    kept = _kept_path(path)
    with Told(path):
        stamp = _stamp(path)
    with (
        contextlib.suppress(OSError, ValueError, KeyError, TypeError),
        kept.open("rb") as file,
    ):
        head = file.readline(MOST_HEAD_BYTES)
        found = json.loads(head)
        if found["of"] == stamp:
            file.seek(len(head))
            packets = np.frombuffer(file.read(), PACKETS)
            return TrackIndex(found["codec"], bytes.fromhex(found["extradata"]), packets, head)
    index = make_index(path)
    known = {"of": stamp, "codec": index.codec, "extradata": index.extradata.hex()}
    head = json.dumps(known).encode() + b"\n"
    # A folder that can't be written to is read all the same.
    with contextlib.suppress(OSError):
        replace_file(kept, head + index.packets.tobytes(), 0)
        index = replace(index, head=head)
    return index


def _stamp(path: Path) -> list[int]:
    state = path.stat()
    return [VERSION, state.st_size, state.st_mtime_ns]


def make_index(path: Path) -> TrackIndex:
    """Go through a track's file once. Raises TakeError if it holds nothing that can be read."""
    rows = bytearray()
    with Told(path), path.open("rb") as file, av.open(str(path)) as container:
        stream: Any = container.streams[0]
        codec, extradata = stream.codec_context.name, bytes(stream.codec_context.extradata or b"")
        rate_hz = getattr(stream, "rate", 0) if stream.type == "audio" else 0
        ms, block_samples = stream.time_base * 1000, int.from_bytes(extradata[2:4], "big")
        for packet in readable(container, stream):
            head = memoryview(packet)[:HEAD_BYTES].tobytes()
            offset = _offset(file, packet.pos, head)
            if offset is None:
                continue
            counted = flac_samples(head, block_samples) if rate_hz and codec != PCM_24 else None
            first, samples = counted or (-1, 0)
            at_ms = round(packet.pts * ms)
            rows += _ROW.pack(at_ms, offset, packet.size, packet.is_keyframe, first, samples)
    if not rows:
        raise TakeError(f"The track {path.name} holds nothing that can be read.")
    packets = np.frombuffer(rows, PACKETS)
    if codec == PCM_24:
        # One packet after the other, of so many bytes a sample.
        packets["samples"] = packets["size"] // (3 * stream.codec_context.channels)
        packets["first"] = np.cumsum(packets["samples"]) - packets["samples"]
    elif rate_hz:
        packets["first"], packets["samples"] = _count(packets, rate_hz)
    else:
        packets["first"] = packets["samples"] = 0
    return TrackIndex(codec, extradata, packets)


def _offset(file: BinaryIO, block_at: int | None, head: bytes) -> int | None:
    """Where a packet's bytes lie in the file; None if they do not lie there as they are."""
    if block_at is None or block_at < 0:
        return None
    found = os.pread(file.fileno(), BLOCK_HEAD_BYTES + len(head), block_at).find(head)
    return block_at + found if found >= 0 else None


def _count(packets: NDArray[np.void], rate_hz: int) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """First sample and length of each packet, from the first one on.

    A FLAC frame says it itself; where that does not fit its time, as after joining files, or
    where a frame says nothing, the time counts.
    """
    ms, known, lengths = packets["ms"], packets["first"], packets["samples"]
    by_time = np.rint((ms - ms[0]) * rate_hz / 1000).astype(np.int64)
    first = known - known[0]
    wrong = (known < 0) | (np.abs(first - by_time) > COUNT_S * rate_hz)
    following = np.r_[by_time[1:] - by_time[:-1], 0]
    samples = np.where(lengths > 0, lengths, following)
    return np.where(wrong, by_time, first), samples
