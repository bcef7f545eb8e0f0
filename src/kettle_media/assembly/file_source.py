"""Added files as sources of a program: video that fills the frame, music that goes on for ever."""

from collections.abc import Iterable, Iterator
from pathlib import Path

import av
import numpy as np
from numpy.typing import NDArray

from kettle_core.assembly.cut_list import AddedFile
from kettle_core.assembly.loop import STEP_SAMPLES, quiet_loop, read_looped
from kettle_core.errors import TakeError
from kettle_core.picture.picture import Picture
from kettle_core.sound.levels import Sound
from kettle_core.sound.tone import Tone
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.added_file import file_path, sound_path
from kettle_media.assembly.as_played import first_seen_s, seen_stream
from kettle_media.foreign import open_foreign
from kettle_media.picture.frame_planes import frame_to_picture
from kettle_media.program.renderer import BLACK, GREY
from kettle_media.told import Told

WAV_HEAD_BYTES = 44
# Further on than that it is quicker to jump.
JUMP_S = 4.0
NEAR_S = 1e-6


class FileSound:
    """The sound of a file, any part of it at once: (2, samples) at 48 kHz; silence beyond it."""

    def __init__(self, path: Path) -> None:
        self._samples: NDArray[np.int16] = np.zeros((0, 2), np.int16)
        if path.is_file() and path.stat().st_size > WAV_HEAD_BYTES:
            flat = np.memmap(path, "<i2", "r", WAV_HEAD_BYTES)
            self._samples = flat[: flat.size // 2 * 2].reshape(-1, 2)

    def read(self, first: int, count: int) -> Sound:
        """(2, count) from a sample on."""
        found = np.zeros((2, count), np.float32)
        begin, end = max(0, first), min(first + count, len(self._samples))
        if begin < end:
            found[:, begin - first : end - first] = self._samples[begin:end].T / np.float32(32768)
        return found

    def rms(self) -> NDArray[np.float64]:
        """How loud it is, of each `STEP_SAMPLES`."""
        steps = len(self._samples) // STEP_SAMPLES
        if not steps:
            return np.zeros(0)
        parts = np.array_split(np.arange(steps), max(1, steps // 6000))
        return np.concatenate([self._rms(part[0], part[-1] + 1) for part in parts])

    def _rms(self, first: int, end: int) -> NDArray[np.float64]:
        samples = self._samples[first * STEP_SAMPLES : end * STEP_SAMPLES].astype(np.float64)
        return np.asarray(np.sqrt(np.mean(samples.reshape(end - first, -1) ** 2, axis=1)))


class FileMusic:
    """A file under the whole: it goes on at its quietest place as often as it must."""

    def __init__(self, file: AddedFile, folder: Path) -> None:
        file_path(folder, file)
        self._file, self._sound = file, FileSound(sound_path(folder, file))
        self._loop = quiet_loop(self._sound.rms())

    def pictures(self, inputs: Iterable[str], record_ns: float) -> dict[str, Picture]:
        """Nothing is seen of music."""
        return {}

    def sound(self, input_id: str, tone: Tone, first: int, count: int) -> Sound:
        """(2, count) from a sample on, over and over."""
        if self._loop[1] - self._loop[0] <= STEP_SAMPLES:
            return np.zeros((2, count), np.float32)
        return read_looped(self._sound.read, self._loop, first, count)

    def identity(self) -> str:
        """A text that is another one when the file is."""
        return f"music {self._file.digest} 1"

    def close(self) -> None:
        """Nothing is open but a view of the file."""


class FileSource:
    """A video file that fills a frame of a size in px as far as its shape allows.

    Pictures and sound may be asked for by two threads, each its own.
    """

    def __init__(self, file: AddedFile, folder: Path, size: tuple[int, int]) -> None:
        self._file, self._size = file, size
        self._path = file_path(folder, file)
        self._sound = FileSound(sound_path(folder, file))
        with Told(self._path, sentence="The file {} cannot be read"):
            self._starts_s = first_seen_s(self._path)
            self._container = open_foreign(self._path)
        self._stream = stream = seen_stream(self._container)
        stream.thread_type = "AUTO"
        # Pixels of some cameras are wider than they are high.
        self._pixel_shape = stream.sample_aspect_ratio or 1
        self._frames: Iterator[av.VideoFrame] = iter(())
        self._now: av.VideoFrame | None = None
        self._next: av.VideoFrame | None = None
        self._drawn: tuple[float, Picture] | None = None

    def pictures(self, inputs: Iterable[str], record_ns: float) -> dict[str, Picture]:
        """The frame that is seen at a time of the file, by whatever name it is asked for."""
        with Told(self._path, sentence="The file {} cannot be read"):
            frame = self._frame_at(self._starts_s + record_ns / NS_PER_S)
            if frame is None:
                raise TakeError(f"The file “{self._file.name}” has no picture that can be read.")
            if self._drawn is None or self._drawn[0] != frame.time:
                self._drawn = (frame.time or 0.0, self._fitted(frame))
        return dict.fromkeys(inputs, self._drawn[1])

    def _frame_at(self, at_s: float) -> av.VideoFrame | None:
        """The last frame that begins by then; the first one before all."""
        now = self._now
        is_before = now is not None and at_s < (now.time or 0.0) - NEAR_S
        if now is None or is_before or at_s > (now.time or 0.0) + JUMP_S:
            self._container.seek(max(0, int(at_s * av.time_base)))
            self._frames = self._container.decode(self._stream)
            self._now = self._next = None
        while True:
            if self._next is None:
                self._next = next(self._frames, None)
            if self._next is None or (
                self._now is not None and (self._next.time or 0.0) > at_s + NEAR_S
            ):
                return self._now
            self._now, self._next = self._next, None

    def _fitted(self, frame: av.VideoFrame) -> Picture:
        """All of a frame, as large as it fits, on black; upright, as a telephone was held."""
        width, height = self._size
        turns = round(frame.rotation / 90) % 4
        shown = (float(frame.width * self._pixel_shape), float(frame.height))
        across, down = shown[::-1] if turns % 2 else shown
        scale = min(width / across, height / down)
        wide, high = (max(2, round(side * scale / 2) * 2) for side in (across, down))
        lying = (high, wide) if turns % 2 else (wide, high)
        planes = frame_to_picture(
            frame.reformat(*lying, "yuv420p", dst_colorspace="ITU709", dst_color_range="MPEG")
        )
        upright = (np.rot90(plane, turns) for plane in (planes.y, planes.u, planes.v))
        scaled = Picture(*map(np.ascontiguousarray, upright)) if turns else planes
        if (wide, high) == self._size:
            return scaled
        left, top = (width - wide) // 4 * 2, (height - high) // 4 * 2
        ground = Picture(
            np.full((height, width), BLACK, np.uint8),
            np.full((height // 2, width // 2), GREY, np.uint8),
            np.full((height // 2, width // 2), GREY, np.uint8),
        )
        ground.y[top : top + high, left : left + wide] = scaled.y
        for whole, part in ((ground.u, scaled.u), (ground.v, scaled.v)):
            whole[top // 2 : (top + high) // 2, left // 2 : (left + wide) // 2] = part
        return ground

    def sound(self, input_id: str, tone: Tone, first: int, count: int) -> Sound:
        """(2, count) of its sound from a sample on."""
        return self._sound.read(first, count)

    def identity(self) -> str:
        """A text that is another one when the file is."""
        return f"file {self._file.digest} {self._size} 1"

    def close(self) -> None:
        """Close the file."""
        self._container.close()
