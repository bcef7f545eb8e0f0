"""Video and sound files that somebody gives: taken in, looked into, refused in words."""

from pathlib import Path
from typing import BinaryIO

from kettle_core.errors import DeviceError, KettleError
from kettle_media.rig.look_into import SOUND_ENDINGS, VIDEO_ENDINGS
from kettle_media.rig.probe import Probe, probe_file
from kettle_media.told import Told

ENDINGS = VIDEO_ENDINGS + SOUND_ENDINGS
PIECE_BYTES = 1 << 20


def playable_ending(name: str, kind: type[KettleError]) -> str:
    """What a file's name ends in. Raises an error of a kind, at the field "file"."""
    ending = Path(name).suffix.lower()
    if ending not in ENDINGS:
        raise kind(
            f"“{name[:60]}” is neither a video nor a sound file that can be played, so nothing was "
            f"added. Its name should end in one of {' '.join(ENDINGS)}.",
            "file",
        )
    return ending


def receive(file: BinaryIO, part: Path, name: str, kind: type[KettleError]) -> Probe:
    """Write all of a file to `part` and look into it.

    Raises
    ------
    KettleError
        Of a kind, at the field "file", if it can't be played.
    TakeError
        If the disk won't have it. Who asked removes `part` in both cases.
    """
    with Told(part, True, "{} cannot be written"), part.open("wb") as out:
        while chunk := file.read(PIECE_BYTES):
            out.write(chunk)
    try:
        return probe_file(part)
    except DeviceError as error:
        raise kind(
            f"“{name[:60]}” cannot be played, so nothing was added. It may be damaged.", "file"
        ) from error
