"""Makes one whole file of what is there of a track: cut off, or written in parts.

What is there stays until the new file is whole and on the disk; doing it twice does no harm. Where
the new file would have less than one that it replaces, that one stays in the take's `originals`.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kettle_core.errors import NoRoomError, TakeError
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import put_in_place
from kettle_media.fault_points import fault_point
from kettle_media.take.cues import read_pauses
from kettle_media.take.folder import TakeFolder, free_bytes
from kettle_media.take.info import TrackInfo
from kettle_media.take.joining.parts import Part, chosen_parts, vanished
from kettle_media.take.joining.pictures import joined_pictures
from kettle_media.take.joining.sounds import laid_rows, lay_sounds
from kettle_media.take.joining.unwritten import Unwritten
from kettle_media.take.packets import Packet, read_packets, rewrap_parts
from kettle_media.take.times import KEPT, Times, read_times, write_times
from kettle_media.take.tracks import SoundWriter

# A sound whose packets lie further apart than this has a hole in it.
HOLE_S = 0.003
# Left on the disk beside the file that is written.
SPARE_BYTES = 1_000_000


@dataclass(frozen=True)
class Mended:
    """What is there of a track: where it ends on its own axis, how many frames or blocks it has
    and how many were lost within. `kept_back` says what is in files that stay as originals only.
    """

    ends_ns: int
    frames: int
    lost_frames: int
    kept_back: str = ""


def mend_track(folder: TakeFolder, track: TrackInfo, start_master_ns: int = 0) -> Mended:
    """Give a track one whole file with an end, and times for just what is in it.

    A track in one part is left in its file where the disk has no room for a second one: it can
    be read as it is, but has no index. `start_master_ns` is the master's time of the take's start.

    Raises
    ------
    TakeError
        If nothing of it can be read.
    NoRoomError
        If the disk has no room for what must be written; nothing has been changed then.
    """
    parts = _read_parts(folder, track)
    frame_s = float(1 / track.mode.fps) if track.is_picture else 0.0
    chosen = chosen_parts(parts)
    fresh = folder.track_path(track).with_suffix(".mended.mkv")
    unwritten = Unwritten(read_pauses(folder).unwritten, start_master_ns)
    if track.is_picture:
        times, there = _mend_pictures(chosen, fresh, unwritten, frame_s)
    else:
        times, there = _mend_sound(track, chosen, fresh, unwritten)
    gone = vanished(parts, there, frame_s) if fresh.exists() else 0
    fault_point("joining")
    _put(folder, track, fresh, times, keep_originals=gone > 0)
    frames = int(np.count_nonzero(times["kept"] == KEPT))
    told = ""
    if gone:
        told = f"{gone} packets of {track.title} are only in its files in “originals”."
    return Mended(_end_ns(track, times), frames, int(times["dropped"].sum()), told)


def _read_parts(folder: TakeFolder, track: TrackInfo) -> list[Part]:
    """Those parts of a track that hold something; what was cut off before must not cost others."""
    found, fault = [], TakeError(f"The times of {track.name} are empty.")
    for number in folder.parts(track):
        path = folder.track_path(track, number)
        try:
            rows = read_times(folder.times_path(track, number))
            packets = read_packets(path) if rows.size else []
        except TakeError as error:
            fault = error
            continue
        if rows.size and not packets:
            fault = TakeError(f"The track {path.name} holds nothing that can be read.")
        if packets:
            found.append(Part(path, rows, packets))
    if not any(part.is_told for part in found):
        raise fault
    return found


def _put(
    folder: TakeFolder, track: TrackInfo, fresh: Path, times: Times, keep_originals: bool
) -> None:
    parts = folder.parts(track)
    try:
        write_times(fresh.with_suffix(".csv"), times)
        if keep_originals:
            for part in parts:
                _keep(folder, folder.track_path(track, part), folder.times_path(track, part))
        # First the times: who is killed between them begins anew, with parts that are still there,
        # and of rows that are not in the first part's file those of the others are used.
        put_in_place(fresh.with_suffix(".csv"), folder.times_path(track))
        fault_point("joined")
        if fresh.exists():
            put_in_place(fresh, folder.track_path(track))
    except OSError as error:
        fresh.unlink(missing_ok=True)
        fresh.with_suffix(".csv").unlink(missing_ok=True)
        raise NoRoomError(f"{track.name} cannot be brought into order: {error}.") from error
    for part in reversed(parts):
        if part > 1:
            folder.track_path(track, part).unlink()
            folder.times_path(track, part).unlink(missing_ok=True)


def _keep(folder: TakeFolder, *paths: Path) -> None:
    """Have files stay in `originals` until somebody deletes them; those there are the first ones.

    A second name costs no room.
    """
    folder.originals_path.mkdir(exist_ok=True)
    for path in paths:
        target = folder.originals_path / path.name
        if path.exists() and not target.exists():
            target.hardlink_to(path)


def _mend_pictures(
    chosen: list[Part], fresh: Path, unwritten: Unwritten, frame_s: float
) -> tuple[Times, list[Packet]]:
    paths = [part.path for part in chosen]
    if len(chosen) == 1 and not _has_room(fresh, paths):
        there = chosen[0].packets
    else:
        _need_room(fresh, paths)
        starts: list[int | None] = [part.first_ms for part in chosen[1:]]
        there = rewrap_parts(list(zip(paths, [*starts, None], strict=True)), fresh)
    return joined_pictures(chosen, there, unwritten, frame_s), there


def _mend_sound(
    track: TrackInfo, chosen: list[Part], fresh: Path, unwritten: Unwritten
) -> tuple[Times, list[Packet]]:
    paths = [part.path for part in chosen]
    rate_hz = track.mode.sample_rate_hz
    first = chosen[0]
    if len(chosen) == 1 and not _has_holes(first.packets):
        length_s = sum(packet.length_s for packet in first.packets)
        samples, whole = round(length_s * rate_hz), Packet(first.packets[0].at_ms, length_s)
        if _has_room(fresh, paths):
            rewrap_parts([(first.path, None)], fresh)
        return first.rows[np.cumsum(first.rows["samples"]) <= samples], [whole]
    _need_room(fresh, paths)
    writer = SoundWriter(fresh, track.mode, track.codec)
    try:
        laid = lay_sounds(chosen, writer, rate_hz, round(HOLE_S * rate_hz))
    finally:
        writer.close()
    return laid_rows(laid, unwritten), laid.heard


def _has_holes(packets: list[Packet]) -> bool:
    at = [packet.at_ms / 1000 for packet in packets]
    ends = [a + packet.length_s for a, packet in zip(at, packets, strict=True)]
    return any(abs(a - b) >= HOLE_S for a, b in zip(at[1:], ends, strict=False))


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
