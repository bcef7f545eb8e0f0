"""Brings a take that was damaged since into order, as far as its files go; originals are kept."""

import re
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kettle_core.errors import NoRoomError, TakeError
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import LineFile
from kettle_media.take.accounting import account_of
from kettle_media.take.folder import TakeFolder, free_bytes
from kettle_media.take.info import RECORDING, TakeInfo, TrackInfo, with_damage, with_notes
from kettle_media.take.mending import SPARE_BYTES, mend_track
from kettle_media.take.packets import read_packets
from kettle_media.take.times import KEPT, TIMES, Times, read_times, write_times, written_ms
from kettle_media.take.track_index import make_index

Progress = Callable[[int, int], None]
WHOLE, RECOVERED, LOST = "whole", "recovered", "lost"
ROW = re.compile(rb"-?\d{1,19}(,-?\d{1,19}){7}")
# Of a sidecar with damaged lines so much must be left, or the track's own times are as good.
LEFT = 0.5
# A sound's packets and its times end within this of each other.
ENDS_S = 0.05


@dataclass(frozen=True)
class Verdict:
    """What came of a track: whole, recovered or lost, and why in words."""

    track: str
    state: str
    words: str
    ends_ns: int = 0


def recover_take(
    folder: TakeFolder, on_progress: Progress = lambda done, total: None
) -> tuple[Verdict, ...]:
    """Look at every track of a take, and mend those that are not what their times say.

    What a damaged track was is kept in the take's `originals`. One that holds nothing is marked
    as damaged, so that the program is composed without it.

    Raises
    ------
    TakeError
        If it is no take, is being recorded, or its folder can't be written to.
    NoRoomError
        If the disk has no room; what was mended until then stays, and it can be done again.
    """
    with folder.held():
        info = folder.read_info()
        if info.state == RECORDING:
            raise TakeError("This take was cut off; it is repaired when nothing is recorded.")
        found = []
        for number, track in enumerate(info.tracks):
            on_progress(number, len(info.tracks))
            found.append(_recovered(folder, info, track))
        if any(v.state != WHOLE for v in found) or info.damaged:
            _note(folder, info, found)
        return tuple(found)


def _recovered(folder: TakeFolder, info: TakeInfo, track: TrackInfo) -> Verdict:
    title = track.title
    try:
        fault = _fault(folder, track)
        if not fault:
            return Verdict(track.name, WHOLE, f"{title} is whole.")
        _keep_originals(folder, track)
        words = _with_times(folder, info, track)
        mended = mend_track(folder, track, info.start_master_ns)
    except NoRoomError:
        raise
    except TakeError as error:
        return Verdict(track.name, LOST, f"{title} can't be recovered: {error}")
    except OSError as error:
        raise TakeError(f"{folder.path.name} cannot be written: {error.strerror}.") from error
    folder.playable_path(track).unlink(missing_ok=True)
    there_s = mended.ends_ns / NS_PER_S
    lost = f", {mended.lost_frames} frames of it are lost" if mended.lost_frames else ""
    told = f"{title}: {fault}; {there_s:.1f} s are there{lost}{words}."
    return Verdict(track.name, RECOVERED, told, mended.ends_ns)


def _fault(folder: TakeFolder, track: TrackInfo) -> str:
    """What is wrong with a track's files, "" for nothing. Raises TakeError without a track."""
    path = folder.track_path(track)
    if not path.is_file():
        raise TakeError(f"its file {path.name} is gone.")
    packets = read_packets(path)
    if not packets:
        raise TakeError(f"its file {path.name} holds nothing that can be read.")
    try:
        rows = read_times(folder.times_path(track))
    except TakeError:
        return "its times were gone or damaged"
    if not rows.size:
        return "its times were empty"
    if track.is_picture:
        there = [packet.at_ms for packet in packets]
        gone = (rows["kept"] == KEPT) & ~np.isin(written_ms(rows), there)
        return "its file had holes or was cut short" if gone.any() else ""
    heard_s = packets[-1].at_ms / 1000 + packets[-1].length_s
    last = rows[-1]
    told_s = last["pts_ns"] / NS_PER_S + last["samples"] / track.mode.sample_rate_hz
    return "its file was cut short" if told_s - heard_s > ENDS_S else ""


def _keep_originals(folder: TakeFolder, track: TrackInfo) -> None:
    """Beside the take as they are; those that are kept already are the first ones, and stay."""
    kept = folder.originals_path
    kept.mkdir(exist_ok=True)
    for path in (folder.track_path(track), folder.times_path(track)):
        target = kept / path.name
        if not path.exists() or target.exists():
            continue
        if path.stat().st_size + SPARE_BYTES > free_bytes(kept):
            raise NoRoomError(
                f"{path.stat().st_size / 1e6:.0f} MB are needed to keep {path.name} as it is. "
                "Make room; nothing was changed."
            )
        part = target.with_suffix(".part")
        shutil.copyfile(path, part)
        part.replace(target)


def _with_times(folder: TakeFolder, info: TakeInfo, track: TrackInfo) -> str:
    """Give a track times it can be read by, and say where they are from if they were not there."""
    path = folder.times_path(track)
    try:
        if read_times(path).size:
            return ""
    except TakeError:
        pass
    own = _own_times(folder.track_path(track), info, track)
    left = _readable_rows(path)
    if left.size >= LEFT * own.size:
        write_times(path, left)
        return ", with the times that could still be read"
    write_times(path, own)
    return ", with the times of its own file, exact to a ms"


def _readable_rows(path: Path) -> Times:
    """The rows of a damaged sidecar that are whole and later than those before."""
    try:
        lines = path.read_bytes().split(b"\n")
    except OSError:
        return np.zeros(0, TIMES)
    whole = [line for line in lines if ROW.fullmatch(line)]
    if not whole:
        return np.zeros(0, TIMES)
    rows = np.loadtxt([w.decode() for w in whole], TIMES, delimiter=",", ndmin=1)
    latest = np.maximum.accumulate(rows["pts_ns"])
    return np.asarray(rows[np.r_[True, rows["pts_ns"][1:] > latest[:-1]]])


def _own_times(path: Path, info: TakeInfo, track: TrackInfo) -> Times:
    """Times as a track's packets have them, as if each had come at once."""
    packets = make_index(path).packets
    rows = np.zeros(packets.size, TIMES)
    rows["no"] = np.arange(packets.size)
    rows["pts_ns"] = rows["device_ns"] = packets["ms"] * 1_000_000
    rows["samples"] = packets["samples"]
    rate_hz = track.mode.sample_rate_hz
    lasts_ns = 0 if track.is_picture else rows["samples"].astype(np.int64) * NS_PER_S // rate_hz
    rows["master_ns"] = info.start_master_ns + rows["pts_ns"] + lasts_ns
    rows["kept"] = KEPT
    return rows


def _note(folder: TakeFolder, info: TakeInfo, found: list[Verdict]) -> None:
    lost = {v.track: v.words for v in found if v.state == LOST}
    info = with_damage(info, {**dict.fromkeys(info.damaged, ""), **lost})
    notes = [v.words for v in found if v.state != WHOLE and v.words not in info.notes]
    journal = LineFile(folder.journal_path, at_once=True)
    for verdict in found:
        if verdict.state == RECOVERED:
            cut_off = {"what": "track cut off", "input": verdict.track}
            journal.write({"at_ns": verdict.ends_ns, **cut_off})
    notes += account_of(folder, info.duration_ns or 0)
    try:
        folder.write_info(with_notes(info, *notes))
        shutil.rmtree(folder.path / "survey", ignore_errors=True)
        told = [vars(v) for v in found]
        journal.write({"at_ns": info.duration_ns or 0, "what": "recovered", "tracks": told})
    except OSError as error:
        raise NoRoomError(
            f"{folder.path.name} was brought into order, but that can't be noted: {error}. "
            "Make room on the disk; nothing is lost."
        ) from error
