"""An MP4 of any length in little memory: written in fragments, put together once all is there.

What an MP4 says of its packets stands in one place, and libav keeps it until the end: 60 MB for
three hours. In a fragmented MP4 (ISO 14496-12, 8.8) each fragment says it of its own packets.
Such a file is not what editors and web services expect, so it is put together at the end, when
whoever drew and encoded has let go of his memory.
"""

import ctypes
from collections.abc import Callable
from pathlib import Path
from typing import Any

import av

# A fragment begins with each keyframe; what is shown first is known when the first one is whole.
IN_FRAGMENTS = {"movflags": "+frag_keyframe+delay_moov+default_base_moof"}
# In its edit list a length is a whole number of these: none of a thousandth is 314 frames.
WHOLE = {"movflags": "+faststart", "movie_timescale": "240000"}
# Of what has been read so much is let go at once; somebody is told as often.
STEP_BYTES = 1 << 22
# Of fallocate(2): the file stays as long as it is, a part of it takes no room any more.
KEEP_SIZE, PUNCH_HOLE = 1, 2


def fragments_beside(target: Path) -> Path:
    """Where the fragments of a file lie until they are put together."""
    return target.with_name(f"{target.stem}.fragments{target.suffix}")


def put_together(
    fragments: Path,
    target: Path,
    describe: Callable[[Any], None] = lambda container: None,
    meanwhile: Callable[[], None] = lambda: None,
) -> int:
    """Make one MP4 of the same packets, its index at its beginning; gives how many they were.

    Parameters
    ----------
    fragments : the fragmented MP4; it is used up, so that a full disk needs no room for both
    target : the file to write
    describe : says in the opened target what it is called, and where chapters begin
    meanwhile : called every now and then; what it raises ends the work

    Raises
    ------
    OSError, av.error.FFmpegError
        If one can't be read or the other can't be written.
    """
    with (
        fragments.open("r+b") as room,
        av.open(str(fragments)) as before,
        av.open(str(target), "w", format="mp4", options=WHOLE) as after,
    ):
        copies = [after.add_stream_from_template(stream) for stream in before.streams]
        describe(after)
        after.start_encoding()
        read_to, let_go, count = dict.fromkeys(range(len(copies)), 0), 0, 0
        for packet in before.demux():
            if packet.dts is None or not packet.size:
                continue
            number = packet.stream.index
            read_to[number] = max(read_to[number], packet.pos or 0)
            packet.stream = copies[number]
            after.mux(packet)
            count += 1
            if min(read_to.values()) - let_go > STEP_BYTES:
                let_go = min(read_to.values())
                _let_go(room.fileno(), let_go)
                meanwhile()
    return count


def _let_go(file: int, size_bytes: int) -> None:
    """Take no room for the beginning of a file any more; not every file system can do that."""
    library = ctypes.CDLL(None)
    if hasattr(library, "fallocate"):
        size = ctypes.c_int64(size_bytes)
        library.fallocate(file, KEEP_SIZE | PUNCH_HOLE, ctypes.c_int64(0), size)
