"""A take's survey: made once after it ended, read by pages and commands (docs/take-format.md)."""

import contextlib
import hashlib
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from kettle_core.errors import TakeError
from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.sound.envelope import ENVELOPE, FACTOR, STEP_SAMPLES, Envelope, levels_of
from kettle_core.sound.quiet import BELOW_DBFS, FOR_S, quiet_stretches
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.documents import Document
from kettle_media.durable import replace_file
from kettle_media.survey.clocks import ClockPoint, clock_points
from kettle_media.survey.happened import Happened, happened
from kettle_media.survey.losses import Gap, gaps_of
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.pictures import Sheets, survey_pictures
from kettle_media.survey.sounds import Clip, HeardLoudness, rms_of, survey_sound
from kettle_media.survey.written import Written, encoder_loads, how_written
from kettle_media.take.align import GiveWay, go_on, measured_take
from kettle_media.take.cues import read_pauses
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo, TrackInfo
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import read_times
from kettle_media.take.track_index import track_index
from kettle_media.told import Told

VERSION = 1
STEP_NS = STEP_SAMPLES * NS_PER_S // MASTER_HZ


@dataclass(frozen=True)
class Level:
    """A level of a waveform: `count` values from byte `offset` of its file, each `step_ns` long."""

    step_ns: int
    offset: int
    count: int


@dataclass(frozen=True)
class Knot:
    """From a record time on a track's playable file runs from `file_ns`, at `rate` of it."""

    record_ns: float
    file_ns: float
    rate: float

    def to_s(self) -> tuple[float, float, float]:
        """Both times in s, and the rate."""
        return self.record_ns / NS_PER_S, self.file_ns / NS_PER_S, self.rate


@dataclass(frozen=True)
class SurveyedTrack:
    """What was found of a track, all in record time; `error` says why nothing was."""

    name: str
    knots: tuple[Knot, ...] = ()
    # Of the same file laid by its first stamp alone.
    as_it_came: Knot = Knot(0.0, 0.0, 1.0)
    clock: tuple[ClockPoint, ...] = ()
    gaps: tuple[Gap, ...] = ()
    written: Written | None = None
    sheets: Sheets | None = None
    levels: tuple[Level, ...] = ()
    voice: tuple[tuple[int, int], ...] = ()
    clips: tuple[Clip, ...] = ()
    loudness: HeardLoudness | None = None
    error: str = ""


@dataclass(frozen=True)
class Survey:
    """Every track of a take; `of` is another text when their files or their sync are others."""

    version: int
    of: str
    length_ns: int
    tracks: tuple[SurveyedTrack, ...]
    loads: tuple[tuple[float, float], ...] = ()
    happened: tuple[Happened, ...] = ()
    # By the values that are used where nobody says others.
    quiet: tuple[tuple[int, int], ...] = ()

    def track(self, name: str) -> SurveyedTrack | None:
        """What was found of a track, if it was looked at."""
        return next((t for t in self.tracks if t.name == name), None)


SURVEY: Document[Survey] = Document(Survey, "The survey")


def read_survey(folder: TakeFolder, info: TakeInfo) -> Survey | None:
    """The survey of a take as it is now; None if there is none, or it is of other files."""
    with contextlib.suppress(OSError, TakeError):
        found = SURVEY.read(SurveyPaths(folder).report.read_bytes())
        if found.version == VERSION and found.of == _stamp(folder, info):
            return found
    return None


def survey_take(
    folder: TakeFolder,
    on_progress: Callable[[int, int], None] = lambda done, total: None,
    give_way: GiveWay = go_on,
) -> Survey:
    """Look at every track of a take, unless that was done; one that can't be read says why.

    Raises
    ------
    TakeError
        If the take can't be read or the disk won't have the survey.
    """
    info = folder.read_info()
    known = read_survey(folder, info)
    if known:
        return known
    broken = {t.name: _why_broken(folder, t) for t in info.tracks}
    whole = [t for t in info.tracks if not broken[t.name]]
    # As measured: what is moved by hand moves all that is shown of a track alike.
    sync = measured_take(folder, info, whole, give_way=give_way) if whole else None
    length_ns = info.duration_ns or 0
    with Told(SurveyPaths(folder).folder, writing=True):
        SurveyPaths(folder).folder.mkdir(exist_ok=True)
    rows = []
    for number, track in enumerate(info.tracks):
        on_progress(number, len(info.tracks))
        found = SurveyedTrack(track.name, error=broken[track.name])
        if sync and not found.error:
            found = _surveyed(folder, track, sync, length_ns, give_way)
        rows.append(found)
    beside = encoder_loads(folder, length_ns), happened(folder)
    survey = Survey(VERSION, _stamp(folder, info), length_ns, tuple(rows), *beside)
    with contextlib.suppress(TakeError):
        quiet = find_quiet(folder, info, survey, BELOW_DBFS, FOR_S)
        survey = replace(survey, quiet=tuple(quiet))
    with Told(SurveyPaths(folder).report, writing=True):
        replace_file(SurveyPaths(folder).report, SURVEY.write(survey).encode())
    return survey


def _why_broken(folder: TakeFolder, track: TrackInfo) -> str:
    if track.damaged:
        return "It could not be repaired."
    try:
        folder.check_track(track)
        track_index(folder.track_path(track))
        read_times(folder.times_path(track))
    except TakeError as error:
        return str(error)
    return ""


def _surveyed(
    folder: TakeFolder, track: TrackInfo, sync: TakeSync, length_ns: int, give_way: GiveWay
) -> SurveyedTrack:
    try:
        rows = read_times(folder.times_path(track))
        # A sound's file begins with its first sample, a picture's keeps its times.
        first_ns = 0 if track.is_picture or not rows.size else int(rows["pts_ns"][0])
        found = SurveyedTrack(
            track.name,
            _knots(track, sync, first_ns),
            Knot(float(first_ns), 0.0, 1.0),
            clock_points(track, rows, sync),
            gaps_of(track, rows, sync, read_pauses(folder)),
            how_written(track_index(folder.track_path(track)), rows, length_ns),
        )
        if track.is_picture:
            sheets = survey_pictures(folder, track, sync, length_ns, give_way)
            return replace(found, sheets=sheets)
        sound = survey_sound(folder, track, sync, length_ns, give_way)
        levels = write_levels(SurveyPaths(folder), track.name, sound.finest)
    except TakeError as error:
        return SurveyedTrack(track.name, error=str(error))
    return replace(
        found, levels=levels, voice=sound.voice, clips=sound.clips, loudness=sound.loudness
    )


def _knots(track: TrackInfo, sync: TakeSync, first_ns: int) -> tuple[Knot, ...]:
    """Where each straight part of a track's clock begins."""
    found = sync.of(track.name)
    zero_ns = sync.start_ns + found.latency_ms * 1e6
    return tuple(
        Knot(p.master_ns - zero_ns, float(p.start_ns - first_ns), 1 / p.slope)
        for p in found.clock.pieces
    )


def write_levels(
    paths: SurveyPaths, track: str, finest: Envelope, patience_s: float | None = None
) -> tuple[Level, ...]:
    """Write a sound's waveform, level after level. Raises TakeError."""
    found, offset, parts = [], 0, []
    for number, level in enumerate(levels_of(finest)):
        found.append(Level(STEP_NS * FACTOR**number, offset, int(level.size)))
        parts.append(level.tobytes())
        offset += level.nbytes
    target = paths.levels(track)
    with Told(target, writing=True):
        replace_file(target, b"".join(parts), patience_s)
    return tuple(found)


def read_level(
    folder: TakeFolder, track: SurveyedTrack, number: int = 0, early: bool = False
) -> Envelope:
    """A level of a sound's waveform, or of the `early` one. Raises TakeError."""
    level = track.levels[number]
    path = SurveyPaths(folder, early).levels(track.name)
    with Told(path), path.open("rb") as file:
        file.seek(level.offset)
        data = file.read(level.count * ENVELOPE.itemsize)
    if len(data) < level.count * ENVELOPE.itemsize:
        raise TakeError(f"{path.name} is cut off. Delete the folder survey; it is made again.")
    return np.frombuffer(data, ENVELOPE)


def find_quiet(
    folder: TakeFolder, info: TakeInfo, survey: Survey, below_dbfs: float, for_s: float
) -> list[tuple[int, int]]:
    """Stretches of record time in which no voice of a take is heard, ns.

    With several voices it is quiet where all are. Raises TakeError if none was recorded.
    """
    voices = [t for t in info.tracks if t.kind in VOICE_KINDS]
    rows = [survey.track(t.name) for t in voices]
    surveyed = [row for row in rows if row and row.levels]
    if not surveyed:
        raise TakeError(
            f"No microphone was recorded in {info.name}, so it can't be told where it is quiet."
        )
    loudest = np.max([rms_of(read_level(folder, t)) for t in surveyed], axis=0)
    steps = max(1, round(for_s * NS_PER_S / STEP_NS))
    found = quiet_stretches(loudest, below_dbfs, steps)
    return [(a * STEP_NS, min(b * STEP_NS, survey.length_ns)) for a, b in found]


def _stamp(folder: TakeFolder, info: TakeInfo) -> str:
    known = []
    for track in info.tracks:
        with contextlib.suppress(OSError):
            known.append(f"{track.name}:{folder.track_path(track).stat().st_size}")
    with contextlib.suppress(OSError):
        known.append(hashlib.sha256((folder.path / "sync.json").read_bytes()).hexdigest()[:16])
    return " ".join([info.id, *known])
