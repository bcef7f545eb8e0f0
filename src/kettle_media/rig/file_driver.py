"""The "file" driver: plays video and sound files of a folder as inputs, over and over."""

import queue
import threading
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from kettle_core.errors import DeviceError, KettleError
from kettle_core.picture.picture import Plane
from kettle_core.rig.devices import (
    BLOCK_SAMPLES,
    SAMPLE_RATE_HZ,
    Capture,
    Device,
    DeviceInfo,
    Event,
    Mode,
    Surrounding,
)
from kettle_core.timing.ticks import NS_PER_S, frame_to_ns
from kettle_media.foreign import open_foreign
from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.rig.look_into import SOUND_ENDINGS, VIDEO_ENDINGS
from kettle_media.rig.probe import Probe, probe_file

PREFIX = "file:"
SOUND_SUFFIX = "#sound"
# Frames that are decoded ahead, and how long one is waited for while others fall due.
AHEAD, PATIENCE_S, FIRST_LIMIT_S, LOOK_S = 3, 0.005, 10.0, 0.2


def is_offered(path: Path) -> bool:
    """Whether a file may be one to play: not one that is hidden or half there, or a pipe.

    Names that are no UTF-8 can't be told to anybody.
    """
    if path.name.startswith(".") or path.suffix.lower() not in VIDEO_ENDINGS + SOUND_ENDINGS:
        return False
    try:
        path.name.encode()
    except UnicodeEncodeError:
        return False
    return path.is_file()


class FileDriver:
    """Every file of a folder that can be played is plugged in.

    A file that is new is looked into first, beside everything else unless `waits`.
    """

    def __init__(self, folder: Path, waits: bool = True) -> None:
        self._folder = folder
        # By name what a file was when it was looked at last, and what was found in it then.
        self._seen: dict[str, tuple[int, int]] = {}
        self._probes: dict[str, tuple[tuple[int, int], Future[Probe]]] = {}
        self._waits = waits
        self._prober = ThreadPoolExecutor(1, "probe")

    def _files(self) -> list[tuple[Path, Probe]]:
        found = []
        paths = sorted(filter(is_offered, self._folder.glob("*"))) if self._folder.is_dir() else []
        names = {path.name for path in paths}
        self._probes = {name: kept for name, kept in self._probes.items() if name in names}
        for path in paths:
            with suppress(OSError, KettleError):
                probed = self._probed(path)
                if probed and (self._waits or probed.done()):
                    found.append((path, probed.result()))
        return found

    def _probed(self, path: Path) -> "Future[Probe] | None":
        """What is in a file; one that still grows is looked into once it has not for a look."""
        stat = path.stat()
        now = (stat.st_size, stat.st_mtime_ns)
        before, self._seen[path.name] = self._seen.get(path.name), now
        known = self._probes.get(path.name)
        if known and known[0] == now:
            return known[1]
        if not self._waits and before != now:
            return known[1] if known else None
        if known and not known[1].done():
            # One look at a time.
            return None
        probe = self._prober.submit(probe_file, path)
        self._probes[path.name] = (now, probe)
        return probe

    def list_devices(self) -> Sequence[DeviceInfo]:
        """Picture and sound of every file."""
        found = []
        for path, probe in self._files():
            picture_id = PREFIX + path.name
            if probe.picture:
                found.append(DeviceInfo(picture_id, path.name, "video-file", (probe.picture,), 0.0))
            if probe.sound:
                part_of = picture_id if probe.picture else ""
                name = f"Sound of {path.name}" if probe.picture else path.name
                found.append(
                    DeviceInfo(
                        picture_id + SOUND_SUFFIX, name, "sound-file", (probe.sound,), 0.0, part_of
                    )
                )
        return found

    def owns(self, device_id: str) -> bool:
        """Whether an id is of a file."""
        return device_id.startswith(PREFIX)

    def open_device(self, device_id: str, mode: Mode, from_ns: int) -> Device:
        """Play a file from its beginning. Raises DeviceError."""
        for info in self.list_devices():
            if info.id == device_id:
                if mode not in info.modes:
                    offered = info.modes[0].in_words()
                    raise DeviceError(f"{info.name} has only the mode {offered}.")
                name = device_id.removeprefix(PREFIX).removesuffix(SOUND_SUFFIX)
                path = self._folder / name
                if info.is_picture:
                    patience_s = FIRST_LIMIT_S if self._waits else PATIENCE_S
                    return FilePictures(info, mode, path, from_ns, patience_s)
                return FileSound(info, mode, path, from_ns)
        name = device_id.removeprefix(PREFIX).removesuffix(SOUND_SUFFIX)
        raise DeviceError(f"The file {name} is not there.", "unplugged")

    def surroundings(self, device_id: str) -> Sequence[Surrounding]:
        """A file is as it is."""
        return ()

    def switch_surrounding(self, device_id: str, key: str, on: bool) -> None:
        """A file has nothing to switch."""
        raise DeviceError(f"There is nothing to switch at {device_id}.")


class _FileDevice:
    """What picture and sound of a file share; its clock is the master, from 0 at the start."""

    def __init__(self, info: DeviceInfo, mode: Mode, path: Path, from_ns: int) -> None:
        self.info, self.mode = info, mode
        self._path, self._from_ns = path, from_ns
        self._no = 0

    def _time_ns(self, no: int) -> int:
        raise NotImplementedError

    def _advance(self) -> None:
        """Go over one frame or block without giving it."""
        raise NotImplementedError

    def due_ns(self) -> int:
        """Master time at which the next frame or block can be read."""
        return self._from_ns + self._time_ns(self._no + (not self.info.is_picture))

    def skip_to(self, master_ns: int) -> int:
        """Give up what was due before a master time; returns how many were lost."""
        before = self._no
        while self.due_ns() < master_ns:
            self._advance()
            self._no += 1
        return self._no - before

    def events(self) -> Sequence[Event]:
        """Nothing is done in a file."""
        return ()

    def truth(self) -> dict[str, float] | None:
        """It is not simulated."""
        return None

    def close(self) -> None:
        """Stop playing."""

    def _told(self, error: Exception) -> DeviceError:
        if not self._path.exists():
            return DeviceError(f"The file {self._path.name} is not there any more.", "unplugged")
        return DeviceError(f"{self._path.name} cannot be played: {error}.")


class Ahead:
    """Frames of a file, decoded some ahead in a thread: who reads other devices too can't wait."""

    def __init__(self, frames: Iterator[av.VideoFrame]) -> None:
        self._ready: queue.Queue[av.VideoFrame | Exception] = queue.Queue(AHEAD)
        self._over = threading.Event()
        self._frames = frames
        threading.Thread(target=self._run, name="decode", daemon=True).start()

    def next(self, patience_s: float) -> av.VideoFrame | None:
        """The next frame, None if there is none by then. Raises what decoding raised."""
        try:
            found = self._ready.get(patience_s > 0, patience_s or None)
        except queue.Empty:
            return None
        if isinstance(found, Exception):
            # Whoever asks again hears the same.
            self._ready.put(found)
            raise found
        return found

    def close(self) -> None:
        """Decode no more."""
        self._over.set()

    def _run(self) -> None:
        try:
            for frame in self._frames:
                if not self._put(frame):
                    return
            self._put(EOFError("it holds nothing any more"))
        except Exception as error:  # raised again where a frame is asked for
            self._put(error)

    def _put(self, item: av.VideoFrame | Exception) -> bool:
        while not self._over.is_set():
            with suppress(queue.Full):
                self._ready.put(item, timeout=LOOK_S)
                return True
        return False


class FilePictures(_FileDevice):
    """The picture of a video file, in order, at its average rate."""

    def __init__(
        self, info: DeviceInfo, mode: Mode, path: Path, from_ns: int, patience_s: float
    ) -> None:
        super().__init__(info, mode, path, from_ns)
        self._patience_s = patience_s
        self._ahead = Ahead(self._play())
        self._shown: Plane | None = None

    def _play(self) -> Iterator[av.VideoFrame]:
        given = 1
        while given:
            # A file that has come to hold nothing is not played over and over.
            given = 0
            with open_foreign(self._path) as container:
                for frame in container.decode(container.streams.video[0]):
                    given += 1
                    yield frame

    def _time_ns(self, no: int) -> int:
        return frame_to_ns(no, self.mode.fps)

    def _next(self, patience_s: float) -> av.VideoFrame | None:
        try:
            return self._ahead.next(patience_s)
        except (FFmpegError, OSError, AttributeError, StopIteration, RuntimeError) as error:
            raise self._told(error) from error

    def _advance(self) -> None:
        self._next(self._patience_s)

    def read(self) -> Capture:
        """The next frame; where decoding takes longer than that the one before, once more."""
        first = self._shown is None
        frame = self._next(FIRST_LIMIT_S if first else self._patience_s)
        if frame is None and first:
            raise DeviceError(f"{self._path.name} cannot be played: decoding takes too long.")
        if frame is not None:
            width, height = self.mode.width, self.mode.height
            if (frame.width, frame.height, frame.format.name) != (width, height, "yuv420p"):
                frame = frame.reformat(width, height, "yuv420p")
            self._shown = frame_to_i420(frame)
        shown = self._shown
        assert shown is not None
        no, self._no = self._no, self._no + 1
        frame_ns = frame_to_ns(1, self.mode.fps)
        return Capture(no, self._time_ns(no), frame_ns, shown, changed=frame is not None)

    def close(self) -> None:
        """Stop playing."""
        self._ahead.close()


class FileSound(_FileDevice):
    """The sound of a file at 48 kHz, in blocks of 480 samples."""

    def __init__(self, info: DeviceInfo, mode: Mode, path: Path, from_ns: int) -> None:
        super().__init__(info, mode, path, from_ns)
        self._pending = np.zeros((mode.channels, 0), np.float32)
        self._pieces = self._play()

    def _play(self) -> Iterator[NDArray[np.float32]]:
        layout = "mono" if self.mode.channels == 1 else "stereo"
        given = 1
        while given:
            given = 0
            resampler = av.AudioResampler("fltp", layout, SAMPLE_RATE_HZ)
            with open_foreign(self._path) as container:
                for frame in (*container.decode(container.streams.audio[0]), None):
                    for piece in resampler.resample(frame):
                        given += piece.samples
                        yield piece.to_ndarray().astype(np.float32, copy=False)

    def _time_ns(self, no: int) -> int:
        return no * BLOCK_SAMPLES * NS_PER_S // SAMPLE_RATE_HZ

    def _block(self) -> NDArray[np.float32]:
        parts, have = [self._pending], self._pending.shape[1]
        while have < BLOCK_SAMPLES:
            try:
                piece = next(self._pieces)
            except (FFmpegError, OSError, AttributeError, StopIteration) as error:
                raise self._told(error) from error
            parts.append(piece)
            have += piece.shape[1]
        joined = np.concatenate(parts, axis=1)
        self._pending = joined[:, BLOCK_SAMPLES:]
        return np.ascontiguousarray(joined[:, :BLOCK_SAMPLES])

    def _advance(self) -> None:
        self._block()

    def read(self) -> Capture:
        """The next block."""
        block = self._block()
        no, self._no = self._no, self._no + 1
        start_ns = self._time_ns(no)
        return Capture(no, start_ns, self._time_ns(no + 1) - start_ns, block)

    def close(self) -> None:
        """Stop playing."""
        self._pieces.close()  # type: ignore[attr-defined]


def material_driver(data_dir: Path) -> FileDriver:
    """The files in a data folder's material."""
    return FileDriver(data_dir / "material", waits=False)
