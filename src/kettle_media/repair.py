"""Brings takes that were cut off by a crash or a power failure into order."""

import os
from pathlib import Path

from kettle_core.errors import TakeError
from kettle_core.timing import NS_PER_S
from kettle_media.take_folder import (
    RECORDING,
    REPAIRED,
    TakeFolder,
    TakeInfo,
    append_line,
    is_picture,
    track_mode,
)
from kettle_media.tracks import read_times, rewrap


def find_unfinished(takes_root: Path) -> list[TakeFolder]:
    """Takes below a folder that say they are being recorded by an engine that is gone."""
    found = []
    for path in sorted(takes_root.glob("**/take.json")):
        folder = TakeFolder(path.parent)
        try:
            info = folder.read_info()
        except TakeError:
            continue
        if info.state == RECORDING and not _is_running(info.engine_pid):
            found.append(folder)
    return found


def _is_running(pid: int) -> bool:
    if pid <= 0 or pid == os.getpid():
        return False
    try:
        command = Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return False
    return b"kettle" in command


def repair_take(folder: TakeFolder) -> TakeInfo:
    """Give every track a proper end by rewrapping it, and say so in take.json.

    A track's file is replaced only once the rewrapped one is whole. A track that holds
    nothing is marked as damaged, named in the notes and left as it is.
    """
    info = folder.read_info()
    notes, ends_ns = [], []
    for track in info.tracks:
        path = folder.track_path(track)
        fresh = path.with_suffix(".repaired.mkv")
        try:
            rewrap(path, fresh)
            rows = read_times(folder.times_path(track))
            if len(rows) == 0:
                raise TakeError(f"The times of {track['name']} are empty.")
        except TakeError as error:
            fresh.unlink(missing_ok=True)
            track["damaged"] = str(error)
            notes.append(
                f"The track {track['title']} could not be repaired and is left out: {error}"
            )
            continue
        fresh.replace(path)
        mode = track_mode(track)
        step_ns = NS_PER_S / mode.fps if is_picture(track) else 480 * NS_PER_S / mode.sample_rate_hz
        ends_ns.append(int(rows[-1, 3] + step_ns))
    # Tracks end within a fraction of a second of each other; the last one tells the length.
    info.duration_ns = max(ends_ns, default=0)
    info.state = REPAIRED
    info.ended_because = "cut off"
    seconds = info.duration_ns / NS_PER_S
    notes.insert(
        0, f"This take was cut off and has been repaired; {seconds:.1f} s of it are there."
    )
    info.notes = [*info.notes, *notes]
    folder.write_info(info)
    append_line(folder.path / "journal.jsonl", {"what": "repaired", "notes": notes})
    return info
