"""A program's file: frames and mix encoded to MP4, cells that are there already taken over."""

import contextlib
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any
from zlib import crc32

import av
from av.error import FFmpegError
from av.video.frame import PictureType

from kettle_core.errors import TakeError
from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Plan
from kettle_core.rig.encoder_settings import EncoderSettings
from kettle_core.rig.rate_buffer import RateBuffer
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.encoding import encoder, open_encoder
from kettle_media.memory import give_memory_back
from kettle_media.program.ahead import ahead
from kettle_media.program.cells import Cell, Composed
from kettle_media.program.fragments import IN_FRAGMENTS, fragments_beside, put_together
from kettle_media.program.h264 import headers_of, with_start_codes
from kettle_media.program.program_sound import (
    SoundWriting,
    add_sound,
    sound_checksums,
    sound_packets,
)
from kettle_media.program.spool import Spool, Spooled
from kettle_media.tags import NO_TAGS, Tags, name_chapters
from kettle_media.told import Told

Progress = Callable[[int, int], None]
# A frame's number and the frame.
Look = Callable[[int, Plane], None]
PACKETS_AHEAD = 64
# A frame waits for at most two that are shown after it (B-frames, one of them referred to).
REORDERED = 2


@dataclass(frozen=True)
class ProgramWriting:
    """What a program's file is made of.

    `frames` draws frames by their numbers; `known` is the program that was there.
    """

    plan: Plan
    settings: EncoderSettings
    cells: Sequence[Cell]
    known: Composed
    frames: Callable[[Iterable[int]], Generator[Plane, None, None]]
    sound: SoundWriting
    container: str = "mp4"
    tags: Tags = NO_TAGS
    # Program times in ns and what begins there.
    chapters: tuple[tuple[int, str], ...] = ()
    # What goes on where it was interrupted, and who is shown frames that are encoded.
    spool: Spool | None = None
    look: Look | None = None
    # Called once nothing more is drawn or heard.
    rest: Callable[[], None] = lambda: None


def write_program(target: Path, made: ProgramWriting, on_progress: Progress) -> None:
    """Write a program.

    Parameters
    ----------
    target : the file to write
    made : what it is made of
    on_progress : called with (frames done, frames in all); what it raises ends the work

    Raises
    ------
    TakeError
        If something can't be read or the file can't be written.
    """
    frames = made.plan.frames
    describe = partial(_describe, made=made)
    with Told(target, True, "{} cannot be written"):
        if made.container != "mp4":
            _encode(target, made, on_progress, describe, {})
        else:
            fragments = fragments_beside(target)
            try:
                written = _encode(fragments, made, on_progress, lambda _: None, IN_FRAGMENTS)
                made.rest()
                give_memory_back()
                tell = partial(on_progress, frames, frames)
                if put_together(fragments, target, describe, tell) != written:
                    raise TakeError("A part of what was encoded can't be read again. Try again.")
            finally:
                fragments.unlink(missing_ok=True)
    made.sound.stems.finish()


def _encode(
    target: Path,
    made: ProgramWriting,
    on_progress: Progress,
    describe: Callable[[Any], None],
    options: dict[str, str],
) -> int:
    """Write all packets of a program, encoded or taken over, into a file; gives how many."""
    plan, fps = made.plan, made.plan.fps
    with av.open(str(target), "w", format=made.container, options=options) as container:
        video = open_encoder(container, made.settings, plan.frame_size, fps, 1 / fps)
        audio = add_sound(container, made.sound.written)
        describe(container)
        container.start_encoding()
        with ExitStack() as stack:
            pictures = ahead(_Pictures(made, video).packets(), PACKETS_AHEAD, "encode")
            seen = stack.enter_context(pictures)
            heard = stack.enter_context(
                ahead(sound_packets(made.sound, audio), PACKETS_AHEAD, "sound")
            )
            return _mux(container, made, seen, heard, on_progress)


def _describe(container: Any, made: ProgramWriting) -> None:
    """Say in the file what it is called, and where its chapters begin."""
    made.tags.put_into(container)
    if made.chapters:
        length_ns = round(made.plan.frames * NS_PER_S / made.plan.fps)
        name_chapters(container, made.chapters, length_ns)


def _mux(
    container: Any, made: ProgramWriting, seen: Iterator[Any], heard: Iterator[Any], tell: Progress
) -> int:
    """Lay both kinds of packets beside each other in time; gives how many they were."""
    total, count = made.plan.frames, 0

    def lay(packet: Any) -> None:
        nonlocal count
        container.mux(packet)
        count += 1

    sound = next(heard, None)
    for number, packet in enumerate(seen):
        until = float(packet.dts * packet.time_base)
        lay(packet)
        while sound is not None and float(sound.pts * sound.time_base) <= until:
            lay(sound)
            sound = next(heard, None)
        tell(number + 1, total)
    while sound is not None:
        lay(sound)
        sound = next(heard, None)
    return count


class _Pictures:
    """The picture packets of a program in the order of decoding, encoded or taken over."""

    def __init__(self, made: ProgramWriting, stream: Any) -> None:
        self._made, self._stream = made, stream
        self._extradata = bytes(stream.codec_context.extradata or b"")
        self._own_encoder: Any = stream.codec_context
        self._buffer = RateBuffer.of(made.settings, made.plan.fps)

    def packets(self) -> Generator[Any, None, None]:
        """Packets with the program's times."""
        fps = self._made.plan.fps
        for number, (packet, pts) in enumerate(self._numbered()):
            packet.stream, packet.time_base = self._stream, 1 / fps
            packet.pts, packet.dts = pts, number - REORDERED
            if self._buffer:
                self._buffer.take(packet.size)
            yield packet

    def _numbered(self) -> Iterator[tuple[Any, int]]:
        """Packets, each with the number of its frame."""
        with ExitStack() as stack:
            headers = _headers(self._made.settings, self._extradata)
            reader = _Reader(self._made.known, self._made.plan.fps, headers, stack)
            spool = self._made.spool
            if spool:
                spool.open(headers)
            fresh: list[Cell] = []
            for cell in self._made.cells:
                taken_over = reader.packets(cell)
                if taken_over is None and spool:
                    taken_over = spool.packets(cell)
                if taken_over is None:
                    fresh.append(cell)
                    continue
                if fresh:
                    yield from self._spooled(fresh)
                    fresh = []
                yield from taken_over
            if fresh:
                yield from self._spooled(fresh)

    def _spooled(self, cells: list[Cell]) -> Iterator[tuple[Any, int]]:
        """Packets that are encoded; those of each cell are kept once all of them are there."""
        spool = self._made.spool
        if spool is None:
            yield from self._encoded(cells)
            return
        left, kept = list(cells), list[Spooled]()
        for packet, number in self._encoded(cells):
            kept.append((bytes(packet), number, packet.is_keyframe))
            if left and len(kept) == left[0].end - left[0].first:
                spool.keep(left.pop(0), kept)
                kept = []
            yield packet, number

    def _encoded(self, cells: list[Cell]) -> Iterator[tuple[Any, int]]:
        made, first = self._made, cells[0].first
        fps, starts = made.plan.fps, {cell.first for cell in cells}
        context, self._own_encoder = self._own_encoder, None
        filled = self._buffer.filled if self._buffer and first else None
        if context is None or filled is not None:
            context = encoder(made.settings, made.plan.frame_size, fps, 1 / fps, filled)
            if bytes(context.extradata or b"") != self._extradata:
                raise TakeError("Parts of the program can't be joined: their headers differ.")
        frames = made.frames(range(first, cells[-1].end))
        try:
            for number, buffer in enumerate(frames, first):
                if made.look:
                    made.look(number, buffer)
                frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
                frame.pts, frame.time_base = number, 1 / fps
                if number in starts:
                    frame.pict_type = PictureType.I
                yield from ((p, p.pts) for p in context.encode(frame))
            yield from ((p, p.pts) for p in context.encode(None))
        finally:
            frames.close()


def _headers(settings: EncoderSettings, extradata: bytes) -> list[bytes]:
    """What a stream's packets can't do without."""
    return headers_of(extradata) if settings.codec == "h264" else [extradata]


class _Reader:
    """Cells of the program that was there; none, if its headers are other ones."""

    def __init__(
        self, known: Composed, fps: Fraction, headers: list[bytes], stack: ExitStack
    ) -> None:
        self._known, self._fps = known, fps
        self._container: Any = None
        if known.cells:
            with contextlib.suppress(FFmpegError, OSError):
                container: Any = stack.enter_context(av.open(str(known.path)))
                there = bytes(container.streams.video[0].codec_context.extradata or b"")
                if headers_of(there) == headers:
                    self._container = container

    def packets(self, cell: Cell) -> list[tuple[Any, int]] | None:
        """A cell's packets with the numbers of their frames in the new program.

        None where the program has no such cell, or it is not what was written any more.
        """
        there, crc = self._known.cells.get(cell.key, (None, 0))
        if self._container is None or there is None:
            return None
        found, now = [], 0
        with contextlib.suppress(FFmpegError, OSError):
            for packet, number in _packets_of(self._container, self._fps, there):
                data = bytes(packet)
                now = crc32(data, now)
                copy = av.Packet(with_start_codes(data))
                copy.is_keyframe = packet.is_keyframe
                found.append((copy, number - there.first + cell.first))
        return found if (len(found), now) == (cell.end - cell.first, crc) else None


def _packets_of(container: Any, fps: Fraction, cell: Cell) -> Iterator[tuple[Any, int]]:
    """The packets of a cell, each with the number of its frame."""
    stream = container.streams.video[0]
    left = cell.end - cell.first
    container.seek(round(cell.first / fps / stream.time_base), stream=stream)
    for packet in container.demux(stream):
        if packet.pts is None:
            continue
        number = round(packet.pts * packet.time_base * fps)
        if cell.first <= number < cell.end:
            left -= 1
            yield packet, number
        if not left:
            return


def checksums(
    program: Path, fps: Fraction, cells: Sequence[Cell], sounds: Sequence[Cell]
) -> tuple[list[int], list[int]]:
    """The CRC-32 of each cell's packets as they lie in a program. Raises TakeError."""
    found = []
    with Told(program), av.open(str(program)) as container:
        for cell in cells:
            crc = 0
            for packet, _ in _packets_of(container, fps, cell):
                crc = crc32(bytes(packet), crc)
            found.append(crc)
        return found, sound_checksums(container, sounds)
