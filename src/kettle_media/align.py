"""Where every track of a take really lies in time, measured from its stamps and its contents."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.sync import Lag, picture_changes, picture_lag, sound_changes, sound_lag
from kettle_core.timing import NS_PER_S, ClockFit, fit_clock
from kettle_media.master_sound import MASTER_HZ, MasterSound
from kettle_media.take_folder import TakeFolder, TakeInfo, is_picture, track_mode
from kettle_media.tracks import frame_to_i420, read_pictures, read_times

ANALYSED_S = 90.0
CELLS = (32, 18)


@dataclass(frozen=True)
class TrackTimes:
    """Times of the frames or blocks in a track's file, with the clock fitted to all stamps."""

    name: str
    rows: NDArray[np.int64]
    block_ns: int
    fit: ClockFit

    def captured_ns(self, start_master_ns: int, latency_ms: float) -> NDArray[np.float64]:
        """Time since the take's start at which each frame or block began."""
        ready = self.fit.device_to_master_ns(self.rows[:, 1] + self.block_ns)
        block_ns = self.block_ns / (1 + self.fit.drift_ppm * 1e-6)
        return ready - block_ns - start_master_ns - latency_ms * 1e6


@dataclass(frozen=True)
class TrackSync:
    """What is corrected of a track.

    `offset_ms` is how late the track's file is at its first frame, `drift_ppm` how fast its
    clock counts; `source` says in words where the latency comes from.
    """

    name: str
    offset_ms: float
    drift_ppm: float
    latency_ms: float
    source: str
    agreement: float | None
    spread_ms: float
    true_offset_ms: float | None
    true_drift_ppm: float | None


@dataclass(frozen=True)
class TakeSync:
    """All tracks' corrections and, by name, when each frame or block was captured (ns)."""

    tracks: tuple[TrackSync, ...]
    captured_ns: Mapping[str, NDArray[np.float64]]

    def of(self, name: str) -> TrackSync:
        """The correction of a track."""
        return next(track for track in self.tracks if track.name == name)


def align_take(
    folder: TakeFolder, info: TakeInfo, without: frozenset[str] = frozenset()
) -> TakeSync:
    """Fit every clock, then find the latencies that no driver reports from the contents.

    The first microphone is the reference. Another sound that shares something with it, and a
    picture that moves with it, are laid on it where their contents say so surely.

    Raises
    ------
    TakeError
        If a track or its times are missing or damaged.
    """
    tracks = [t for t in info.tracks if t["name"] not in without]
    times = {t["name"]: _track_times(folder, t) for t in tracks}
    latency = {t["name"]: float(t["reported_latency_ms"] or 0.0) for t in tracks}
    source = {
        t["name"]: "no report" if t["reported_latency_ms"] is None else "reported by the device"
        for t in tracks
    }
    agreement: dict[str, float | None] = {t["name"]: None for t in tracks}
    sounds = _sounds_on_master(folder, info, tracks, times, latency)
    voice = next((t for t in tracks if t["kind"] == "microphone"), None)
    for track in tracks:
        name = track["name"]
        if voice is None or track is voice:
            continue
        lag = _content_lag(folder, info, track, times[name], latency[name], voice["name"], sounds)
        agreement[name] = lag.agreement
        if lag.sure:
            latency[name] += lag.lag_ms
            source[name] = f"measured against {voice['title']}"
    captured = {
        name: t.captured_ns(info.start_master_ns, latency[name]) for name, t in times.items()
    }
    found = tuple(
        _track_sync(t, times[t["name"]], captured[t["name"]], info, latency, source, agreement)
        for t in tracks
    )
    return TakeSync(found, captured)


def _track_times(folder: TakeFolder, track: Mapping[str, Any]) -> TrackTimes:
    rows = read_times(folder.times_path(track))
    if len(rows) == 0:
        raise TakeError(f"The track {track['name']} of {folder.path.name} has no times.")
    mode = track_mode(track)
    block_ns = 0 if is_picture(track) else 480 * NS_PER_S // mode.sample_rate_hz
    fit = fit_clock(rows[:, 1] + block_ns, rows[:, 2])
    return TrackTimes(track["name"], rows[rows[:, 5] == 1], block_ns, fit)


def _track_sync(
    track: Mapping[str, Any],
    times: TrackTimes,
    captured_ns: NDArray[np.float64],
    info: TakeInfo,
    latency: Mapping[str, float],
    source: Mapping[str, str],
    agreement: Mapping[str, float | None],
) -> TrackSync:
    name, first = track["name"], times.rows[0]
    true_offset = true_drift = None
    if track["truth"]:
        true_drift = float(track["truth"]["rate_ppm"])
        elapsed = (int(first[1]) - track["truth"]["epoch_ns"]) / (1 + true_drift * 1e-6)
        true_offset = (int(first[3]) - (elapsed - info.start_master_ns)) / 1e6
    return TrackSync(
        name=name,
        offset_ms=float(first[3] - captured_ns[0]) / 1e6,
        drift_ppm=times.fit.drift_ppm,
        latency_ms=latency[name],
        source=source[name],
        agreement=agreement[name],
        spread_ms=times.fit.spread_ns / 1e6,
        true_offset_ms=true_offset,
        true_drift_ppm=true_drift,
    )


def _sounds_on_master(
    folder: TakeFolder,
    info: TakeInfo,
    tracks: list[dict[str, Any]],
    times: Mapping[str, TrackTimes],
    latency: Mapping[str, float],
) -> dict[str, NDArray[np.float32]]:
    """The beginning of every sound as mono on the master's time axis."""
    length = round(min(ANALYSED_S, _longest_s(times.values())) * MASTER_HZ)
    found = {}
    for track in tracks:
        if is_picture(track):
            continue
        name = track["name"]
        start_ns = times[name].captured_ns(info.start_master_ns, latency[name])[0]
        sound = master_sound(folder, track, times[name].fit.drift_ppm, start_ns)
        found[name] = sound.read(length).mean(axis=0)
    return found


def _longest_s(times: Any) -> float:
    return max(float(t.rows[-1, 3] - t.rows[0, 3]) / NS_PER_S for t in times)


def master_sound(
    folder: TakeFolder, track: Mapping[str, Any], drift_ppm: float, captured_ns: float
) -> MasterSound:
    """A sound track on the master's axis, with its drift and start corrected."""
    mode = track_mode(track)
    path = folder.track_path(track)
    return MasterSound(path, mode.channels, mode.sample_rate_hz, drift_ppm, captured_ns)


def _content_lag(
    folder: TakeFolder,
    info: TakeInfo,
    track: Mapping[str, Any],
    times: TrackTimes,
    latency_ms: float,
    voice: str,
    sounds: Mapping[str, NDArray[np.float32]],
) -> Lag:
    if not is_picture(track):
        return sound_lag(sounds[voice], sounds[track["name"]], MASTER_HZ)
    if track["reported_latency_ms"] is not None:
        return Lag(0.0, 0.0, False)
    captured_s = times.captured_ns(info.start_master_ns, latency_ms) / NS_PER_S
    frame_s = float(1 / track_mode(track).fps)
    brightness, shown = [], 0
    for frame in read_pictures(folder.track_path(track)):
        if shown >= len(captured_s) or captured_s[shown] > ANALYSED_S:
            break
        luma = frame_to_i420(frame)[: frame.height]
        brightness.append(cv2.resize(luma, CELLS, interpolation=cv2.INTER_AREA).reshape(-1))
        shown += 1
    if shown < 30:
        return Lag(0.0, 0.0, False)
    changes = sound_changes(sounds[voice], MASTER_HZ)
    cells = picture_changes(
        captured_s[:shown], np.array(brightness, np.float64), frame_s, changes.size
    )
    return picture_lag(cells, changes)
