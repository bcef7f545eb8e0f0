"""A program's file: frames and mix encoded to MP4, cells that are there already taken over."""

from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.video.frame import PictureType

from kettle_core.errors import TakeError
from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Plan
from kettle_core.rig.encoder_settings import EncoderSettings
from kettle_media.encoding import encoder, open_encoder
from kettle_media.program.ahead import ahead
from kettle_media.program.cells import Cell, Composed
from kettle_media.program.h264 import headers_of, with_start_codes
from kettle_media.program.mix import ProgramMix, Stems
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.told import Told

Progress = Callable[[int, int], None]
# Half a second: small enough to go on beside pictures, large enough to cost few calls.
PIECE_SAMPLES = MASTER_HZ // 2
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
    sound_kbps: int
    cells: Sequence[Cell]
    known: Composed
    frames: Callable[[Iterable[int]], Generator[Plane, None, None]]
    mix: ProgramMix
    stems: Stems


def write_program(target: Path, made: ProgramWriting, on_progress: Progress) -> None:
    """Write a program.

    Parameters
    ----------
    target : the MP4 to write
    made : what it is made of
    on_progress : called with (frames done, frames in all); what it raises ends the work

    Raises
    ------
    TakeError
        If something can't be read or the file can't be written.
    """
    plan, fps = made.plan, made.plan.fps
    options = {"movflags": "+faststart"}
    told = Told(target, True, "{} cannot be written")
    with told, av.open(str(target), "w", format="mp4", options=options) as container:
        video = open_encoder(container, made.settings, plan.frame_size, fps, 1 / fps)
        audio: Any = container.add_stream("aac", rate=MASTER_HZ, layout="stereo")
        audio.bit_rate = made.sound_kbps * 1000
        container.start_encoding()
        with ExitStack() as stack:
            pictures = ahead(_Pictures(made, video).packets(), PACKETS_AHEAD, "encode")
            seen = stack.enter_context(pictures)
            heard = stack.enter_context(ahead(_sounds(made, audio), PACKETS_AHEAD, "sound"))
            _mux(container, made, seen, heard, on_progress)
    made.stems.finish()


def _mux(
    container: Any, made: ProgramWriting, seen: Iterator[Any], heard: Iterator[Any], tell: Progress
) -> None:
    """Lay both kinds of packets beside each other in time."""
    total = made.plan.frames
    sound = next(heard, None)
    for number, packet in enumerate(seen):
        until = float(packet.dts * packet.time_base)
        container.mux(packet)
        while sound is not None and float(sound.pts * sound.time_base) <= until:
            container.mux(sound)
            sound = next(heard, None)
        tell(number + 1, total)
    while sound is not None:
        container.mux(sound)
        sound = next(heard, None)


def _sounds(made: ProgramWriting, audio: Any) -> Generator[Any, None, None]:
    written = 0
    total = made.plan.samples
    for first in range(0, total, PIECE_SAMPLES):
        count = min(PIECE_SAMPLES, total - first)
        made.stems.go_on(count)
        ready = made.mix.read(count)
        yield from _encoded_sound(audio, ready, written)
        written += ready.shape[1]
    yield from _encoded_sound(audio, made.mix.flush(), written)
    yield from audio.encode(None)


def _encoded_sound(audio: Any, sound: np.ndarray[Any, Any], at: int) -> list[Any]:
    if not sound.shape[1]:
        return []
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound), format="fltp", layout="stereo")
    frame.sample_rate, frame.pts, frame.time_base = MASTER_HZ, at, Fraction(1, MASTER_HZ)
    return list(audio.encode(frame))


class _Pictures:
    """The picture packets of a program in the order of decoding, encoded or taken over."""

    def __init__(self, made: ProgramWriting, stream: Any) -> None:
        self._made, self._stream = made, stream
        self._extradata = bytes(stream.codec_context.extradata or b"")
        self._own_encoder: Any = stream.codec_context

    def packets(self) -> Generator[Any, None, None]:
        """Packets with the program's times."""
        fps = self._made.plan.fps
        for number, (packet, pts) in enumerate(self._numbered()):
            packet.stream, packet.time_base = self._stream, 1 / fps
            packet.pts, packet.dts = pts, number - REORDERED
            yield packet

    def _numbered(self) -> Iterator[tuple[Any, int]]:
        """Packets, each with the number of its frame."""
        with ExitStack() as stack:
            reader = _Reader(self._made.known, self._made.plan.fps, self._extradata, stack)
            for cells, taken_over in _runs(self._made.cells, reader):
                if taken_over:
                    for cell in cells:
                        yield from reader.packets(cell)
                else:
                    yield from self._encoded(cells)

    def _encoded(self, cells: list[Cell]) -> Iterator[tuple[Any, int]]:
        made, first = self._made, cells[0].first
        fps, starts = made.plan.fps, {cell.first for cell in cells}
        context, self._own_encoder = self._own_encoder, None
        if context is None:
            context = encoder(made.settings, made.plan.frame_size, fps, 1 / fps)
            if bytes(context.extradata or b"") != self._extradata:
                raise TakeError("Parts of the program can't be joined: their headers differ.")
        frames = made.frames(range(first, cells[-1].end))
        try:
            for number, buffer in enumerate(frames, first):
                frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
                frame.pts, frame.time_base = number, 1 / fps
                if number in starts:
                    frame.pict_type = PictureType.I
                yield from ((p, p.pts) for p in context.encode(frame))
            yield from ((p, p.pts) for p in context.encode(None))
        finally:
            frames.close()


def _runs(cells: Sequence[Cell], reader: "_Reader") -> Iterator[tuple[list[Cell], bool]]:
    """Neighbours that are all taken over, or all encoded."""
    run: list[Cell] = []
    taken = False
    for cell in cells:
        there = reader.has(cell)
        if run and there != taken:
            yield run, taken
            run = []
        taken = there
        run.append(cell)
    if run:
        yield run, taken


class _Reader:
    """Packets of the program that was there; nothing, if its headers are other ones."""

    def __init__(self, known: Composed, fps: Fraction, extradata: bytes, stack: ExitStack) -> None:
        self._known, self._fps = known, fps
        self._container: Any = None
        if known.cells:
            with Told(known.path):
                self._container = stack.enter_context(av.open(str(known.path)))
            stream = self._container.streams.video[0]
            if headers_of(bytes(stream.codec_context.extradata or b"")) != headers_of(extradata):
                self._container = None

    def has(self, cell: Cell) -> bool:
        """Whether a cell can be taken over."""
        return self._container is not None and self._known.cell(cell.key) is not None

    def packets(self, cell: Cell) -> Iterator[tuple[Any, int]]:
        """A cell's packets, each with the number of its frame in the new program."""
        there = self._known.cell(cell.key)
        stream = self._container.streams.video[0]
        if there is None:
            return
        left = cell.end - cell.first
        self._container.seek(round(there.first / self._fps / stream.time_base), stream=stream)
        for packet in self._container.demux(stream):
            if packet.pts is None:
                continue
            number = round(packet.pts * packet.time_base * self._fps)
            if there.first <= number < there.end:
                left -= 1
                copy = av.Packet(with_start_codes(bytes(packet)))
                copy.is_keyframe = packet.is_keyframe
                yield copy, number - there.first + cell.first
            if not left:
                return
        raise TakeError(f"The program {self._known.path.name} is damaged; compose it anew.")
