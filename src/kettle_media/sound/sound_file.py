"""Sound files of any kind, read and written piece by piece."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

import av
import numpy as np
import soxr

from kettle_core.errors import SoundError
from kettle_core.sound.levels import Sound
from kettle_core.sound.mixing import to_integers
from kettle_core.sound.stage import RATE_HZ
from kettle_media.foreign import open_foreign
from kettle_media.sound.sound_frames import frame_of, samples_of
from kettle_media.told import sound_told

MAX_CHANNELS = 8
RATE_LIMITS_HZ = (8000, 192_000)
LAYOUTS = {1: "mono", 2: "stereo", 3: "3.0", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
FORMATS = {".wav": ("wav", "pcm_s24le"), ".flac": ("flac", "flac")}
PIECE_SAMPLES = 96_000


class SoundFile:
    """A file with sound; `blocks` reads it from its beginning as often as wanted.

    Values that are not numbers are read as silence and counted in `not_numbers`.

    Raises
    ------
    SoundError
        If the file is missing, is not sound, or has more than 8 channels or a sample rate
        outside 8 to 192 kHz.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.not_numbers = 0
        if not path.is_file():
            raise SoundError(f"There is no file {path}.")
        with sound_told(path), open_foreign(path) as container:
            if not container.streams.audio:
                raise SoundError(f"{path.name} holds no sound.")
            context = container.streams.audio[0].codec_context
            self.rate_hz = int(context.sample_rate)
            self.channels = int(context.channels)
        low, high = RATE_LIMITS_HZ
        if not low <= self.rate_hz <= high or not 1 <= self.channels <= MAX_CHANNELS:
            raise SoundError(
                f"{path.name} has {self.channels} channels at {self.rate_hz} Hz; sounds of "
                "1 to 8 channels at 8 to 192 kHz can be read. Convert it first."
            )

    def blocks(self) -> Iterator[Sound]:
        """(channels, N) float32 blocks in order. Raises SoundError."""
        self.not_numbers = 0
        with sound_told(self.path), open_foreign(self.path) as container:
            stream = container.streams.audio[0]
            for frame in container.decode(stream):
                values = samples_of(frame, self.channels)
                good = np.isfinite(values)
                if not good.all():
                    self.not_numbers += int(np.count_nonzero(~good))
                    values = np.where(good, values, 0.0)
                yield np.ascontiguousarray(values, np.float32)

    def read_mono(self, into: BinaryIO) -> Sound:
        """The mean of all channels at 48 kHz, (N,) float32, kept in an open file, not in memory."""
        for block in in_pieces(self.at_rate()):
            into.write(block.mean(axis=0).astype(np.float32).tobytes())
        into.flush()
        if not into.tell():
            raise SoundError(f"{self.path.name} is empty; there is nothing to compare.")
        return np.memmap(into, np.float32, "r")

    def read_whole(self) -> Sound:
        """The whole sound, (channels, N) float32 at 48 kHz; for sounds of some minutes."""
        blocks = list(self.at_rate())
        return np.concatenate([np.zeros((self.channels, 0), np.float32), *blocks], axis=1)

    def at_rate(self, rate_hz: int = RATE_HZ) -> Iterator[Sound]:
        """Blocks at another sample rate."""
        yield from resampled(self.blocks(), self.channels, self.rate_hz, rate_hz)


def resampled(blocks: Iterator[Sound], channels: int, from_hz: int, to_hz: int) -> Iterator[Sound]:
    """Blocks of a sound at another sample rate; the same blocks where it is the same."""
    if from_hz == to_hz:
        yield from blocks
        return
    stream = soxr.ResampleStream(from_hz, to_hz, channels, dtype="float32")
    for block in blocks:
        yield np.ascontiguousarray(stream.resample_chunk(np.ascontiguousarray(block.T)).T)
    rest = stream.resample_chunk(np.zeros((0, channels), np.float32), last=True)
    yield np.ascontiguousarray(rest.T)


def in_pieces(blocks: Iterator[Sound]) -> Iterator[Sound]:
    """Larger blocks of a sound, which cost less a sample than small ones."""
    waiting: list[Sound] = []
    have = 0
    for block in blocks:
        waiting.append(block)
        have += block.shape[1]
        if have >= PIECE_SAMPLES:
            yield np.concatenate(waiting, axis=1)
            waiting, have = [], 0
    if waiting:
        yield np.concatenate(waiting, axis=1)


class SoundFileWriter:
    """Writes (channels, N) blocks to a 24-bit WAV or FLAC file, by its ending.

    `dither` is the noise that goes under the last bit, None for none. Raises SoundError.
    """

    def __init__(
        self, path: Path, channels: int, rate_hz: int, dither: np.random.Generator | None = None
    ) -> None:
        if path.suffix.lower() not in FORMATS:
            endings = " or ".join(FORMATS)
            raise SoundError(f"Sound is written to {endings}, got {path.name}.", "out")
        self._path, self._dither = path, dither
        self._layout, self._rate_hz = LAYOUTS[channels], rate_hz
        self._written = 0
        kind, codec = FORMATS[path.suffix.lower()]
        # Beyond 4 GB a WAV file needs a header of its own kind.
        options = {"rf64": "auto"} if kind == "wav" else {}
        with sound_told(path, True):
            self._container: Any = av.open(str(path), "w", format=kind, options=options)
            self._stream: Any = self._container.add_stream(
                codec, rate=rate_hz, layout=self._layout, format="s32",
                options={"bits_per_raw_sample": "24"},
            )  # fmt: skip
            self._container.start_encoding()

    def write(self, block: Sound) -> None:
        """Add a block."""
        if not block.shape[1]:
            return
        samples = to_integers(block, 24, self._dither)
        frame = frame_of(samples, self._rate_hz, self._layout, self._written)
        self._written += block.shape[1]
        with sound_told(self._path, True):
            self._container.mux(self._stream.encode(frame))

    def close(self) -> None:
        """Write the end of the file; again does nothing."""
        container, self._container = self._container, None
        if container is not None:
            with sound_told(self._path, True):
                container.mux(self._stream.encode(None))
                container.close()


def write_sound_file(path: Path, sound: Sound, rate_hz: int) -> None:
    """Write a whole (channels, N) sound. Raises SoundError."""
    writer = SoundFileWriter(path, sound.shape[0], rate_hz)
    for at in range(0, sound.shape[1], rate_hz):
        writer.write(sound[:, at : at + rate_hz])
    writer.close()
