"""Files that a tutorial uses besides its takes: video and sound, taken in once.

A file is kept as it came, named by its SHA-256; beside it lies its sound at 48 kHz, stereo, 16
bits, from which any sample is read at once. Both are there, or neither is.
"""

import hashlib
import time
from collections.abc import Container
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO
from uuid import uuid4

from kettle_core.assembly.cut_list import AddedFile
from kettle_core.errors import CutError
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.as_played import picture_length_s, write_sound
from kettle_media.durable import put_in_place
from kettle_media.rig.intake import playable_ending, receive
from kettle_media.told import Told

MOST_FILE_S = 2 * 3600
# Somebody may still be about to use what is younger.
OLD_S = 24 * 3600


def take_in(file: BinaryIO, name: str, folder: Path) -> AddedFile:
    """Keep a file that somebody gives.

    Parameters
    ----------
    file : read to its end
    name : what it is called; its ending says what it may be
    folder : where files are kept; made if it is not there

    Raises
    ------
    CutError
        If it can't be played, or is too long.
    TakeError
        If the disk won't have it; nothing is left then.
    """
    shown, suffix = name[:60], playable_ending(name, CutError)
    with Told(folder, True, "{} cannot be written"):
        folder.mkdir(parents=True, exist_ok=True)
    _remove_left_over(folder)
    part = folder / f".{uuid4().hex}.part{suffix}"
    sound = part.with_suffix(".part.wav")
    try:
        probe = receive(file, part, name, CutError)
        with part.open("rb") as kept:
            digest = hashlib.file_digest(kept, "sha256").hexdigest()
        picture_s = picture_length_s(part) if probe.picture else 0.0
        if picture_s > MOST_FILE_S:
            raise _too_long(shown)
        heard_s = write_sound(part, sound, MOST_FILE_S) if probe.sound else 0.0
        if heard_s > MOST_FILE_S:
            raise _too_long(shown)
        made = AddedFile(
            "file",
            name[:200],
            digest,
            max(1, round((picture_s or heard_s) * NS_PER_S)),
            bool(probe.picture),
        )
        with Told(folder, True, "{} cannot be written"):
            if probe.sound:
                put_in_place(sound, sound_path(folder, made))
            put_in_place(part, folder / kept_name(made))
        return made
    finally:
        for path in (part, sound):
            with suppress(OSError):
                path.unlink(missing_ok=True)


def _remove_left_over(folder: Path) -> None:
    """Remove what somebody was killed over."""
    for left in folder.glob(".*.part*"):
        _remove_old(left)


def _remove_old(path: Path) -> None:
    with suppress(OSError):
        if time.time() - path.stat().st_mtime > OLD_S:
            path.unlink(missing_ok=True)


def kept_name(file: AddedFile) -> str:
    """What a file is called where it is kept."""
    return f"{file.digest}{Path(file.name).suffix.lower()}"


def remove_unused(folder: Path, used: Container[str]) -> None:
    """Remove files whose digests nothing uses, but those that just came."""
    for path in folder.glob("[!.]*"):
        if path.name.partition(".")[0] not in used:
            _remove_old(path)


def file_path(folder: Path, file: AddedFile) -> Path:
    """Where a file lies. Raises CutError if it is gone."""
    path = folder / kept_name(file)
    if not path.is_file():
        raise CutError(f"The file “{file.name}” is gone. Add it again.", "file")
    return path


def sound_path(folder: Path, file: AddedFile) -> Path:
    """Where the sound of a file lies, if it has one."""
    return folder / f"{file.digest}.sound.wav"


def _too_long(shown: str) -> CutError:
    hours = MOST_FILE_S // 3600
    return CutError(f"“{shown}” is longer than {hours} hours, so nothing was added.", "file")
