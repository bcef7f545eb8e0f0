"""Settings tried on frames that were captured: bitrate, speed, and what is left of the picture."""

import threading
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.picture.picture import Plane
from kettle_core.picture.quality import Quality, QualityMeter
from kettle_core.picture.reading import text_lines
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import track_settings, usual_kbps
from kettle_core.rig.format import CEILING, TrackFormat
from kettle_core.rig.frame_choice import FrameChoice
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.encoding import encoder
from kettle_media.picture.track_frames import MS_TIME_BASE, TrackFrames

COMPARED, LEAST_ENCODED, MOST_ENCODED, MOST_BYTES = 8, 12, 36, 120_000_000
# Shown enlarged, so in px of the picture.
CROP_PX = (72, 32)


@dataclass(frozen=True)
class Sample:
    """What came from one input in a time of `length_ns`.

    `frames` are the pictures that differ, (N, rows * 3 / 2, columns) uint8 I420; of each capture
    `of` says which one it shows, `changed` whether it is a new one, `at_ns` when it came.
    """

    mode: Mode
    frames: NDArray[np.uint8]
    of: NDArray[np.int64]
    changed: NDArray[np.bool_]
    at_ns: NDArray[np.int64]
    length_ns: int


@dataclass(frozen=True)
class Tried:
    """An encode of a sample: its packets, and the time spent on each frame, in s."""

    packets: list[Any]
    spent_s: NDArray[np.float64]
    extradata: bytes


class _Encoding:
    """An encoder of a track's format, fed as a recorder feeds it."""

    def __init__(self, sample: Sample, track: TrackFormat, scaling: str) -> None:
        mode = track.written(sample.mode)
        settings, size = track_settings(mode, track), (mode.width, mode.height)
        source = (sample.mode.width, sample.mode.height)
        self._context = encoder(settings, size, mode.fps, MS_TIME_BASE)
        self._frames = TrackFrames(settings, size, source, scaling)
        self.extradata = bytes(self._context.extradata or b"")

    def frame(self, buffer: Plane, at_ns: int) -> list[Any]:
        return list(self._context.encode(self._frames.frame(buffer, at_ns)))

    def rest(self) -> list[Any]:
        return list(self._context.encode(None))


def _encode(
    wanted: Sequence[tuple[Plane, int]], sample: Sample, track: TrackFormat, scaling: str
) -> Tried:
    """Encode frames as a track of a format, as fast as it goes."""
    made = _Encoding(sample, track, scaling)
    packets: list[Any] = []
    spent = []
    for buffer, at_ns in wanted:
        began = time.thread_time()
        packets += made.frame(buffer, at_ns)
        spent.append(time.thread_time() - began)
    packets += made.rest()
    return Tried(packets, np.array(spent), made.extradata)


def wanted_frames(sample: Sample, track: TrackFormat) -> Iterator[tuple[Plane, int]]:
    """The frames that a track of a format would have, with their times in ns."""
    choice = FrameChoice(track, sample.mode)
    duration_ns = round(NS_PER_S / sample.mode.fps)
    for of, changed, at_ns in zip(sample.of, sample.changed, sample.at_ns, strict=True):
        if choice.wants(bool(changed), int(at_ns), duration_ns):
            choice.written(int(at_ns))
            yield np.array(sample.frames[of]), int(at_ns)


def decoded(tried: Tried, mode: Mode) -> Iterator[Plane]:
    """Luma of what was encoded, frame by frame."""
    kind: Any = av.CodecContext
    decoder = kind.create("h264", "r")
    decoder.extradata = tried.extradata
    decoder.thread_count = 1
    for packet in [*tried.packets, None]:
        for frame in decoder.decode(packet):
            plane = frame.planes[0]
            rows = np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size)
            yield rows[: mode.height, : mode.width]


@dataclass(frozen=True)
class Found:
    """What came of a setting: bitrate, work on a frame in s of a core, what is left.

    `shown` is the luma of the first frame that was compared.
    """

    track: TrackFormat
    kbps: float
    work_s: float
    quality: Quality
    shown: Plane


def try_setting(sample: Sample, track: TrackFormat, scaling: str) -> Found:
    """Encode, decode and compare. Raises TakeError if there is nothing to encode."""
    frame_bytes = sample.mode.width * sample.mode.height * 3 // 2
    most = min(MOST_ENCODED, max(LEAST_ENCODED, MOST_BYTES // frame_bytes))
    wanted = list(islice(wanted_frames(sample, track), most))
    if not wanted:
        raise TakeError("Nothing came from this input, so nothing was tried.")
    tried = _encode(wanted, sample, track, scaling)
    mode = track.written(sample.mode)
    size = (sample.mode.width, sample.mode.height)
    meter, shown = QualityMeter(), None
    compared = set(np.linspace(0, len(wanted) - 1, min(COMPARED, len(wanted))).round().astype(int))
    for number, luma in enumerate(decoded(tried, mode)):
        if number not in compared:
            continue
        whole = luma
        if (mode.width, mode.height) != size:
            whole = np.asarray(cv2.resize(luma, size, interpolation=cv2.INTER_CUBIC), np.uint8)
        meter.take(wanted[number][0][: sample.mode.height], np.ascontiguousarray(whole))
        shown = np.array(whole) if shown is None else shown
    # As long as the frames last that were encoded.
    seconds = sample.length_ns / NS_PER_S
    if len(wanted) == most:
        seconds = wanted[-1][1] / NS_PER_S + float(1 / mode.fps)
    kbps = sum(p.size for p in tried.packets) * 8 / 1000 / seconds
    if track.rate.control == CEILING:
        # In so short a time it may take a second's worth more.
        kbps = min(kbps, float(track.rate.kbps or usual_kbps(mode)))
    if shown is None:
        raise TakeError("What was encoded can't be decoded, so nothing was compared.")
    return Found(track, kbps, float(tried.spent_s.mean()), meter.read(), shown)


def loads_together(
    samples: Mapping[str, Sample], tracks: Mapping[str, TrackFormat], scaling: str
) -> dict[str, float]:
    """Time spent on frames against their duration, when all tracks are encoded in their pace.

    As a recorder does it: each in a thread, a frame when it is due.
    """
    spent = dict.fromkeys(samples, 0.0)
    longest = max(s.length_ns for s in samples.values()) / NS_PER_S
    began = time.monotonic() + 0.2

    def run(name: str) -> None:
        sample = samples[name]
        made = _Encoding(sample, tracks[name], scaling)
        for buffer, at_ns in wanted_frames(sample, tracks[name]):
            wait_s = began + at_ns / NS_PER_S - time.monotonic()
            if wait_s > 0:
                time.sleep(wait_s)
            start = time.monotonic()
            made.frame(buffer, at_ns)
            spent[name] += time.monotonic() - start
        made.rest()

    threads = [threading.Thread(target=run, args=(name,), daemon=True) for name in samples]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return {name: s / longest for name, s in spent.items()}


def crop_at(luma: Plane) -> tuple[int, int]:
    """Left and top, in px, of the part that is shown enlarged: the smallest text, or the middle."""
    width, height = CROP_PX
    rows, columns = luma.shape
    lines = sorted(text_lines(luma), key=lambda line: (line.height_px, -line.glyphs))
    lines = [x for x in lines if x.glyphs >= 6] or lines
    left, top = (columns - width) // 2, (rows - height) // 2
    if lines:
        left, top = lines[0].left - 8, round(lines[0].base - lines[0].height_px / 2) - height // 2
    return max(0, min(left, columns - width)), max(0, min(top, rows - height))


def crop_png(part: Plane) -> bytes:
    """A part as the PNG that is shown."""
    done, data = cv2.imencode(".png", part)
    if not done:
        raise TakeError("A part of the picture can't be kept.")
    return bytes(data.tobytes())


def crop(luma: Plane, at: tuple[int, int]) -> Plane:
    """The part that is shown enlarged."""
    return np.ascontiguousarray(luma[at[1] : at[1] + CROP_PX[1], at[0] : at[0] + CROP_PX[0]])


@contextmanager
def mapped(folder: Path) -> Iterator[Path]:
    """A folder for frames, which is gone afterwards with all that is in it."""
    folder.mkdir(parents=True, exist_ok=True)
    try:
        yield folder
    finally:
        for file in folder.iterdir():
            file.unlink(missing_ok=True)
        folder.rmdir()
