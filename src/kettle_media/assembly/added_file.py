"""Files that a tutorial uses besides its takes: video and sound, taken in once.

A file is kept as it came, named by its SHA-256; beside it lies its sound at 48 kHz, stereo, 16
bits, from which any sample is read at once. Both are there, or neither is.
"""

import hashlib
import time
import wave
from collections.abc import Container
from contextlib import suppress
from itertools import chain
from pathlib import Path
from typing import BinaryIO
from uuid import uuid4

import av
import numpy as np
from av.container import InputContainer

from kettle_core.assembly.cut_list import AddedFile
from kettle_core.errors import CutError
from kettle_core.sound.mixing import to_integers
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import put_in_place
from kettle_media.foreign import open_foreign
from kettle_media.rig.intake import playable_ending, receive
from kettle_media.take.sound_track import MASTER_HZ
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
        picture_s = _picture_length_s(part) if probe.picture else 0.0
        if picture_s > MOST_FILE_S:
            raise _too_long(shown)
        heard_s = _write_sound(part, sound, shown) if probe.sound else 0.0
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


def _picture_length_s(path: Path) -> float:
    """Up to the end of its last frame, from its packets."""
    with Told(path), open_foreign(path) as container:
        stream = container.streams.video[0]
        times = [
            (packet.pts, packet.duration or 0)
            for packet in container.demux(stream)
            if packet.pts is not None
        ]
    if not times or stream.time_base is None:
        return 0.0
    first, last = min(times)[0], max(times)
    frame = last[1] or (1 / ((stream.average_rate or 25) * stream.time_base))
    return float((last[0] - first + frame) * stream.time_base)


def _write_sound(path: Path, target: Path, shown: str) -> float:
    """Its sound as a WAV file that begins where its picture does; gives its length in s."""
    to_plain, dither = av.AudioResampler("fltp", "stereo", MASTER_HZ), np.random.default_rng(0)
    with Told(path), open_foreign(path) as container:
        lead = _lead_samples(container)
        most = MOST_FILE_S * MASTER_HZ
        with Told(target, True, "{} cannot be written"), wave.open(str(target), "wb") as out:
            out.setparams((2, 2, MASTER_HZ, 0, "NONE", ""))
            out.writeframes(bytes(4 * max(0, lead)))
            skip = max(0, -lead)
            for frame in chain(container.decode(audio=0), [None]):
                for plain in to_plain.resample(frame):
                    block = np.asarray(plain.to_ndarray(), np.float32)
                    skipped = min(skip, block.shape[1])
                    skip, block = skip - skipped, block[:, skipped:]
                    out.writeframes(to_integers(block, 16, dither).T.astype("<i2").tobytes())
                if out.tell() > most:
                    raise _too_long(shown)
            return out.tell() / MASTER_HZ


def _lead_samples(container: InputContainer) -> int:
    """By how many samples its sound begins later than its picture."""
    if not container.streams.video:
        return 0
    starts = [
        (stream.start_time or 0) * (stream.time_base or 0)
        for stream in (container.streams.audio[0], container.streams.video[0])
    ]
    return round((starts[0] - starts[1]) * MASTER_HZ)


def _too_long(shown: str) -> CutError:
    hours = MOST_FILE_S // 3600
    return CutError(f"“{shown}” is longer than {hours} hours, so nothing was added.", "file")
