"""What was measured of a take's clocks and latencies, and sync.json, in which it is kept."""

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.timing.clock_map import ClockMap, Piece
from kettle_media.durable import replace_file
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.times import NOTED, read_times

VERSION = 3


@dataclass(frozen=True)
class Evidence:
    """A lag against the first microphone, measured from the contents at a place of the take."""

    at_s: float
    lag_ms: float
    agreement: float
    sure: bool


@dataclass(frozen=True)
class TrackSync:
    """What is corrected of a track, and how sure that is.

    `offset_ms` is how late the track's file is at its first frame, `drift_ppm` how fast its clock
    counts on the whole, `least_ppm` and `most_ppm` in its pieces. `source` says in words where
    `latency_ms` comes from. `bound_ms` is how far off the correction may be; None where that is
    not known. For simulated devices the truth stands beside it.
    """

    name: str
    offset_ms: float
    drift_ppm: float
    least_ppm: float
    most_ppm: float
    latency_ms: float
    source: str
    agreement: float | None
    spread_ms: float
    gap_ms: float
    bound_ms: float | None
    clock: ClockMap
    evidence: tuple[Evidence, ...] = ()
    true_offset_ms: float | None = None
    true_drift_ppm: float | None = None

    def captured_ns(self, track_ns: NDArray[np.int64], start_ns: int) -> NDArray[np.float64]:
        """Record time at which what lies at times of the track was captured."""
        return self.clock.to_master_ns(track_ns) - start_ns - self.latency_ms * 1e6


class Captured(Mapping[str, NDArray[np.float64]]):
    """By the names of tracks when each frame or block was captured, record time in ns.

    Times are read when they are first asked for: hours of sounds have a million that nobody
    wants who only hears them. That raises TakeError where they are missing or damaged.
    """

    def __init__(
        self, folder: TakeFolder, infos: Sequence[TrackInfo], tracks: Sequence[TrackSync],
        start_ns: int,
    ) -> None:  # fmt: skip
        self._folder, self._start_ns = folder, start_ns
        self._infos = {info.name: info for info in infos}
        self._tracks = {track.name: track for track in tracks}
        self._known: dict[str, NDArray[np.float64]] = {}

    def corrected(self, tracks: Sequence[TrackSync]) -> "Captured":
        """The same by other corrections."""
        return Captured(self._folder, tuple(self._infos.values()), tracks, self._start_ns)

    def __getitem__(self, name: str) -> NDArray[np.float64]:
        if name not in self._known:
            path = self._folder.times_path(self._infos[name])
            rows = read_times(path, ("pts_ns", "kept"))
            kept = rows["pts_ns"][rows["kept"] != NOTED]
            self._known[name] = self._tracks[name].captured_ns(kept, self._start_ns)
        return self._known[name]

    def __contains__(self, name: object) -> bool:
        return name in self._infos

    def __iter__(self) -> Iterator[str]:
        return iter(self._infos)

    def __len__(self) -> int:
        return len(self._infos)


@dataclass(frozen=True)
class TakeSync:
    """All tracks' corrections and, by name, when each frame or block was captured (ns)."""

    tracks: tuple[TrackSync, ...]
    captured_ns: Captured
    start_ns: int

    def of(self, name: str) -> TrackSync:
        """The correction of a track."""
        return next(track for track in self.tracks if track.name == name)


def times_sizes(folder: TakeFolder, tracks: "list[TrackInfo]") -> dict[str, int]:
    """By what a report knows that it is of these tracks: the sizes of their sidecars."""
    return {t.name: folder.times_path(t).stat().st_size for t in tracks}


def write_sync(folder: TakeFolder, sync: TakeSync, of: Mapping[str, int]) -> None:
    """Keep a report. Raises TakeError if the disk won't have it."""
    rows = []
    for track in sync.tracks:
        row = {**vars(track), "clock": [asdict(p) for p in track.clock.pieces]}
        row["evidence"] = [asdict(e) for e in track.evidence]
        rows.append(row)
    report = {"version": VERSION, "start_master_ns": sync.start_ns, "of": dict(of), "tracks": rows}
    try:
        replace_file(folder.path / "sync.json", json.dumps(report, indent=1).encode())
    except OSError as error:
        raise TakeError(f"sync.json of {folder.path.name} cannot be written: {error}.") from error


def read_sync(folder: TakeFolder, tracks: "list[TrackInfo]") -> TakeSync | None:
    """The report kept of a take, if it is of these tracks as they are now."""
    try:
        report = json.loads((folder.path / "sync.json").read_text())
        if report["version"] != VERSION or report["of"] != times_sizes(folder, tracks):
            return None
        found = tuple(_track_of(row) for row in report["tracks"])
        start_ns = int(report["start_master_ns"])
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return TakeSync(found, Captured(folder, tracks, found, start_ns), start_ns)


def _track_of(row: dict[str, Any]) -> TrackSync:
    pieces = tuple(Piece(**piece) for piece in row["clock"])
    clock = ClockMap(pieces, row["spread_ms"] * 1e6, row["gap_ms"] * 1e6)
    evidence = tuple(Evidence(**entry) for entry in row["evidence"])
    return TrackSync(**{**row, "clock": clock, "evidence": evidence})
