"""Where every track of a take really lies in time, measured from its stamps and its contents."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from math import inf

import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.timing.clock_map import ClockMap, map_clock
from kettle_core.timing.sync import Lag, LagSum, picture_changes, picture_lag, sound_changes
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.memory import give_memory_back
from kettle_media.take.afterwards import read_afterwards
from kettle_media.take.cues import read_pauses
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo, TrackInfo
from kettle_media.take.sound_track import MASTER_HZ, RawTrack, SoundTrack
from kettle_media.take.sync_report import (
    Captured,
    Evidence,
    TakeSync,
    TrackSync,
    read_sync,
    times_sizes,
    write_sync,
)
from kettle_media.take.times import FILLED, NOTED, Times, first_pts_ns, read_times
from kettle_media.take.track_reading import read_brightness

# Called often; waits while something that can't wait needs the machine.
GiveWay = Callable[[], None]
# Contents are looked at this long: at the beginning, or at places over the whole take.
ANALYSED_S, PLACES, PLACE_S = 40.0, 5, 16.0
# Decoding is most of the work: of pictures so much is enough in one go.
PICTURE_S = 12.0
# So far round a pause nothing is compared, and no stretch shorter than this.
EDGE_S, LEAST_S = 0.6, 1.5
# What a headset hears of its headphones (29 cm), and another microphone across a room (3 m).
AIR_MS, ROOM_MS = 0.85, 9.0
CELLS, THINNED = (32, 18), 4


def go_on() -> None:
    """Wait for nothing."""


@dataclass
class Measured:
    """A track while it is measured."""

    info: TrackInfo
    rows: Times
    clock: ClockMap
    latency_ms: float
    source: str
    agreement: float | None = None
    evidence: list[Evidence] = field(default_factory=list)

    def captured_ns(self, start_ns: int) -> NDArray[np.float64]:
        """Record time at which each frame or block was captured."""
        return self.clock.to_master_ns(self.rows["pts_ns"]) - start_ns - self.latency_ms * 1e6


def align_take(
    folder: TakeFolder,
    info: TakeInfo,
    without: frozenset[str] = frozenset(),
    again: bool = False,
    give_way: GiveWay = go_on,
    at_once: bool = False,
) -> TakeSync:
    """What was measured of a take, or is measured now and kept in sync.json; moved as by hand.

    Who looks at a page, `at_once`, measures it too where somebody else has only begun to.

    Raises
    ------
    TakeError
        If a track or its times are missing or damaged.
    """
    tracks = [t for t in info.tracks if t.name not in without]
    return nudged_sync(measured_take(folder, info, tracks, again, give_way, at_once), folder)


def is_measured(folder: TakeFolder, info: TakeInfo) -> bool:
    """Whether `align_take` has nothing to measure of a take."""
    return read_sync(folder, _whole(info)) is not None


def stamped_sync(folder: TakeFolder, info: TakeInfo) -> TakeSync:
    """What stamps and drivers alone say of a take, moved as by hand: known at once.

    Raises
    ------
    TakeError
        If a track's times are missing or damaged.
    """
    return nudged_sync(measure_sync(folder, info, _whole(info), contents=False), folder)


def _whole(info: TakeInfo) -> list[TrackInfo]:
    return [t for t in info.tracks if t.name not in info.damaged]


def measured_take(
    folder: TakeFolder,
    info: TakeInfo,
    tracks: Sequence[TrackInfo],
    again: bool = False,
    give_way: GiveWay = go_on,
    at_once: bool = False,
) -> TakeSync:
    """What was measured of tracks of a take, without what was moved by hand. Raises TakeError."""
    known = None if again else read_sync(folder, list(tracks))
    if known:
        return known
    with folder.alone(give_way, at_once):
        # Somebody else may just have done it.
        known = None if again else read_sync(folder, list(tracks))
        if known:
            return known
        sync = measure_sync(folder, info, tracks, give_way)
        write_sync(folder, sync, times_sizes(folder, list(tracks)))
        give_memory_back()
    return sync


def nudged_sync(sync: TakeSync, folder: TakeFolder) -> TakeSync:
    """A take's sync with tracks moved as by hand: later is less of a latency taken off."""
    nudges = {n.track: n.ms for n in read_afterwards(folder)[0].nudges}
    if not nudges:
        return sync
    tracks = tuple(
        replace(t, latency_ms=t.latency_ms - nudges.get(t.name, 0.0)) for t in sync.tracks
    )
    return TakeSync(tracks, sync.captured_ns.corrected(tracks), sync.start_ns)


def measure_sync(
    folder: TakeFolder,
    info: TakeInfo,
    tracks: Sequence[TrackInfo],
    give_way: GiveWay = go_on,
    contents: bool = True,
) -> TakeSync:
    """Fit every clock, then find the latencies that no driver reports from the contents.

    The first microphone is the reference. Another sound that shares something with it, and a
    picture that moves with it, are laid on it where their contents say so surely, at several
    places of a long take.

    Raises
    ------
    TakeError
        If a track or its times are missing or damaged.
    """
    found = {t.name: _measured(folder, t) for t in tracks}
    start_ns = info.start_master_ns
    voice = next((m for m in found.values() if m.info.kind == "microphone"), None)
    if voice and contents:
        places = _places([m.rows["pts_ns"] for m in found.values()], _unwritten(folder))
        heard = {
            name: _sounds_at(folder, m, start_ns, places, give_way)
            for name, m in found.items()
            if not m.info.is_picture
        }
        for name, measured in found.items():
            if measured is voice:
                continue
            if measured.info.is_picture:
                lag = _picture_lag(
                    folder, measured, start_ns, places, heard[voice.info.name], give_way
                )
            else:
                lag = _sound_lag(measured, places, heard[voice.info.name], heard[name], give_way)
            if lag:
                measured.agreement = lag.agreement
            if lag and lag.sure:
                measured.latency_ms += lag.lag_ms
                measured.source = f"measured against {voice.info.title}"
            give_way()
    measured_tracks = tuple(_track_sync(m, info) for m in found.values())
    return TakeSync(measured_tracks, Captured(folder, tracks, measured_tracks, start_ns), start_ns)


def _measured(folder: TakeFolder, track: TrackInfo) -> Measured:
    rows = read_times(folder.times_path(track))
    if len(rows) == 0:
        raise TakeError(f"The track {track.name} of {folder.path.name} has no times.")
    stamped = rows[rows["kept"] != FILLED]
    came_ns = stamped["master_ns"].copy()
    if not track.is_picture:
        # A block is there when its last sample is.
        came_ns -= stamped["samples"].astype(np.int64) * NS_PER_S // track.mode.sample_rate_hz
    clock = map_clock(stamped["pts_ns"], came_ns, stamped["segment"])
    reported = track.reported_latency_ms
    source = "no report" if reported is None else "reported by the device"
    return Measured(track, rows[rows["kept"] != NOTED], clock, float(reported or 0.0), source)


def _unwritten(folder: TakeFolder) -> list[tuple[float, float]]:
    """Stretches (from, to) of record time in s in which a pause left nothing to be compared.

    They are wider by what latencies that are not known yet may move.
    """
    return [
        (start / NS_PER_S - EDGE_S, inf if end is None else end / NS_PER_S + EDGE_S)
        for start, end in read_pauses(folder).unwritten
    ]


def _places(
    times: Sequence[NDArray[np.int64]], unwritten: Sequence[tuple[float, float]]
) -> list[tuple[float, float]]:
    """Stretches (from, to) in s of a take at which its contents are compared."""
    length_s = max(float(t[-1] - t[0]) for t in times) / NS_PER_S
    if length_s <= 2 * ANALYSED_S:
        places = [(0.0, min(length_s, ANALYSED_S))]
    else:
        starts = np.linspace(0.0, length_s - PLACE_S, PLACES)
        places = [(float(s), float(s) + PLACE_S) for s in starts]
    for away in unwritten:
        places = [part for place in places for part in _without(place, away)]
    return [place for place in places if place[1] - place[0] >= LEAST_S]


def _without(
    place: tuple[float, float], away: tuple[float, float]
) -> tuple[tuple[float, float], ...]:
    """What of a stretch lies before and after another one."""
    before = (place[0], min(place[1], away[0]))
    after = (max(place[0], away[1]), place[1])
    return tuple(part for part in (before, after) if part[1] > part[0])


def _sounds_at(
    folder: TakeFolder,
    measured: Measured,
    start_ns: int,
    places: Sequence[tuple[float, float]],
    give_way: GiveWay,
) -> list[NDArray[np.float32]]:
    """A sound as mono on the master's time, at each place."""
    track = measured.info
    first_ns = int(measured.rows["pts_ns"][0])
    raw = RawTrack(folder.track_path(track), track.mode.channels)
    origin_ns = start_ns + measured.latency_ms * 1e6
    sound = SoundTrack(raw, track.mode, measured.clock, first_ns, origin_ns)
    found = []
    for from_s, to_s in places:
        give_way()
        first, end = round(from_s * MASTER_HZ), round(to_s * MASTER_HZ)
        found.append(sound.read(first, end - first).mean(axis=0))
    raw.close()
    return found


def open_sound(
    folder: TakeFolder, track: TrackInfo, sync: TakeSync, delay_ms: float = 0.0
) -> tuple[SoundTrack, RawTrack]:
    """A sound track on record time, its clock and latency corrected; and what is to be closed.

    Raises
    ------
    TakeError
        If the track or its times can't be read.
    """
    first_ns = first_pts_ns(folder.times_path(track))
    raw = RawTrack(folder.track_path(track), track.mode.channels)
    found = sync.of(track.name)
    origin_ns = sync.start_ns + (found.latency_ms - delay_ms) * 1e6
    return SoundTrack(raw, track.mode, found.clock, first_ns, origin_ns), raw


def _sound_lag(
    measured: Measured,
    places: Sequence[tuple[float, float]],
    reference: Sequence[NDArray[np.float32]],
    heard: Sequence[NDArray[np.float32]],
    give_way: GiveWay,
) -> Lag:
    """How late a sound is against the reference, from all places; each is noted by itself."""
    together = LagSum(MASTER_HZ)
    for place, ours, theirs in zip(places, reference, heard, strict=True):
        give_way()
        alone = LagSum(MASTER_HZ)
        alone.add(ours, theirs)
        together.join(alone)
        _note_lag(measured, place, alone.lag())
    return together.lag()


def _picture_lag(
    folder: TakeFolder,
    measured: Measured,
    start_ns: int,
    places: Sequence[tuple[float, float]],
    reference: Sequence[NDArray[np.float32]],
    give_way: GiveWay,
) -> Lag | None:
    """How late a picture whose device reports nothing is against the sound of what it shows."""
    if measured.info.reported_latency_ms is not None:
        return None
    captured_s = measured.captured_ns(start_ns) / NS_PER_S
    frame_s = float(1 / measured.info.mode.fps)
    path = folder.track_path(measured.info)
    lags = []
    for place, sound in zip(places, reference, strict=True):
        until_s = min(place[1], place[0] + PICTURE_S)
        numbers = np.flatnonzero((captured_s >= place[0]) & (captured_s < until_s))
        if numbers.size < 30:
            continue
        brightness = []
        first_ns = int(measured.rows["pts_ns"][numbers[0]])
        for luma in read_brightness(path, first_ns / NS_PER_S, numbers.size):
            thin = np.ascontiguousarray(luma[::THINNED, ::THINNED])
            brightness.append(cv2.resize(thin, CELLS, interpolation=cv2.INTER_AREA).reshape(-1))
            if len(brightness) % 30 == 0:
                give_way()
        shown = captured_s[numbers[: len(brightness)]] - place[0]
        if shown.size < 30:
            continue
        changes = sound_changes(sound[: round((until_s - place[0]) * MASTER_HZ)], MASTER_HZ)
        cells = picture_changes(shown, np.array(brightness, np.float64), frame_s, changes.size)
        lag = picture_lag(cells, changes)
        _note_lag(measured, place, lag)
        lags.append(lag)
    sure = [lag for lag in lags if lag.sure]
    if not lags:
        return None
    best = max(sure or lags, key=lambda lag: lag.agreement)
    middle = float(np.median([lag.lag_ms for lag in sure])) if sure else 0.0
    return Lag(middle, best.agreement, bool(sure))


def _note_lag(measured: Measured, place: tuple[float, float], lag: Lag) -> None:
    measured.evidence.append(
        Evidence(float(place[0]), float(lag.lag_ms), float(lag.agreement), lag.sure)
    )


def _track_sync(measured: Measured, info: TakeInfo) -> TrackSync:
    track, clock, first = measured.info, measured.clock, measured.rows[0]
    captured_ns = measured.captured_ns(info.start_master_ns)[0]
    rates = [piece.drift_ppm for piece in clock.pieces]
    true_offset = true_drift = None
    if track.truth:
        true_drift = float(track.truth["rate_ppm"])
        elapsed = (int(first["device_ns"]) - track.truth["epoch_ns"]) / (1 + true_drift * 1e-6)
        true_offset = (int(first["pts_ns"]) - (elapsed - info.start_master_ns)) / 1e6
    return TrackSync(
        name=track.name,
        offset_ms=float(first["pts_ns"] - captured_ns) / 1e6,
        drift_ppm=clock.drift_ppm,
        least_ppm=min(rates),
        most_ppm=max(rates),
        latency_ms=measured.latency_ms,
        source=measured.source,
        agreement=measured.agreement,
        spread_ms=clock.spread_ns / 1e6,
        gap_ms=clock.gap_ns / 1e6,
        bound_ms=_bound_ms(measured),
        clock=clock,
        evidence=tuple(measured.evidence),
        true_offset_ms=true_offset,
        true_drift_ppm=true_drift,
    )


def _bound_ms(measured: Measured) -> float | None:
    """How far off a track may be: by its stamps, and by where its contents disagree.

    Not known where neither a driver nor the contents say anything of its latency. What a
    microphone hears of another sound came through the air, a ms for every 34 cm.
    """
    if measured.source == "no report":
        return None
    sure = [entry.lag_ms for entry in measured.evidence if entry.sure]
    stamps_ms = (2 * measured.clock.spread_ns + measured.clock.gap_ns) / 1e6
    if measured.agreement is None or not sure:
        return stamps_ms
    if measured.info.is_picture:
        step_ms = 1000 / (2 * float(measured.info.mode.fps))
    else:
        step_ms = ROOM_MS if measured.info.kind == "microphone" else AIR_MS
    return max(stamps_ms, step_ms, float(np.ptp(sure)))
