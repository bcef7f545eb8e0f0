"""The sound of a program's file: mixed and encoded, or taken over where it is there already."""

import contextlib
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any
from zlib import crc32

import av
import numpy as np
from av.error import FFmpegError

from kettle_core.program.plan import Plan
from kettle_core.rig.format import ProgramFormat
from kettle_core.sound.levels import Sound
from kettle_core.sound.tone import CEILING_DBTP
from kettle_media.program.cells import Cell, Composed
from kettle_media.program.mix import SETTLED_SAMPLES, ProgramMix, Stems
from kettle_media.program.sound_cells import PACKET_SAMPLES
from kettle_media.take.sound_track import MASTER_HZ

# The first sample and the sound from there on.
Listen = Callable[[int, Sound], None]
# Half a second: small enough to go on beside pictures, large enough to cost few calls.
PIECE_SAMPLES = MASTER_HZ // 2
SOUND_CODECS = {"aac": "aac", "opus": "libopus"}
# libavcodec's other search for scale factors takes three times as long and is no nearer.
OPTIONS = {"aac": {"aac_coder": "fast"}}
LAYOUTS = {1: "mono", 2: "stereo"}
# An encoder that begins in between knows after so many packets what it would have known.
WARM_PACKETS = 8


# By so much a decoder passes noise that was encoded at the limiter's ceiling, measured from 64 to
# 256 kbit/s; voices less. Only a square wave at few kbit/s does so by more.
PASSES_DB = {"aac": 1.5, "opus": 3.0}


def limited_for(plan: Plan, written: ProgramFormat) -> Plan:
    """A plan whose peaks stay under the ceiling also where they were encoded and decoded."""
    return replace(plan, ceiling_dbtp=CEILING_DBTP - PASSES_DB[written.sound_codec])


def add_sound(container: Any, written: ProgramFormat) -> Any:
    """Add a sound; libav resamples what is given to it."""
    codec = SOUND_CODECS[written.sound_codec]
    options = OPTIONS.get(written.sound_codec)
    stream = container.add_stream(codec, rate=written.sample_rate_hz, options=options)
    stream.layout, stream.bit_rate = LAYOUTS[written.channels], written.sound_kbps * 1000
    return stream


def _own_encoder(written: ProgramFormat) -> Any:
    """An encoder as the stream's is, for AAC."""
    context: Any = av.CodecContext.create(SOUND_CODECS[written.sound_codec], "w")
    context.sample_rate, context.bit_rate = written.sample_rate_hz, written.sound_kbps * 1000
    context.layout, context.format = LAYOUTS[written.channels], "fltp"
    context.time_base = Fraction(1, written.sample_rate_hz)
    context.options = OPTIONS[written.sound_codec]
    context.open()
    return context


@dataclass(frozen=True)
class SoundWriting:
    """What a program's sound is made of.

    `mix_from` begins the mix at a sample; `known` is the program that was there, `cells` what
    this one has. Who is to `listen` gets what is encoded, with its first sample.
    """

    samples: int
    written: ProgramFormat
    cells: Sequence[Cell]
    known: Composed
    mix_from: Callable[[int], ProgramMix]
    stems: Stems
    listen: Listen | None = None


def sound_packets(made: SoundWriting, stream: Any) -> Generator[Any, None, None]:
    """Packets in rising order; stems are written on the way. Raises KettleError."""
    with ExitStack() as stack:
        reader = _Reader(made.known, stack)
        fresh: list[Cell] = []
        for cell in made.cells:
            known = reader.packets(cell)
            if known is None:
                fresh.append(cell)
                continue
            if fresh:
                yield from _encoded(made, stream, fresh)
                fresh = []
            yield from _of(stream, known)
            made.stems.go_to(min(made.samples, cell.end * PACKET_SAMPLES))
        if fresh:
            yield from _encoded(made, stream, fresh)
    made.stems.go_to(made.samples)


def _of(stream: Any, packets: list[Any]) -> Iterator[Any]:
    for packet in packets:
        packet.stream = stream
        yield packet


def _encoded(made: SoundWriting, stream: Any, cells: list[Cell]) -> Iterator[Any]:
    """The packets of cells that follow each other, by an encoder of their own."""
    first, end = cells[0].first, cells[-1].end
    to_end = cells[-1] is made.cells[-1]
    encodes, begin = stream, 0
    if first or not to_end:
        encodes = _own_encoder(made.written)
        begin = max(0, (first - WARM_PACKETS) * PACKET_SAMPLES)
    until = made.samples if to_end else min(made.samples, (end + 2) * PACKET_SAMPLES)
    low, high = (number * PACKET_SAMPLES - PACKET_SAMPLES for number in (first, end))
    for at, sound in _mixed(made, begin, until):
        for packet in _put_in(encodes, sound, at):
            if (to_end and packet.pts >= low) or low <= packet.pts < high:
                packet.stream = stream
                yield packet
    if to_end:
        for packet in encodes.encode(None):
            if packet.pts >= low:
                packet.stream = stream
                yield packet


def _mixed(made: SoundWriting, begin: int, until: int) -> Iterator[tuple[int, Sound]]:
    """The mix from one sample to another, piece by piece, each with where it lies."""
    at = max(0, begin - SETTLED_SAMPLES)
    mix = made.mix_from(at)
    asked, ended = at, False
    while at < until and not ended:
        count = min(PIECE_SAMPLES, made.samples - asked)
        ended = count <= 0
        ready = mix.flush() if ended else mix.read(count)
        asked += count
        made.stems.go_to(min(asked, until))
        cut = ready[:, max(0, begin - at) : max(0, until - at)]
        if cut.shape[1]:
            if made.listen:
                made.listen(max(at, begin), cut)
            yield max(at, begin), cut
        at += ready.shape[1]


def _put_in(encoder: Any, sound: Sound, at: int) -> list[Any]:
    layout = LAYOUTS[sound.shape[0]]
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound), format="fltp", layout=layout)
    frame.sample_rate, frame.pts, frame.time_base = MASTER_HZ, at, Fraction(1, MASTER_HZ)
    return list(encoder.encode(frame))


class _Reader:
    """Cells of the sound of the program that was there."""

    def __init__(self, known: Composed, stack: ExitStack) -> None:
        self._known = known
        self._container: Any = None
        if known.sounds:
            with contextlib.suppress(FFmpegError, OSError):
                self._container = stack.enter_context(av.open(str(known.path)))

    def packets(self, cell: Cell) -> list[Any] | None:
        """A cell's packets with their times in the new program; None where they are not there."""
        there, crc = self._known.sounds.get(cell.key, (None, 0))
        if self._container is None or there is None:
            return None
        found, now = [], 0
        with contextlib.suppress(FFmpegError, OSError):
            for packet, number in _packets_of(self._container, there):
                data = bytes(packet)
                now = crc32(data, now)
                copy = av.Packet(data)
                copy.pts = copy.dts = (number - there.first + cell.first - 1) * PACKET_SAMPLES
                copy.duration, copy.time_base = PACKET_SAMPLES, Fraction(1, MASTER_HZ)
                copy.is_keyframe = True
                found.append(copy)
        return found if (len(found), now) == (cell.end - cell.first, crc) else None


def _packets_of(container: Any, cell: Cell) -> Iterator[tuple[Any, int]]:
    """The packets of a cell, each with its number."""
    stream = container.streams.audio[0]
    left = cell.end - cell.first
    place = Fraction((cell.first - 1) * PACKET_SAMPLES, MASTER_HZ) / stream.time_base
    container.seek(round(place), stream=stream)
    for packet in container.demux(stream):
        if packet.pts is None:
            continue
        number = round(packet.pts * packet.time_base * MASTER_HZ / PACKET_SAMPLES) + 1
        if cell.first <= number < cell.end:
            left -= 1
            yield packet, number
        if not left or number >= cell.end:
            return


def sound_checksums(container: Any, cells: Sequence[Cell]) -> list[int]:
    """The CRC-32 of each cell's packets as they lie in a program that is open."""
    found = []
    for cell in cells:
        crc = 0
        for packet, _ in _packets_of(container, cell) if cell.key else ():
            crc = crc32(bytes(packet), crc)
        found.append(crc)
    return found
