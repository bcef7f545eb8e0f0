"""What a take holds, as numbers."""

import contextlib
from dataclasses import asdict
from fractions import Fraction
from typing import Any

import numpy as np

from kettle_core.errors import TakeError
from kettle_core.program.cues import Cue
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.afterwards import cues_now, follow_cues
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo, TrackInfo
from kettle_media.take.json_lines import read_json_lines
from kettle_media.take.packets import read_packets
from kettle_media.take.rig_now import rig_now
from kettle_media.take.sync_report import TrackSync
from kettle_media.take.times import NOTED, read_times

TROUBLES = ("missing", "frames were dropped", "track ended", "recorder started again")


def inspect_take(folder: TakeFolder) -> dict[str, Any]:
    """Figures of a take and each of its tracks; a track that can't be read says why.

    Raises
    ------
    TakeError
        If the folder is no take or take.json is damaged.
    """
    info = folder.read_info()
    rows = []
    broken = set()
    for track in info.tracks:
        try:
            rows.append(_track_figures(folder, track))
        except TakeError as error:
            broken.add(track.name)
            rows.append({"name": track.name, "kind": track.kind, "error": str(error)})
    if len(broken) < len(info.tracks):
        sync = align_take(folder, info, frozenset(broken))
        for row in rows:
            if row["name"] not in broken:
                row.update(_sync_figures(sync.of(row["name"])))
    rig, told = rig_now(folder, info)
    said = follow_cues(folder, rig)
    length_ns = info.duration_ns or 0
    paused = [(start, length_ns if end is None else end) for start, end in said.paused]
    return {
        "name": info.name,
        "state": info.state,
        "duration_s": _seconds(info),
        # Without pauses.
        "take_s": _rounded(length_ns - sum(end - start for start, end in paused)),
        "notes": [*info.notes, *told, *said.left_out],
        "pauses": [{"at_s": _rounded(s), "length_s": _rounded(e - s)} for s, e in paused],
        "cues": [_cue_figures(cue) for cue in cues_now(folder)[0]],
        "troubles": _troubles(folder),
        "tracks": rows,
    }


def _cue_figures(cue: Cue) -> dict[str, Any]:
    values = {name: value for name, value in asdict(cue).items() if value is not None}
    return {"at_s": _rounded(values.pop("at_ns")), "what": values.pop("do"), **values}


def _troubles(folder: TakeFolder) -> list[dict[str, Any]]:
    """Gaps, drops and tracks that ended, from the journal."""
    found = []
    for row in read_json_lines(folder.journal_path):
        with contextlib.suppress(ValueError, KeyError, TypeError, AttributeError):
            if row["what"] in TROUBLES:
                found.append({"at_s": _rounded(row.pop("at_ns")), **row})
    return found


def _rounded(at_ns: int) -> float:
    return round(at_ns / NS_PER_S, 3)


def _seconds(info: TakeInfo) -> float | None:
    return None if info.duration_ns is None else round(info.duration_ns / NS_PER_S, 3)


def _track_figures(folder: TakeFolder, track: TrackInfo) -> dict[str, Any]:
    path = folder.track_path(track)
    folder.check_track(track)
    packets = len(read_packets(path))
    rows = read_times(folder.times_path(track))
    kept = rows[rows["kept"] != NOTED]
    mode, seen = track.mode, track.is_picture
    if packets == 0 or len(kept) == 0:
        raise TakeError(f"The track {track.name} holds nothing.")
    step = (
        Fraction(1) / mode.fps if seen else Fraction(int(kept["samples"][-1]), mode.sample_rate_hz)
    )
    # Against what the clock says a delivery should have come at: the worst one.
    late_ns = rows["master_ns"] - rows["pts_ns"]
    return {
        "worst_late_ms": round(float(late_ns.max() - np.median(late_ns)) / 1e6, 1),
        "name": track.name,
        "kind": track.kind,
        "codec": track.codec,
        "size": f"{mode.width}x{mode.height}" if seen else None,
        "fps": float(mode.fps) if seen else None,
        "sample_rate_hz": None if seen else mode.sample_rate_hz,
        "channels": None if seen else mode.channels,
        "frames": min(packets, len(kept)) if seen else len(kept),
        "dropped": int(rows["dropped"].sum()),
        "duration_s": round(float(np.ptp(kept["pts_ns"])) / NS_PER_S + float(step), 3),
        "size_bytes": path.stat().st_size,
    }


def _sync_figures(found: TrackSync) -> dict[str, Any]:
    figures = {
        "offset_ms": round(found.offset_ms, 3),
        "drift_ppm": round(found.drift_ppm, 2),
        "measured": found.source,
    }
    if found.true_offset_ms is not None and found.true_drift_ppm is not None:
        figures["true_offset_ms"] = round(found.true_offset_ms, 3)
        figures["true_drift_ppm"] = round(found.true_drift_ppm, 2)
    return figures
