"""What is seen of a take at once: kept while it is recorded, in place of the survey until that is.

Waveforms and small pictures lie in a folder of their own, laid out as the survey's; by stamps
alone, and with holes where nothing was looked at. Losing them costs nothing.
"""

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from math import ceil

import cv2
import numpy as np
import simplejpeg
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.picture.picture import Picture, Plane, picture_from_i420, picture_to_rgb
from kettle_core.scene.layout import Box, even, fit_inside
from kettle_core.sound.envelope import ENVELOPE, STEP_SAMPLES, Envelope, envelope_of
from kettle_core.sound.levels import Sound
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import replace_file
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.pictures import HEIGHT_PX, QUALITY, WIDTH_PX, Sheets, sheets_of
from kettle_media.survey.survey import (
    STEP_NS,
    SURVEY,
    VERSION,
    Level,
    Survey,
    SurveyedTrack,
    write_levels,
)
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo, TrackInfo

Rgb = NDArray[np.uint8]
EVERY_NS = NS_PER_S
POSTER_PX = (320, 180)
OF = "while it was recorded"


@dataclass
class EarlyLook:
    """Peaks of sounds and a picture a second of a take that is recorded; in record time, ns."""

    peaks: dict[str, Envelope] = field(default_factory=dict)
    pictures: dict[str, dict[int, Rgb]] = field(default_factory=dict)
    poster: Rgb | None = None

    def hear(self, name: str, block: Sound, at_ns: int) -> None:
        """Look at a block of a sound that begins at a time; 48 kHz."""
        first = round(at_ns / STEP_NS)
        count = max(1, round(block.shape[1] / STEP_SAMPLES))
        if first < 0:
            return
        kept = self.peaks.get(name)
        if kept is None or kept.size < first + count:
            grown = np.zeros(max(2 * (first + count), 4096), ENVELOPE)
            if kept is not None:
                grown[: kept.size] = kept
            kept = self.peaks[name] = grown
        edges = np.linspace(0, block.shape[1], count + 1).astype(np.int64)
        kept[first : first + count] = envelope_of(block, edges)

    def wants(self, name: str, at_ns: int) -> bool:
        """Whether no picture of an input was kept of this second."""
        return at_ns >= 0 and at_ns // EVERY_NS not in self.pictures.get(name, {})

    def see(self, name: str, data: Plane, at_ns: int) -> None:
        """Keep a small picture of (rows × 3/2, columns) I420."""
        rgb = _small(data, (WIDTH_PX, HEIGHT_PX))
        self.pictures.setdefault(name, {})[at_ns // EVERY_NS] = rgb
        # A second in is more telling than the very beginning.
        if self.poster is None or (at_ns < 3 * NS_PER_S and len(self.pictures) == 1):
            self.poster = _small(data, POSTER_PX)

    def write(self, folder: TakeFolder, info: TakeInfo) -> None:
        """Write it into a take that has ended. Raises TakeError or OSError if the disk won't."""
        paths, length_ns = SurveyPaths(folder, early=True), info.duration_ns or 0
        paths.folder.mkdir(parents=True, exist_ok=True)
        rows = [self._track(paths, track, length_ns) for track in info.tracks]
        if self.poster is not None:
            replace_file(paths.poster, simplejpeg.encode_jpeg(self.poster, QUALITY), 0.0)
        survey = Survey(VERSION, OF, length_ns, tuple(rows))
        replace_file(paths.report, SURVEY.write(survey).encode(), 0.0)

    def _track(self, paths: SurveyPaths, track: TrackInfo, length_ns: int) -> SurveyedTrack:
        if track.is_picture:
            return SurveyedTrack(track.name, sheets=self._sheets(paths, track, length_ns))
        steps = max(1, ceil(length_ns / STEP_NS))
        finest = np.zeros(steps, ENVELOPE)
        kept = self.peaks.get(track.name, finest)[:steps]
        finest[: kept.size] = kept
        levels: tuple[Level, ...] = write_levels(paths, track.name, finest, 0.0)
        return SurveyedTrack(track.name, levels=levels)

    def _sheets(self, paths: SurveyPaths, track: TrackInfo, length_ns: int) -> Sheets | None:
        kept: Mapping[int, Rgb] = self.pictures.get(track.name, {})
        if not kept:
            return None
        sheets = sheets_of(length_ns, track)
        seconds, each = sorted(kept), sheets.rows * sheets.columns
        for number in range(sheets.files):
            size = (sheets.rows * sheets.height, sheets.columns * sheets.width, 3)
            sheet = np.full(size, 255, np.uint8)
            for place in range(min(each, sheets.count - number * each)):
                wanted = (number * each + place) * sheets.every_ns // EVERY_NS
                at = max(0, int(np.searchsorted(seconds, wanted, "right")) - 1)
                down, across = divmod(place, sheets.columns)
                top, left = down * sheets.height, across * sheets.width
                sheet[top : top + sheets.height, left : left + sheets.width] = cv2.resize(
                    kept[seconds[at]], (sheets.width, sheets.height), interpolation=cv2.INTER_AREA
                )
            data = simplejpeg.encode_jpeg(sheet, QUALITY)
            replace_file(paths.sheet(track.name, number), data, 0.0)
        return sheets


def read_early(folder: TakeFolder, info: TakeInfo) -> Survey | None:
    """What was kept of a take while it was recorded; None if there is nothing."""
    with contextlib.suppress(OSError, TakeError):
        found = SURVEY.read(SurveyPaths(folder, early=True).report.read_bytes())
        if (found.version, found.length_ns) == (VERSION, info.duration_ns):
            return found
    return None


def _small(data: Plane, size: tuple[int, int]) -> Rgb:
    rows, columns = data.shape[0] * 2 // 3, data.shape[1]
    picture = picture_from_i420(data)
    box = fit_inside(columns, rows, Box(0, 0, *size))
    width, height = size = max(2, even(box.width)), max(2, even(box.height))
    # Of a large one every few pixels are enough.
    step = max(1, min(columns // (2 * width), rows // (2 * height)))
    y, u, v = (
        cv2.resize(plane[::step, ::step], size, interpolation=cv2.INTER_AREA).astype(np.uint8)
        for plane in (picture.y, picture.u, picture.v)
    )
    planes = Picture(y, u[::2, ::2], v[::2, ::2])
    return picture_to_rgb(planes)
