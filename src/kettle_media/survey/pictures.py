"""Small pictures of a picture track, many to a JPEG."""

import contextlib
from contextlib import ExitStack
from dataclasses import dataclass
from math import ceil
from typing import Any, BinaryIO

import av
import numpy as np
import simplejpeg
from av.error import FFmpegError
from numpy.typing import NDArray

from kettle_core.picture.picture import picture_from_i420, picture_to_rgb
from kettle_core.scene.layout import Box, even, fit_inside
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import replace_file
from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.picture.scaling import Scaler
from kettle_media.survey.paths import SurveyPaths
from kettle_media.take.align import GiveWay
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import NOTED, read_times, written_ms
from kettle_media.take.track_index import TrackIndex, track_index
from kettle_media.told import Told

WIDTH_PX, HEIGHT_PX, COLUMNS, ROWS = 160, 120, 8, 8
# Pictures a track at most; of longer takes they lie further apart.
MOST_PICTURES = 400
QUALITY = 78


@dataclass(frozen=True)
class Sheets:
    """Picture n was taken at n × `every_ns` of record time; from left to right, downwards.

    Each sheet has `columns` × `rows` pictures of `width` × `height` px.
    """

    every_ns: int
    count: int
    width: int
    height: int
    columns: int = COLUMNS
    rows: int = ROWS

    @property
    def files(self) -> int:
        """How many sheets there are."""
        return ceil(self.count / (self.columns * self.rows))


def sheets_of(length_ns: int, track: TrackInfo) -> Sheets:
    """How small pictures of a track are laid out: one a second, fewer of long takes."""
    every_s = max(1, ceil(length_ns / NS_PER_S / MOST_PICTURES))
    box = fit_inside(track.mode.width, track.mode.height, Box(0, 0, WIDTH_PX, HEIGHT_PX))
    every_ns = every_s * NS_PER_S
    count = max(1, ceil(length_ns / every_ns))
    return Sheets(every_ns, count, max(2, even(box.width)), max(2, even(box.height)))


def survey_pictures(
    folder: TakeFolder, track: TrackInfo, sync: TakeSync, length_ns: int, give_way: GiveWay
) -> Sheets:
    """Write the sheets of a track, from its keyframes. Raises TakeError if it can't be read."""
    sheets = sheets_of(length_ns, track)
    paths = SurveyPaths(folder)
    path = folder.track_path(track)
    keys = _keyframes(folder, track, sync, track_index(path))
    rows, columns = sheets.rows * sheets.height, sheets.columns * sheets.width
    per_sheet = sheets.rows * sheets.columns
    with ExitStack() as opened:
        with Told(path):
            file = opened.enter_context(path.open("rb"))
        frames = _Frames(keys, file, (sheets.width, sheets.height))
        for number in range(sheets.files):
            sheet = np.full((rows, columns, 3), 255, np.uint8)
            for place in range(min(per_sheet, sheets.count - number * per_sheet)):
                give_way()
                rgb = frames.at((number * per_sheet + place) * sheets.every_ns)
                down, across = divmod(place, sheets.columns)
                top, left = down * sheets.height, across * sheets.width
                sheet[top : top + sheets.height, left : left + sheets.width] = rgb
            target = paths.sheet(track.name, number)
            with Told(target, writing=True):
                replace_file(target, simplejpeg.encode_jpeg(sheet, QUALITY))
    return sheets


@dataclass(frozen=True)
class _Keys:
    """A track's keyframes: their packets, and when each was captured."""

    index: TrackIndex
    packets: NDArray[np.int64]
    captured_ns: NDArray[np.float64]


def _keyframes(folder: TakeFolder, track: TrackInfo, sync: TakeSync, index: TrackIndex) -> _Keys:
    rows = read_times(folder.times_path(track))
    rows = rows[rows["kept"] != NOTED]
    packets = np.flatnonzero(index.packets["key"])
    at = np.searchsorted(written_ms(rows), index.packets["ms"][packets])
    captured_ns = sync.captured_ns[track.name]
    return _Keys(index, packets, captured_ns[np.minimum(at, captured_ns.size - 1)])


class _Frames:
    """Keyframes as small RGB pictures; one that can't be decoded is as the one before."""

    def __init__(self, keys: _Keys, file: BinaryIO, size: tuple[int, int]) -> None:
        self._keys, self._file = keys, file
        self._decoder = self._new_decoder()
        self._scaler = Scaler(*size)
        self._at = -1
        self._rgb: NDArray[np.uint8] = np.full((size[1], size[0], 3), 255, np.uint8)

    def at(self, record_ns: int) -> NDArray[np.uint8]:
        """The last keyframe up to a time, the first one before that."""
        found = int(np.searchsorted(self._keys.captured_ns, record_ns, side="right")) - 1
        number = max(0, found)
        if number != self._at and number < self._keys.packets.size:
            self._at = number
            with contextlib.suppress(FFmpegError, OSError, ValueError):
                self._rgb = self._decoded(int(self._keys.packets[number]))
        return self._rgb

    def _new_decoder(self) -> Any:
        decoder = self._keys.index.decoder()
        # What it smooths is not seen so small.
        decoder.options = {"skip_loop_filter": "all"}
        return decoder

    def _decoded(self, packet: int) -> NDArray[np.uint8]:
        self._decoder.flush_buffers()
        read = self._keys.index.read(self._file, packet)
        # A decoder that waits for more gives what it has at the end.
        frames: list[av.VideoFrame] = [*self._decoder.decode(read)]
        if not frames:
            frames = [*self._decoder.decode(None)]
            self._decoder = self._new_decoder()
        return picture_to_rgb(picture_from_i420(frame_to_i420(self._scaler.scaled(frames[0]))))
