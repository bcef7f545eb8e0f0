"""afterwards.json: what was changed of a take after it was recorded (docs/take-format.md)."""

from dataclasses import replace
from typing import Any

from kettle_core.errors import CueError, TakeError
from kettle_core.program.afterwards import Afterwards, Recorded
from kettle_core.program.cues import Cue
from kettle_core.program.replay import Replay, replay
from kettle_core.rig.rig import Rig
from kettle_media.documents import Document
from kettle_media.durable import PATIENCE_S, replace_file
from kettle_media.take.cues import read_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo
from kettle_media.take.rig_now import rig_now

AFTERWARDS: Document[Afterwards] = Document(Afterwards, "What was changed", CueError)
MOST_BYTES = 32_000_000


def afterwards_from_dict(data: Any) -> Afterwards:
    """Read it of plain data. Raises CueError."""
    return AFTERWARDS.read_plain(data)


def afterwards_to_dict(values: Afterwards) -> Any:
    """Plain data that `afterwards_from_dict` reads back."""
    return AFTERWARDS.plain(values)


def write_afterwards(folder: TakeFolder, values: Afterwards) -> None:
    """Keep what was changed with the take. Raises TakeError if the disk won't have it."""
    try:
        if values == Afterwards():
            folder.afterwards_path.unlink(missing_ok=True)
            return
        replace_file(folder.afterwards_path, AFTERWARDS.write(values).encode(), PATIENCE_S)
    except OSError as error:
        raise TakeError(
            f"{folder.afterwards_path.name} of {folder.path.name} cannot be written: "
            f"{error.strerror}. Nothing was changed."
        ) from error


def read_recorded(folder: TakeFolder, info: TakeInfo) -> Recorded:
    """What a take was recorded as, with its rig as it is now; cues that can't be read are none."""
    cues = tuple(read_cues(folder)[0])
    tracks = tuple(track.name for track in info.tracks)
    return Recorded(rig_now(folder, info)[0], cues, tracks, info.duration_ns or 0)


def read_afterwards(folder: TakeFolder) -> tuple[Afterwards, list[str]]:
    """What was changed of a take, and why a file of it that can't be read is left out."""
    try:
        with folder.afterwards_path.open("rb") as file:
            return AFTERWARDS.read(file.read(MOST_BYTES)), []
    except FileNotFoundError:
        return Afterwards(), []
    except (OSError, CueError) as error:
        name = folder.afterwards_path.name
        return Afterwards(), [f"{name} is left out, the take is as it was recorded: {error}"]


def cues_now(folder: TakeFolder) -> tuple[tuple[Cue, ...], list[str]]:
    """A take's cues as they count, by their times; and what was left out of its files."""
    recorded, told = read_cues(folder)
    found, why = read_afterwards(folder)
    return found.cues_now(tuple(recorded)), [*told, *why]


def follow_cues(folder: TakeFolder, rig: Rig) -> Replay:
    """What a take's cues say of its rig; all that was left out is told in `left_out`."""
    cues, told = cues_now(folder)
    found = replay(rig, cues)
    return replace(found, left_out=(*told, *found.left_out))
