"""Brings takes that were cut off by a crash or a power failure into order."""

import contextlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from kettle_core.errors import NoRoomError, TakeError
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import LineFile
from kettle_media.take.accounting import account_of
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING, REPAIRED, TakeInfo, with_damage, with_notes
from kettle_media.take.json_lines import read_json_lines
from kettle_media.take.mending import mend_track

# Tracks end so near to each other that it need not be told.
TOLD_NS = NS_PER_S // 4
Progress = Callable[[int, int], None]


def find_unfinished(takes_root: Path) -> list[TakeFolder]:
    """Takes below a folder that say they are being recorded; one that is held really is.

    One that was given up is on its way out, under a name with a dot.
    """
    found = []
    for path in sorted(takes_root.glob("**/take.json")):
        if path.parent.name.startswith("."):
            continue
        folder = TakeFolder(path.parent)
        with contextlib.suppress(TakeError):
            if folder.read_info().state == RECORDING:
                found.append(folder)
    return found


def repair_take(folder: TakeFolder, on_progress: Progress = lambda done, total: None) -> TakeInfo:
    """Make every track whole, and say so in take.json.

    A track's file is replaced only once the new one is whole. A track that holds
    nothing is marked as damaged, named in the notes and left as it is.

    Raises
    ------
    TakeError
        If it is no take, or is being written.
    NoRoomError
        If the disk has no room. The take stays unfinished and can be repaired later.
    """
    with folder.held():
        return _repair(folder, folder.read_info(), on_progress)


def _repair(folder: TakeFolder, info: TakeInfo, on_progress: Progress) -> TakeInfo:
    folder.give_room()
    damaged: dict[str, str] = {}
    cut_off: dict[str, int] = {}
    notes, ends_ns = [], []
    for number, track in enumerate(info.tracks):
        on_progress(number, len(info.tracks))
        try:
            mended = mend_track(folder, track, info.start_master_ns)
            ends_ns.append(mended.ends_ns)
            cut_off[track.name] = mended.ends_ns
            if mended.lost_frames:
                what = "frames" if track.is_picture else "blocks of sound"
                notes.append(f"{track.title}: {mended.lost_frames} {what} were lost within.")
            notes += [mended.kept_back] if mended.kept_back else []
        except NoRoomError:
            raise
        except TakeError as error:
            damaged[track.name] = str(error)
            notes.append(f"The track {track.title} could not be repaired and is left out: {error}")
    # Tracks end within a fraction of a second of each other; the last one tells the length.
    duration_ns = max(ends_ns, default=0)
    notes.insert(
        0,
        f"This take was cut off and has been repaired; {duration_ns / NS_PER_S:.1f} s of it "
        "are there.",
    )
    journal = LineFile(folder.journal_path, at_once=True)
    told = [line for line in read_json_lines(folder.journal_path) if "input" in line]
    for name, at_ns in cut_off.items():
        title = info.track(name).title
        line = {"at_ns": at_ns, "what": "track cut off", "input": name}
        # It may have been tried before, and not been noted.
        if line not in told:
            journal.write(line)
        if duration_ns - at_ns > TOLD_NS:
            notes.append(f"{title} ends {(duration_ns - at_ns) / NS_PER_S:.1f} s before that.")
    notes += _away(folder, info) + account_of(folder, duration_ns)
    info = replace(info, duration_ns=duration_ns, state=REPAIRED, ended_because="cut off")
    info = with_notes(with_damage(info, damaged), *notes)
    try:
        folder.write_info(info)
    except OSError as error:
        raise NoRoomError(
            f"{folder.path.name} was brought into order, but that can't be noted: {error}. "
            "Make room on the disk; nothing is lost."
        ) from error
    journal.write({"at_ns": duration_ns, "what": "repaired", "notes": notes})
    return info


def _away(folder: TakeFolder, info: TakeInfo) -> list[str]:
    """Of which tracks something is missing as their devices were away, in sentences."""
    gone_ns: dict[str, int] = {}
    for line in read_json_lines(folder.journal_path):
        if line.get("what") == "missing":
            gone_ns[line["input"]] = gone_ns.get(line["input"], 0) + line["missing_ns"]
    return [
        f"{track.title}: {gone_ns[track.name] / NS_PER_S:.1f} s are missing, its device was away."
        for track in info.tracks
        if track.name in gone_ns
    ]
