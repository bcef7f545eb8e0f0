"""Track files: one picture or sound in Matroska, written so that a kill costs little."""

import contextlib
import csv
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from kettle_core.devices import Mode
from kettle_core.errors import TakeError
from kettle_core.picture import Plane

# Small clusters, each written when it is full, and no seeking back: what has been written
# is readable without a proper end.
CRASH_SAFE = {"cluster_time_limit": "150", "flush_packets": "1", "live": "1"}
MS_TIME_BASE = Fraction(1, 1000)
TIMES_HEADER = ("no", "device_ns", "master_ns", "pts_ns", "dropped", "kept")
BT709 = 1
LIMITED_RANGE = 1

# A screen is mostly still and must stay sharp; a webcam's noise would eat any bitrate.
_SCREEN = {"preset": "superfast", "crf": "18"}
_CAMERA = {"preset": "ultrafast", "crf": "20"}
# At 1280 × 720 and 30 frames a second; more pixels get more, but less than in proportion.
_CAMERA_KBPS = 6000
_CAMERA_PIXELS_PER_S = 1280 * 720 * 30


def tag_bt709(context: Any) -> None:
    """Say in the stream what our planes are: BT.709, limited range."""
    context.color_primaries = BT709
    context.color_trc = BT709
    context.colorspace = BT709
    context.color_range = LIMITED_RANGE


class PictureWriter:
    """Writes I420 frames with exact times to one H.264 track. Raises TakeError when it can't."""

    def __init__(self, path: Path, is_screen: bool, mode: Mode) -> None:
        self._path = path
        options = dict(_SCREEN)
        if not is_screen:
            size = float(mode.width * mode.height * mode.fps) / _CAMERA_PIXELS_PER_S
            kbps = round(_CAMERA_KBPS * size**0.75)
            options = {**_CAMERA, "maxrate": f"{kbps}k", "bufsize": f"{kbps}k"}
        with _Told(path):
            self._container = av.open(str(path), "w", format="matroska", options=CRASH_SAFE)
            stream = self._container.add_stream("libx264", rate=mode.fps)
            stream.width, stream.height, stream.pix_fmt = mode.width, mode.height, "yuv420p"
            # Without look-ahead and B-frames nothing waits in the encoder.
            stream.options = {**options, "tune": "zerolatency", "g": str(round(2 * mode.fps))}
            stream.codec_context.time_base = MS_TIME_BASE
            stream.codec_context.thread_count = 2 if is_screen else 1
            tag_bt709(stream.codec_context)
            self._container.start_encoding()  # the header is on disk before the first frame
            self._stream = stream
        self._last_ms = -1

    def write(self, buffer: Plane, pts_ns: int) -> None:
        """Encode one frame at a time since the take's start."""
        frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
        self._last_ms = max(self._last_ms + 1, round(pts_ns / 1e6))
        frame.pts, frame.time_base = self._last_ms, MS_TIME_BASE
        with _Told(self._path):
            for packet in self._stream.encode(frame):
                self._container.mux(packet)

    def close(self) -> None:
        """Write what is left and the end of the file."""
        _finish(self._path, self._container, self._stream)


class SoundWriter:
    """Writes float32 blocks to one 24-bit FLAC track. Raises TakeError when it can't."""

    def __init__(self, path: Path, mode: Mode) -> None:
        self._path = path
        self._layout = "mono" if mode.channels == 1 else "stereo"
        self._rate_hz = mode.sample_rate_hz
        self._next = 0
        with _Told(path):
            self._container = av.open(str(path), "w", format="matroska", options=CRASH_SAFE)
            options = {"bits_per_raw_sample": "24", "compression_level": "3"}
            self._stream = self._container.add_stream(
                "flac", rate=mode.sample_rate_hz, layout=self._layout, format="s32", options=options
            )
            self._container.start_encoding()

    def write(self, block: NDArray[np.float32], pts_ns: int) -> None:
        """Encode one block; the first one's time since the take's start sets the track's."""
        scaled = np.clip(np.rint(block * 2.0**23), -(2**23), 2**23 - 1).astype(np.int32) << 8
        packed = np.ascontiguousarray(scaled.T).reshape(1, -1)
        if self._next == 0:
            self._next = round(pts_ns * self._rate_hz / 1e9)
        frame = av.AudioFrame.from_ndarray(packed, format="s32", layout=self._layout)
        frame.sample_rate, frame.pts = self._rate_hz, self._next
        frame.time_base = Fraction(1, self._rate_hz)
        self._next += block.shape[1]
        with _Told(self._path):
            for packet in self._stream.encode(frame):
                self._container.mux(packet)

    def close(self) -> None:
        """Write what is left and the end of the file."""
        _finish(self._path, self._container, self._stream)


def _finish(path: Path, container: Any, stream: Any) -> None:
    with _Told(path):
        try:
            for packet in stream.encode(None):
                container.mux(packet)
        finally:
            container.close()


class _Told:
    """Turns library and system errors about a track into a TakeError that names the file."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def __enter__(self) -> None: ...

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, FFmpegError | OSError):
            raise TakeError(f"The track {self._path.name} cannot be used: {error}.") from error


class TimesWriter:
    """Writes the sidecar: one line a frame or block, on disk as soon as it is known."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("w", buffering=1, newline="")
        self._rows = csv.writer(self._file, lineterminator="\n")
        self._rows.writerow(TIMES_HEADER)

    def write(self, *row: int) -> None:
        """Times of one frame or block, in the order of TIMES_HEADER.

        `dropped` counts those lost since the one before; `kept` is 0 for a picture that
        equals the one before and is not in the track.
        """
        self._rows.writerow(row)

    def close(self) -> None:
        """Close the file."""
        self._file.close()


def read_times(path: Path) -> NDArray[np.int64]:
    """Rows of a sidecar, (N, 6) int64; a last line cut off by a kill is left out.

    Raises
    ------
    TakeError
        If the file is missing, has another header, or a line in the middle is damaged.
    """
    try:
        text = path.read_text()
    except (OSError, UnicodeDecodeError) as error:
        raise TakeError(f"The times {path.name} cannot be read: {error}.") from error
    lines = text.split("\n")
    if lines[0] != ",".join(TIMES_HEADER):
        raise TakeError(f"The times {path.name} do not begin with {','.join(TIMES_HEADER)}.")
    try:
        rows = [[int(value) for value in line.split(",")] for line in lines[1:-1]]
        return np.array(rows, dtype=np.int64).reshape(-1, len(TIMES_HEADER))
    except ValueError as error:
        raise TakeError(f"The times {path.name} have a damaged line: {error}.") from error


def read_pictures(path: Path) -> Iterator[av.VideoFrame]:
    """Decoded frames of a track in order. Raises TakeError."""
    with _Told(path), av.open(str(path)) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        yield from container.decode(stream)


def frame_to_i420(frame: av.VideoFrame) -> Plane:
    """A decoded yuv420p frame as an I420 buffer (rows * 3 / 2, columns) of our own."""
    height, width = frame.height, frame.width
    buffer = np.empty((height * 3 // 2, width), np.uint8)
    flat, start = buffer.reshape(-1), 0
    for plane in frame.planes:
        rows, columns = plane.height, plane.width
        padded = np.frombuffer(memoryview(plane), np.uint8).reshape(rows, plane.line_size)
        flat[start : start + rows * columns].reshape(rows, columns)[:] = padded[:, :columns]
        start += rows * columns
    return buffer


def read_sound(path: Path) -> Iterator[NDArray[np.float32]]:
    """Decoded blocks of a track, (channels, samples) float32. Raises TakeError."""
    with _Told(path), av.open(str(path)) as container:
        stream = container.streams.audio[0]
        channels = stream.codec_context.channels
        for frame in container.decode(stream):
            values = frame.to_ndarray()
            if values.shape[0] != channels:
                values = values.reshape(-1, channels).T
            if values.dtype == np.int32:
                values = values / 2.0**31
            elif values.dtype == np.int16:
                values = values / 2.0**15
            yield np.ascontiguousarray(values, dtype=np.float32)


def count_packets(path: Path) -> int:
    """Encoded packets of a track. Raises TakeError if it can't be opened."""
    with _Told(path), av.open(str(path)) as container:
        try:
            return sum(1 for packet in container.demux(container.streams[0]) if packet.size)
        except av.error.InvalidDataError as error:
            raise TakeError(f"The track {path.name} is damaged: {error}.") from error


def rewrap(source: Path, target: Path, faststart: bool = False) -> int:
    """Put the same encoded packets into another container; returns how many there were.

    Raises
    ------
    TakeError
        If nothing in the source can be read.
    """
    options = {"movflags": "+faststart"} if faststart else {}
    count = 0
    with (
        _Told(source),
        av.open(str(source)) as before,
        av.open(str(target), "w", options=options) as after,
        # The last cluster of a killed file may end in the middle.
        contextlib.suppress(av.error.InvalidDataError),
    ):
        stream = before.streams[0]
        copy = after.add_stream_from_template(stream)
        for packet in before.demux(stream):
            if packet.dts is not None:
                packet.stream = copy
                after.mux(packet)
                count += 1
    if count == 0:
        target.unlink(missing_ok=True)
        raise TakeError(f"The track {source.name} holds nothing that can be read.")
    return count
