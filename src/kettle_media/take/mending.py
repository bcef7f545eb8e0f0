"""Makes one whole file of what is there of a track: cut off, or written in parts.

What is there stays until the new file is whole and on the disk; doing it twice does no harm.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kettle_core.errors import NoRoomError, TakeError
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import put_in_place
from kettle_media.take.folder import TakeFolder, free_bytes
from kettle_media.take.info import TrackInfo
from kettle_media.take.packets import read_packets, rewrap_parts
from kettle_media.take.times import (
    FILLED,
    KEPT,
    NOTED,
    TIMES,
    Times,
    read_times,
    write_times,
    written_ms,
)
from kettle_media.take.track_reading import read_sound_parts
from kettle_media.take.tracks import SoundWriter

# A sound whose packets lie further apart than this has a hole in it.
HOLE_S = 0.003
# Left on the disk beside the file that is written.
SPARE_BYTES = 1_000_000


@dataclass(frozen=True)
class Mended:
    """What is there of a track: where it ends on its own axis, how many frames or blocks it has
    and how many were lost within.
    """

    ends_ns: int
    frames: int
    lost_frames: int


def mend_track(folder: TakeFolder, track: TrackInfo) -> Mended:
    """Give a track one whole file with an end, and times for just what is in it.

    A track in one part is left in its file where the disk has no room for a second one: it can
    be read as it is, but has no index.

    Raises
    ------
    TakeError
        If nothing of it can be read.
    NoRoomError
        If the disk has no room for what must be written; nothing has been changed then.
    """
    parts = folder.parts(track)
    rows = [read_times(folder.times_path(track, part)) for part in parts]
    if len(parts) > 1:
        # One that was cut off before anything of it was on the disk must not cost the others.
        held = [_holds_packets(folder.track_path(track, part)) for part in parts]
        rows = [r if held[n] else r[:0] for n, r in enumerate(rows)]
    parts = [p for p, r in zip(parts, rows, strict=True) if r.size]
    rows = [r for r in rows if r.size]
    if not parts:
        raise TakeError(f"The times of {track.name} are empty.")
    paths = [folder.track_path(track, part) for part in parts]
    # What a later part begins with was written again by it.
    ends_ns: list[int | None] = [int(r["pts_ns"][0]) for r in rows[1:]]
    ends_ns.append(None)
    fresh = folder.track_path(track).with_suffix(".mended.mkv")
    if track.is_picture:
        times = _mend_pictures(paths, rows, ends_ns, fresh)
    else:
        times = _mend_sound(track, paths, rows, ends_ns, fresh)
    _put(folder, track, fresh, times)
    frames = int(np.count_nonzero(times["kept"] == KEPT))
    return Mended(_end_ns(track, times), frames, int(times["dropped"].sum()))


def _holds_packets(path: Path) -> bool:
    try:
        return bool(read_packets(path))
    except TakeError:
        return False


def _put(folder: TakeFolder, track: TrackInfo, fresh: Path, times: Times) -> None:
    try:
        write_times(fresh.with_suffix(".csv"), times)
        if fresh.exists():
            put_in_place(fresh, folder.track_path(track))
        put_in_place(fresh.with_suffix(".csv"), folder.times_path(track))
    except OSError as error:
        fresh.unlink(missing_ok=True)
        fresh.with_suffix(".csv").unlink(missing_ok=True)
        raise NoRoomError(f"{track.name} cannot be brought into order: {error}.") from error
    for part in reversed(folder.parts(track)[1:]):
        folder.track_path(track, part).unlink()
        folder.times_path(track, part).unlink(missing_ok=True)


def _mend_pictures(
    paths: list[Path], rows: list[Times], ends_ns: list[int | None], fresh: Path
) -> Times:
    stamps = [written_ms(r) for r in rows]
    starts: list[int | None] = [int(s[0]) for s in stamps[1:]]
    pairs = list(zip(paths, [*starts, None], strict=True))
    if len(paths) == 1 and not _has_room(fresh, paths):
        there = [packet.at_ms for packet in read_packets(paths[0])]
        if not there:
            raise TakeError(f"The track {paths[0].name} holds nothing that can be read.")
    else:
        _need_room(fresh, paths)
        there = [packet.at_ms for packet in rewrap_parts(pairs, fresh)]
    joined = []
    for part, stamp, end_ns in zip(rows, stamps, ends_ns, strict=True):
        keep = part["pts_ns"] < end_ns if end_ns is not None else np.ones(part.size, bool)
        joined.append(_as_there(part, stamp, np.array(there), keep))
    return np.concatenate(joined)


def _as_there(rows: Times, stamps_ms: np.ndarray, there_ms: np.ndarray, keep: np.ndarray) -> Times:
    """Rows of a part as far as they are kept; a frame that is not in the file is told as lost."""
    rows, stamps_ms = rows[keep].copy(), stamps_ms[keep]
    gone = (rows["kept"] == KEPT) & ~np.isin(stamps_ms, there_ms)
    rows["kept"][gone] = NOTED
    rows["dropped"][gone] += 1
    # What was noted after the last frame that is there shows nothing.
    last = np.flatnonzero(rows["kept"] == KEPT)
    cut = rows["kept"].size if last.size else 0
    if gone.any() and last.size and gone[last[-1] :].any():
        cut = int(last[-1]) + 1
    return rows[:cut]


def _mend_sound(
    track: TrackInfo, paths: list[Path], rows: list[Times], ends_ns: list[int | None], fresh: Path
) -> Times:
    packets = read_packets(paths[0])
    if not packets:
        raise TakeError(f"The track {paths[0].name} holds nothing that can be read.")
    rate_hz = track.mode.sample_rate_hz
    at = [packet.at_ms / 1000 for packet in packets]
    ends = [a + packet.length_s for a, packet in zip(at, packets, strict=True)]
    whole = all(abs(a - b) < HOLE_S for a, b in zip(at[1:], ends, strict=False))
    if len(paths) == 1 and whole:
        samples = round(sum(packet.length_s for packet in packets) * rate_hz)
        if _has_room(fresh, paths):
            rewrap_parts([(paths[0], None)], fresh)
        return rows[0][np.cumsum(rows[0]["samples"]) <= samples]
    _need_room(fresh, paths)
    return _write_again(track, paths, rows, ends_ns, fresh)


def _write_again(
    track: TrackInfo, paths: list[Path], rows: list[Times], ends_ns: list[int | None], fresh: Path
) -> Times:
    """Lay parts of a sound one after the other by their times, with silence where one is missing.

    FLAC loses nothing when it is encoded again.
    """
    rate_hz = track.mode.sample_rate_hz
    start_ns = int(rows[0]["pts_ns"][0])
    writer = SoundWriter(fresh, track.mode, track.codec)
    done, last = 0, rows[0][0]
    found: list[Times] = []
    try:
        for path, part, end_ns in zip(paths, rows, ends_ns, strict=True):
            first_ns = int(part["pts_ns"][0])
            until = None
            if end_ns is not None:
                until = round((end_ns - start_ns) * rate_hz / NS_PER_S)
            place = round((first_ns - start_ns) * rate_hz / NS_PER_S)
            if place > done:
                found.append(_silent_row(last, start_ns, done, place - done, rate_hz))
                writer.write_silence(place - done, start_ns)
                done = place
            begun = done
            for at_s, block in read_sound_parts(path):
                at = max(begun, begun + round((at_s - first_ns / NS_PER_S) * rate_hz))
                if until is not None and at >= until:
                    break
                if at - done > HOLE_S * rate_hz:
                    found.append(_silent_row(last, start_ns, done, at - done, rate_hz))
                    writer.write_silence(at - done, start_ns)
                    done = at
                piece = block if until is None else block[:, : max(0, until - done)]
                if piece.shape[1]:
                    writer.write(piece, start_ns)
                    done += piece.shape[1]
            ends = begun + np.cumsum(part["samples"])
            found.append(part[ends <= done])
            last = part[-1]
    finally:
        writer.close()
    return np.concatenate(found)


def _silent_row(before: np.void, start_ns: int, at: int, samples: int, rate_hz: int) -> Times:
    row = np.zeros(1, TIMES)
    for name in ("no", "device_ns", "master_ns", "segment"):
        row[name] = before[name]
    row["pts_ns"] = start_ns + at * NS_PER_S // rate_hz
    row["dropped"], row["kept"], row["samples"] = 1, FILLED, samples
    return row


def _end_ns(track: TrackInfo, times: Times) -> int:
    if times.size == 0:
        return 0
    last = times[-1]
    if track.is_picture:
        return int(last["pts_ns"] + NS_PER_S / track.mode.fps)
    return int(last["pts_ns"] + int(last["samples"]) * NS_PER_S // track.mode.sample_rate_hz)


def _needed(paths: list[Path]) -> int:
    return sum(path.stat().st_size for path in paths) + SPARE_BYTES


def _has_room(fresh: Path, paths: list[Path]) -> bool:
    return free_bytes(fresh.parent) >= _needed(paths)


def _need_room(fresh: Path, paths: list[Path]) -> None:
    if not _has_room(fresh, paths):
        raise NoRoomError(
            f"{_needed(paths) / 1e6:.0f} MB are needed to bring {paths[0].name} into order, and "
            f"{free_bytes(fresh.parent) / 1e6:.0f} MB are free. Make room; nothing is lost."
        )
