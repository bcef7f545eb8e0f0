"""Small pictures nearer than the survey has them, to single frames: read from the track itself."""

import contextlib
from typing import BinaryIO

import numpy as np
import simplejpeg
from av.error import FFmpegError
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.picture.picture import picture_from_i420, picture_to_rgb
from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.picture.scaling import Scaler
from kettle_media.survey.fine import file_ns
from kettle_media.survey.pictures import QUALITY
from kettle_media.survey.survey import SurveyedTrack
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.track_index import TrackIndex, track_index
from kettle_media.told import Told

COUNT = 8
STEP_LIMITS_NS = (1_000_000, 500_000_000)


def read_strip(
    folder: TakeFolder, track: TrackInfo, found: SurveyedTrack, first: int, step_ns: int
) -> bytes:
    """A JPEG of `COUNT` pictures from left to right, taken at `first` × `step_ns` and on.

    They are as large as those of the track's sheets; times are record times.

    Raises
    ------
    TakeError
        If it is no picture that was surveyed, the step is none that is given, or the track
        can't be read.
    """
    if not track.is_picture or found.sheets is None or not found.knots:
        raise TakeError(f"{track.title} is no picture that was looked at.")
    if not STEP_LIMITS_NS[0] <= step_ns <= STEP_LIMITS_NS[1]:
        raise TakeError("Small pictures lie 1 ms to 0.5 s apart.")
    path = folder.track_path(track)
    index = track_index(path)
    times_ns = np.asarray((first + np.arange(COUNT)) * float(step_ns))
    # Of a picture, the frame nearest in time is shown, so that it is early as often as late.
    shown_ms = file_ns(found.knots, times_ns) / 1e6 + 500 / float(track.mode.fps)
    ms = index.packets["ms"] - index.packets["ms"][0]
    wanted = np.maximum(np.searchsorted(ms, shown_ms, side="right") - 1, 0)
    size = (found.sheets.width, found.sheets.height)
    with Told(path), path.open("rb") as file:
        pictures = _decoded(index, file, wanted, size)
    return bytes(simplejpeg.encode_jpeg(np.ascontiguousarray(np.hstack(pictures)), QUALITY))


def _decoded(
    index: TrackIndex, file: BinaryIO, wanted: NDArray[np.int64], size: tuple[int, int]
) -> list[NDArray[np.uint8]]:
    """The frames of packets in rising order, small; what can't be decoded is as what was before."""
    keys = np.flatnonzero(index.packets["key"])
    before = keys[keys <= wanted[0]]
    at = int(before[-1]) if before.size else 0
    decoder, scaler = index.decoder(), Scaler(*size)
    # What it smooths is not seen so small.
    decoder.options = {"skip_loop_filter": "all"}
    rgb: NDArray[np.uint8] = np.full((size[1], size[0], 3), 255, np.uint8)
    found, last = [], None
    for number in wanted.tolist():
        while at <= number:
            with contextlib.suppress(FFmpegError, OSError, ValueError):
                for frame in decoder.decode(index.read(file, at)):
                    last = frame
            at += 1
        if last is not None:
            rgb = picture_to_rgb(picture_from_i420(frame_to_i420(scaler.scaled(last))))
            last = None
        found.append(rgb)
    return found
